"""A check from its first question to its last: each rung is asked once what it needs is known, and told at once."""

from __future__ import annotations

import json
import socket
import time
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

from tarnfell.media.tracing.errors import CannotAsk
from tarnfell.media.tracing.tracer import path
from tarnfell.media.workers import WorkerLost, begin
from tarnfell.probe.asking.echo import echoes
from tarnfell.probe.asking.media import media
from tarnfell.probe.asking.names import ask_each
from tarnfell.probe.asking.ports import ports
from tarnfell.probe.asking.registrar import registrar
from tarnfell.probe.asking.services import ask_all
from tarnfell.probe.asking.signalling import signalling
from tarnfell.probe.asking.translation import translation
from tarnfell.probe.asking.wayback import way_back
from tarnfell.probe.surroundings import surroundings
from tarnfell.probe.works.distances import distance, key_fits
from tarnfell.wire.kinds.check import (
    CheckArguments,
    CheckResult,
    EchoFacts,
    Question,
    ReachFacts,
    Role,
    StackFacts,
    Took,
)
from tarnfell.wire.kinds.fields import plain, read
from tarnfell.wire.kinds.path import Method, PathFacts
from tarnfell.wire.kinds.translation import TranslationFacts

EF, AF41, CS3, BEST_EFFORT = 46, 34, 24, 0
ROUNDS, INTERVAL_S = 10, 0.2
LARGE_ROUNDS = 4
OTHER_ROUNDS, OTHER_WAIT_S = 2, 0.7
"""Of the way by other means than UDP, which is what media takes."""
DEFAULT_MTU = 1500
_LOOK_S = 0.1

Tell = Callable[[CheckResult], None]


def check(wanted: CheckArguments, go_on: Callable[[], bool] = lambda: True, tell: Tell = lambda _: None) -> CheckResult:
    """Ask everything, telling what is known after each question. Raises OSError for a name without address."""
    far = socket.getaddrinfo(wanted.far_host, wanted.far_port, type=socket.SOCK_STREAM)[0][4][0]
    ladder = _Ladder(wanted, str(far), go_on, tell)
    try:
        return _asked(ladder, go_on, tell)
    finally:
        ladder.end()


def _asked(ladder: _Ladder, go_on: Callable[[], bool], tell: Tell) -> CheckResult:
    questions: tuple[tuple[Question, Callable[[], None]], ...] = (
        ("path", ladder.find_path),
        ("echoes", ladder.ask_echoes),
        ("large-echoes", ladder.ask_large),
        ("names", ladder.ask_names),
        ("services", ladder.ask_services),
        ("far-end", ladder.reach),
        ("ports", ladder.ask_ports),
        ("way-back", ladder.find_way_back),
        ("signalling", ladder.ask_signalling),
        ("registrar", ladder.ask_registrar),
        ("translation", ladder.await_translation),
    )
    for name, question in questions:
        if not go_on():
            break
        began = time.monotonic()
        question()
        ladder.took(name, (time.monotonic() - began) * 1000)
        tell(ladder.known)
    return ladder.known


class _Ladder:
    def __init__(self, wanted: CheckArguments, far: str, go_on: Callable[[], bool], tell: Tell) -> None:
        self._wanted, self._go_on = wanted, go_on
        self._behind: _Beside | None = None
        self.known = CheckResult(far, _stack(wanted))
        tell(self.known)

    def _add(self, **facts: Any) -> None:
        self.known = replace(self.known, **facts)

    def took(self, question: Question, ms: float) -> None:
        self._add(took=(*self.known.took, Took(question, round(ms, 1))))

    def _cannot(self, why: str) -> None:
        if why not in self.known.cannot:
            self._add(cannot=(*self.known.cannot, why))

    def end(self) -> None:
        if self._behind:
            self._behind.end()

    def find_path(self) -> None:
        """Translation, which is mostly silence, is begun afterwards and goes on beside all that follows: the far end
        opens media ports for it, and a path is found by a port that nobody listens on."""
        self._find_path()
        if self._wanted.far_key and self._go_on():
            self._behind = _Beside(self._wanted, self.known.far_address)

    def _find_path(self) -> None:
        try:
            found = path(self.known.far_address, self._wanted.media_port, dscp=EF, go_on=self._go_on)
        except CannotAsk as error:
            self._cannot(str(error))
            self._add(edge=self._wanted.edge or None)
            return
        except OSError:
            self._add(edge=self._wanted.edge or None)  # no way out at all: the other rungs tell
            return
        self._add(path=found, edge=self._wanted.edge or edge_of(found, self.known.stack.gateway))
        self._find_other_path("icmp", 0, found.method)
        self._find_other_path("tcp", self._wanted.far_port, found.method)

    def _find_other_path(self, method: Method, port: int, known: Method) -> None:
        if method == known or not self._go_on():
            return
        try:
            other = path(self.known.far_address, port, OTHER_ROUNDS, EF, OTHER_WAIT_S, self._go_on, method)
        except CannotAsk as error:
            self._cannot(str(error))
        except OSError:
            return  # no way out any more
        else:
            self._add(other_paths=(*self.known.other_paths, other))

    def ask_echoes(self) -> None:
        self._add(echoes=self._echoes(ROUNDS, 64))

    def ask_large(self) -> None:
        self._add(large_echoes=self._echoes(LARGE_ROUNDS, self.known.stack.mtu or DEFAULT_MTU))

    def _echoes(self, rounds: int, packet_bytes: int) -> tuple[EchoFacts, ...]:
        try:
            return echoes(self._targets(), rounds, INTERVAL_S, packet_bytes, go_on=self._go_on)
        except CannotAsk as error:
            self._cannot(str(error))
            return ()

    def _targets(self) -> list[tuple[Role, str]]:
        known, targets = self.known, list[tuple[Role, str]]()
        for role, address in (
            ("gateway", known.stack.gateway),
            ("edge", known.edge),
            *(("outside", address) for address in self._wanted.outside),
            ("far-end", known.far_address),
        ):
            if address and address not in {one for _, one in targets}:
                targets.append((role, address))  # type: ignore[arg-type]
        return targets

    def ask_names(self) -> None:
        for answer in ask_each(self.known.stack.resolvers, self._wanted.names, self._go_on):
            self._add(names=(*self.known.names, answer))

    def ask_services(self) -> None:
        self._add(services=ask_all(self._wanted.services, self._go_on))

    def ask_ports(self) -> None:
        if self._holds_key:
            self._add(ports=ports(*self._far_end, self._go_on))

    def find_way_back(self) -> None:
        if self._holds_key:
            self._add(way_back=way_back(*self._far_end, EF, self._go_on))

    def ask_signalling(self) -> None:
        if self._holds_key:
            self._add(signalling=signalling(*self._far_end, self._go_on))

    def ask_registrar(self) -> None:
        if self._wanted.account:
            self._add(registrar=registrar(self._wanted.account, self._go_on))

    @property
    def _holds_key(self) -> bool:
        """The far end does more than greet only for who holds its key."""
        return bool(self._wanted.far_key and self.known.reach and self.known.reach.key_fits)

    @property
    def _far_end(self) -> tuple[str, int, bytes]:
        return self._wanted.far_host, self._wanted.far_port, self._wanted.far_key.encode()

    def await_translation(self) -> None:
        """Nothing is known of it without the far end's key."""
        if self._behind:
            self._add(translation=self._behind.result(self._go_on))

    def reach(self) -> None:
        wanted = self._wanted
        took_ms, failure = distance(wanted.far_host, wanted.far_port)
        key = wanted.far_key.encode()
        fits = key_fits(wanted.far_host, wanted.far_port, key) if key and took_ms is not None else None
        self._add(reach=ReachFacts(took_ms, failure, fits))
        if fits:
            marks = (EF, AF41, CS3, BEST_EFFORT)
            self._add(media=media(wanted.far_host, wanted.far_port, key, marks, self._go_on))


class _Beside:
    """Translation, asked by a worker of its own: begun before any thread, because it may be a forked child."""

    def __init__(self, wanted: CheckArguments, far: str) -> None:
        key = wanted.far_key.encode()
        self._worker = begin(lambda: json.dumps(plain(translation(far, wanted.far_port, key))).encode())
        self._over = False

    def result(self, go_on: Callable[[], bool]) -> TranslationFacts | None:
        """None where it was stopped, or the worker was lost."""
        try:
            while not self._worker.is_over():
                if not go_on():
                    return None
                time.sleep(_LOOK_S)
            self._over = True
            return read(TranslationFacts, json.loads(self._worker.result()))
        except (WorkerLost, ValueError):
            return None

    def end(self) -> None:
        if not self._over:
            self._worker.kill()


def _stack(wanted: CheckArguments) -> StackFacts:
    found = surroundings(Path("/"))
    return StackFacts(
        found.addresses,
        wanted.gateway or found.gateway,
        found.interface,
        found.medium,
        found.mtu,
        wanted.resolvers or found.name_servers,
        found.wifi_signal_dbm,
    )


def edge_of(found: PathFacts, gateway: str | None) -> str | None:
    """The first hop beyond the gateway that says who it is, unless that is the far end itself."""
    beyond = [hop.address for hop in found.hops[1:] if hop.address and hop.address not in (gateway, found.address)]
    return beyond[0] if beyond else None
