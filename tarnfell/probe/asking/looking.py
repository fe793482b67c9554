"""Addresses looked at by echoes for as long as it was asked for: small and large, what came back, in what order."""

from __future__ import annotations

import socket
import statistics
import threading
import time
from collections.abc import Callable, Sequence
from pathlib import Path

from tarnfell.media.tracing.errors import CannotAsk
from tarnfell.probe.asking.echo import Echoed, TimedEchoes
from tarnfell.probe.surroundings import surroundings
from tarnfell.wire.kinds.check import Role
from tarnfell.wire.kinds.look import NEWEST, LookArguments, LookResult, LookSeries, LookTarget

TELL_S = 1.0
WAIT_S = 1.0
_ROLES: dict[str, Role] = {"gateway": "gateway", "far-end": "far-end", "any": "outside"}


class Look:
    """``run`` it here, or ``start`` it beside a call and ``stop`` it with that."""

    def __init__(self, wanted: LookArguments, go_on: Callable[[], bool], tell: Callable[[LookResult], None]) -> None:
        self._wanted, self._go_on, self._tell = wanted, go_on, tell
        self._around = surroundings(Path("/"))
        self._targets = [(one, *_address(one, self._around.gateway)) for one in wanted.targets]
        self._sizes = [wanted.small_bytes, *([wanted.large_bytes] if wanted.large_bytes else [])]
        self._asked: TimedEchoes | None = None
        self._cannot: tuple[str, ...] = ()
        self._over = threading.Event()
        self._thread = threading.Thread(target=self._run, daemon=True)
        self._began = time.monotonic()

    def run(self) -> LookResult:
        self._run()
        return self.result()

    def start(self) -> None:
        self._thread.start()

    def finish(self) -> LookResult:
        """Once it has had its time, or now where nobody wants more."""
        self._thread.join()
        return self.result()

    def stop(self) -> None:
        self._over.set()

    def _run(self) -> None:
        known = [(_ROLES[one.role], address) for one, address, _ in self._targets if address]
        if not known:
            return
        try:
            self._asked = TimedEchoes(known, self._sizes)
        except CannotAsk as error:
            self._cannot = (str(error),)
            return
        try:
            self._ask(self._asked)
        finally:
            self._asked.close()

    def _ask(self, asked: TimedEchoes) -> None:
        self._began = told = time.monotonic()
        interval_s = self._wanted.interval_s
        for number in range(1, max(1, round(self._wanted.seconds / interval_s)) + 1):
            if not self._go_on() or self._over.is_set():
                break
            asked.send_round()
            due = self._began + number * interval_s
            while (left := due - time.monotonic()) > 0 and self._go_on() and not self._over.is_set():
                asked.listen(time.monotonic() + min(left, 0.1))
            asked.listen(time.monotonic())
            if time.monotonic() >= told + TELL_S:
                told = time.monotonic()
                self._tell(self.result())
        until = time.monotonic() + WAIT_S
        while time.monotonic() < until and any(len(one.rtt_ms) < len(one.sent_us) for one in asked.found):
            asked.listen(time.monotonic() + 0.05)

    def result(self) -> LookResult:
        around = self._around
        return LookResult(
            tuple(self._series()), round(time.monotonic() - self._began, 3), around.medium, around.link_mbps,
            around.wifi_signal_dbm, cannot=self._cannot,
        )  # fmt: skip

    def _series(self) -> list[LookSeries]:
        found = list(self._asked.found) if self._asked else []
        series = []
        for size in self._sizes:
            for one, address, failure in self._targets:
                if address and found:
                    series.append(series_of(one, found.pop(0)))
                else:
                    why = failure or (None if self._cannot else "not asked")
                    series.append(LookSeries(one.role, one.host, address, size, failure=why))
        return series


def _address(one: LookTarget, gateway: str | None) -> tuple[str | None, str | None]:
    """With what stands in the way of one."""
    if not one.host:
        return gateway, None if gateway else "the system has no gateway"
    try:
        return str(socket.getaddrinfo(one.host, None)[0][4][0]), None
    except (OSError, UnicodeError):
        return None, f"the name {one.host} cannot be looked up"


def series_of(one: LookTarget, echoed: Echoed) -> LookSeries:
    """As it stands now: what was sent less than WAIT_S ago counts as neither answered nor lost."""
    rtt = sorted(echoed.rtt_ms.values())
    now_us = time.time_ns() // 1000
    missing = [n for n, at in list(echoed.sent_us.items()) if n not in echoed.rtt_ms]
    pending = {n for n in missing if now_us - echoed.sent_us[n] < WAIT_S * 1e6}
    over = [n for n in list(echoed.sent_us) if n not in pending]
    mean = statistics.fmean(rtt) if rtt else 0.0
    failure = None
    if echoed.too_large:
        failure = "a packet of this size does not fit"
        failure += f": a link on the way takes {echoed.next_mtu} bytes" if echoed.next_mtu else ""
    elif echoed.refused_by and not rtt:
        failure = f"{echoed.refused_by} says that it cannot be reached"
    return LookSeries(
        one.role,
        one.host,
        echoed.address,
        echoed.packet_bytes,
        len(echoed.sent_us),
        len(rtt),
        len(missing) - len(pending),
        echoed.reordered,
        echoed.duplicates,
        tuple(sorted(echoed.ttls)),
        rtt[0] if rtt else None,
        statistics.median(rtt) if rtt else None,
        percentile(rtt, 95),
        rtt[-1] if rtt else None,
        statistics.fmean(abs(ms - mean) for ms in rtt) if rtt else None,
        tuple(round(1000 * echoed.rtt_ms[n]) if n in echoed.rtt_ms else -1 for n in over[-NEWEST:]),
        failure,
    )


def percentile(ordered: Sequence[float], share: float) -> float | None:
    """Between neighbours; None of nothing."""
    if not ordered:
        return None
    place = share / 100 * (len(ordered) - 1)
    low = int(place)
    high = min(low + 1, len(ordered) - 1)
    return ordered[low] + (ordered[high] - ordered[low]) * (place - low)
