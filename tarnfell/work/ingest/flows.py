"""A load of packets as a probe tells it: what was offered and what arrived, by the record of its packets."""

from __future__ import annotations

import logging
import sqlite3

from tarnfell.core.causes import DIRECTIONS, Direction
from tarnfell.core.flow import FlowFigures, FlowSeen, flow_of, seen
from tarnfell.core.trace import Trace
from tarnfell.store import flows as flow_store
from tarnfell.store.db import writing
from tarnfell.wire import WireError
from tarnfell.wire.kinds.flow import FlowPlan, FlowResult
from tarnfell.wire.kinds.selfcheck import self_check_of
from tarnfell.wire.record import Record, split_parts
from tarnfell.work.ingest.fills import CONTRADICTS
from tarnfell.work.ingest.packets import clock_relation, parse_checked, trace_of

log = logging.getLogger(__name__)


def judge_next_flow(db: sqlite3.Connection) -> bool:
    """Judge the newest that waits. Whether there was one."""
    one = flow_store.stale_one(db)
    if one is None:
        return False
    found, failure = None, None
    try:
        found = seen_of(flow_store.told_of(db, one.job_id), one.asked.plan)
    except WireError as error:
        failure = str(error)
    except (KeyError, TypeError, ValueError, OverflowError):
        log.warning("what load %s told is refused", one.job_id, exc_info=True)
        failure = CONTRADICTS
    with writing(db):
        flow_store.keep_judged(db, one.job_id, found, failure)
    return True


def seen_of(result: FlowResult, plan: FlowPlan) -> FlowSeen:
    """Raises WireError where the record contradicts itself."""
    first, *rest = split_parts(result.record)
    return seen_in(Record.parse(first), [parse_checked(part) for part in rest], plan, result.cut)


def seen_in(head: Record, parts: list[Record], plan: FlowPlan, cut: str | None) -> FlowSeen:
    """Raises WireError where a record contradicts itself."""
    ways: dict[Direction, FlowFigures | None] = {}
    if not cut:  # else only one end's half is known, in which everything looks lost
        relation = clock_relation(head, parts)
        for way in DIRECTIONS:
            traces = [trace for record in parts if (trace := trace_of(record, way, relation)) is not None]
            lasted_s = _lasted_s(traces) if head.meta.get("stopped") else plan.seconds
            ways[way] = flow_of(traces, plan.packet_bytes, lasted_s) if traces else None
    return seen(ways, cut, tuple(self_check_of(head.meta.get("self_check")).reasons))


def _lasted_s(traces: list[Trace]) -> float:
    """Of a load that was stopped, from the first packet of all to the last, and the interval after it."""
    first = min(int(trace.sent_us[0]) for trace in traces) if traces else 0
    last = max(int(trace.sent_us[-1]) for trace in traces) if traces else 0
    sent = sum(len(trace) for trace in traces)
    return max(1e-3, (last - first) / 1e6 * sent / max(1, sent - 1))
