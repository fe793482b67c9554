"""A filled line as a probe tells it, judged: two calls, the phases of the streams, the echoes beside them."""

from __future__ import annotations

from tarnfell.core.clock import ClockRelation
from tarnfell.core.codecs import Codec
from tarnfell.core.line.filled import Filled, judge_filled
from tarnfell.core.line.measure import Held, HeldCall
from tarnfell.core.line.values import SIDES, FillLimits, LineFilled
from tarnfell.core.quality import Criterion
from tarnfell.core.rates import call_rate
from tarnfell.wire import WireError
from tarnfell.wire.kinds.fill import FillResult
from tarnfell.wire.record import Record, split_parts
from tarnfell.work.ingest.packets import (
    clock_relation,
    dscp_counts,
    parse_checked,
    stamp_exchanges,
    trace_of,
    which_and_when,
)
from tarnfell.work.placing.fill_plan import MARKED_CALL, PLAIN_CALL


def judge_fill(
    result: FillResult, codec: Codec, ptime_ms: int, criterion: Criterion, limits: FillLimits, ceiling: bool
) -> LineFilled:
    """Raises WireError where the record contradicts itself."""
    first, *rest = split_parts(result.record)
    head, parts = Record.parse(first), [parse_checked(part) for part in rest]
    relation = clock_relation(head, parts)
    calls = {which_and_when(record, "call")[0]: _call(record, relation) for record in parts}
    if set(calls) != {PLAIN_CALL, MARKED_CALL}:
        raise WireError("Packet record: two calls were to be beside the streams, and others are told.")
    held = Held(calls[PLAIN_CALL], calls[MARKED_CALL], stamp_exchanges(head), criterion)
    beside_kbps = len(calls) * call_rate(codec, ptime_ms).ipv4_kbps
    return judge_filled(Filled(held, result.phases, result.echoes, ceiling, beside_kbps), limits)


def _call(record: Record, relation: ClockRelation) -> HeldCall:
    return HeldCall(
        {side: trace_of(record, side, relation) for side in SIDES},
        {side: _kept_pct(record, side) for side in SIDES},
    )


def _kept_pct(record: Record, side: str) -> float | None:
    """Packets that arrived marked as sent, of those whose marking the system told."""
    counts = dscp_counts(record, side)
    told = sum(counts.values())
    return 100 * counts.get(str(record.meta[side]["dscp_sent"]), 0) / told if told else None
