"""The echoes of a watch: all places on the way at one instant, small packets or large ones."""

from __future__ import annotations

import socket
import time
from collections.abc import Hashable, Iterator, Sequence
from pathlib import Path
from typing import NamedTuple

from tarnfell.media.tracing.errors import CannotAsk
from tarnfell.probe.asking.echo import SMALL_BYTES, TimedEchoes
from tarnfell.probe.surroundings import default_route
from tarnfell.wire.kinds.check import Role
from tarnfell.wire.kinds.watch import EchoTarget

FORGET_US = 10_000_000
"""Longer than an answer is waited for."""
LOOK_AGAIN_S = 30.0
"""A laptop that moves to another network has another gateway there."""


class Sent(NamedTuple):
    number: Hashable
    at_ns: int


class Echoes:
    """Of targets that never change; addresses may. Without a right to echoes it says so and sends none."""

    def __init__(self, targets: Sequence[EchoTarget], large_bytes: int, root: Path = Path("/")) -> None:
        self._targets, self._sizes, self._root = targets, (SMALL_BYTES, large_bytes), root
        self._asked: list[TimedEchoes] = []
        """Small ones, then large ones; nothing where there is nobody to ask."""
        self._known: list[tuple[int, str]] = []
        """Targets that have an address now, by their number."""
        self._looked_s: float | None = None
        self._round = 0
        self.trouble: str | None = None

    @property
    def socks(self) -> list[socket.socket]:
        return [sock for asked in self._asked for sock in asked.socks]

    def send(self, large: bool) -> list[Sent | None]:
        """To all targets, in their order; None where nothing could be sent."""
        self._look()
        told: list[Sent | None] = [None] * len(self._targets)
        if not self._asked:
            return told
        asked = self._asked[large]
        for one in asked.found:
            one.refused_by = None
        asked.send_round()
        for (target, _), one in zip(self._known, asked.found):
            if one.refused_by != "this machine":
                number = next(reversed(one.sent_us))
                told[target] = Sent((self._round, large, target, number), one.sent_us[number] * 1000)
        asked.forget(time.time_ns() // 1000 - FORGET_US)
        return told

    def answers(self) -> Iterator[tuple[Hashable, int]]:
        """What has come in since the last time: the number it was sent by, and the round trip in nanoseconds."""
        for large, asked in enumerate(self._asked):
            asked.listen(time.monotonic())
            for (target, _), one in zip(self._known, asked.found):
                for number in list(one.rtt_ms):
                    yield (self._round, bool(large), target, number), round(one.rtt_ms.pop(number) * 1e6)

    def close(self) -> None:
        for asked in self._asked:
            asked.close()
        self._asked = []

    def _look(self) -> None:
        """Open anew where an address has changed."""
        if self._looked_s is not None and time.monotonic() < self._looked_s + LOOK_AGAIN_S:
            return
        self._looked_s = time.monotonic()
        route = default_route(self._root)
        known = [
            (i, address)
            for i, one in enumerate(self._targets)
            if (address := one.address or (route[0] if route and one.role == "gateway" else ""))
        ]
        if known == self._known and (self._asked or not known):
            return
        self.close()
        self._known = known
        self._round += 1  # numbers of sockets that were closed are not mixed up with those of the next
        roles: list[tuple[Role, str]] = [(self._targets[i].role, address) for i, address in known]
        try:
            self._asked = [TimedEchoes(roles, (size,)) for size in self._sizes] if roles else []
            self.trouble = None
        except CannotAsk as error:
            self.trouble = str(error)
