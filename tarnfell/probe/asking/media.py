"""A short call for each marking: whether media comes through both ways, and marked as it was sent."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Sequence

from tarnfell.probe.call import RunResult, place_calls
from tarnfell.probe.connect import CallError
from tarnfell.wire.kinds.calls import CallPlan
from tarnfell.wire.kinds.check import MarkCount, MediaFacts

PACKETS, PTIME_US = 50, 20_000
_UNKNOWN_MARK = 255


def media(
    host: str, port: int, key: bytes, dscps: Sequence[int], go_on: Callable[[], bool] = lambda: True
) -> tuple[MediaFacts, ...]:
    """One after the other. Where the first cannot be placed at all, neither can the others, and they are not tried."""
    found: list[MediaFacts] = []
    for dscp in dscps:
        if not go_on():
            break
        found.append(_one(host, port, key, dscp, go_on))
        if found[-1].failure:
            break
    return tuple(found)


def _one(host: str, port: int, key: bytes, dscp: int, go_on: Callable[[], bool]) -> MediaFacts:
    plan = CallPlan(1, PACKETS, PTIME_US, payload_type=8, clock_hz=8000, payload_bytes=160, dscp=dscp)
    try:
        return _found(dscp, place_calls(host, port, key, plan, go_on=go_on))
    except CallError as error:
        return MediaFacts(dscp, str(error), error.code)


def _found(dscp: int, result: RunResult) -> MediaFacts:
    record = result.calls[0]

    def count(name: str) -> int:
        return record.columns[name].count if name in record.columns else 0

    def marks(way: str) -> tuple[MarkCount, ...]:
        name = f"{way}.arrival_dscp"
        seen = Counter(record.values(name) if name in record.columns else ())
        return tuple(MarkCount(mark, packets) for mark, packets in sorted(seen.items()) if mark != _UNKNOWN_MARK)

    return MediaFacts(
        dscp,
        result.cut.reason if result.cut else None,
        result.cut.code if result.cut else None,
        bool(record.meta.get("bound")),
        count("up.sent_us"),
        count("down.sent_us"),
        count("up.arrival_seq"),
        count("down.arrival_seq"),
        marks("up"),
        marks("down"),
        _least_rtt_ms(result),
    )


def _least_rtt_ms(result: RunResult) -> float | None:
    names = ("t1_ns", "t2_ns", "t3_ns", "t4_ns")
    if not all(name in result.clock.columns for name in names):
        return None
    rows = zip(*(result.clock.values(name) for name in names))
    return min(((t4 - t1) - (t3 - t2) for t1, t2, t3, t4 in rows), default=0) / 1e6 or None
