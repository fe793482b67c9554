"""Filling the line with calls beside it: the calls, the streams and the echoes of one run, begun and ended together."""

from __future__ import annotations

import socket
import threading
import time
from collections.abc import Callable

from tarnfell.media.tracing.errors import CannotAsk
from tarnfell.media.tracing.tracer import path
from tarnfell.probe.asking.echo import TimedEchoes
from tarnfell.probe.asking.ladder import edge_of
from tarnfell.probe.call import RunResult, place_calls
from tarnfell.probe.filling import FarEnd, Filling
from tarnfell.probe.surroundings import surroundings
from tarnfell.wire.kinds.calls import LiveSecond
from tarnfell.wire.kinds.fill import Echoes, FillArguments, FillPhase, Place

ECHO_INTERVAL_S = 0.2
_PATH_ROUNDS = 2


def fill(
    arguments: FillArguments,
    go_on: Callable[[], bool] = lambda: True,
    tell: Callable[[tuple[FillPhase, ...], LiveSecond], None] = lambda phases, second: None,
) -> tuple[RunResult, tuple[FillPhase, ...], tuple[Echoes, ...]]:
    """``tell`` hears about once a second how far it is. Raises CallError where no call can be placed."""
    far = FarEnd(arguments.far_host, arguments.far_port, arguments.far_key.encode())
    beside = _Beside(_on_the_way(arguments, go_on))
    filling = Filling(far, arguments.fill, go_on)
    begun = False

    def watch(second: LiveSecond) -> bool:
        tell(tuple(filling.phases), second)
        return go_on()

    def flowing() -> bool:
        """Asked only once packets flow: the plan's clock begins with them."""
        nonlocal begun
        if not begun:
            begun = True
            beside.start()
            filling.start()
        return go_on()

    try:
        result = place_calls(far.host, far.port, far.key, arguments.plan, watch, go_on=flowing)
    finally:
        filling.stop()
        beside.stop()
    phases = filling.finish() if begun else ()
    return result, phases, beside.found() if begun else ()


def _on_the_way(arguments: FillArguments, go_on: Callable[[], bool]) -> list[tuple[Place, str]]:
    """Gateway and provider's edge, as far as they are given or can be found."""
    gateway = arguments.gateway or surroundings().gateway or ""
    edge = arguments.edge
    if not edge:
        try:
            address = str(socket.getaddrinfo(arguments.far_host, None)[0][4][0])
            found = path(address, arguments.far_port, _PATH_ROUNDS, go_on=go_on)
            edge = edge_of(found, gateway or None) or ""
            if gateway and not any(hop.address == gateway for hop in found.hops):
                gateway = ""  # the way to this far end does not lead over it
        except (CannotAsk, OSError):
            pass  # then nothing is known of the legs, and nothing is said of them
    places: list[tuple[Place, str]] = [("gateway", gateway), ("edge", edge)]
    return [(place, address) for place, address in places if address]


class _Beside:
    """Echoes to places on the way, in a thread, for as long as the run lasts."""

    def __init__(self, places: list[tuple[Place, str]]) -> None:
        self._places = places
        self._over = threading.Event()
        self._thread = threading.Thread(target=self._run, daemon=True)
        self._found: tuple[Echoes, ...] = ()

    def start(self) -> None:
        self._thread.start()

    def stop(self) -> None:
        self._over.set()

    def found(self) -> tuple[Echoes, ...]:
        self._thread.join()
        return self._found

    def _run(self) -> None:
        try:
            asked = TimedEchoes([(place, address) for place, address in self._places])
        except CannotAsk:
            return
        due = time.monotonic()
        while not self._over.is_set():
            asked.send_round()
            due += ECHO_INTERVAL_S
            asked.listen(due)
        self._found = tuple(
            Echoes(place, address, *asked.times_of(number)) for number, (place, address) in enumerate(self._places)
        )
        asked.close()
