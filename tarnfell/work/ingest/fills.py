"""A filled line as a probe tells it, judged: two calls, the phases of the streams, the echoes beside them."""

from __future__ import annotations

import logging
import sqlite3

from tarnfell.core.clock import ClockRelation
from tarnfell.core.codecs import Codec
from tarnfell.core.line.filled import Filled, judge_filled
from tarnfell.core.line.measure import Held, HeldCall
from tarnfell.core.line.values import SIDES, FillLimits, LineFilled
from tarnfell.core.quality import Criterion, criterion_for
from tarnfell.core.rates import call_rate
from tarnfell.store import fills as fill_store
from tarnfell.store import sites as site_store
from tarnfell.store.codecs import codec_of_site
from tarnfell.store.db import writing
from tarnfell.store.sites import Site
from tarnfell.wire import WireError
from tarnfell.wire.kinds.fill import FillResult
from tarnfell.wire.kinds.selfcheck import self_check_of
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

NOT_PLACED = HeldCall(dict.fromkeys(SIDES), dict.fromkeys(SIDES))
CONTRADICTS = "What the probe told contradicts itself and was not taken."


log = logging.getLogger(__name__)


def judge_next_fill(db: sqlite3.Connection) -> bool:
    """Judge the newest fill that waits, by its site's brief as it is now. Whether there was one."""
    one = fill_store.stale_one(db)
    if one is None:
        return False
    site = site_store.site_by_id(db, one.site_id)
    codec = codec_of_site(db, site.id, one.asked.codec)
    criterion = criterion_for(codec, one.asked.ptime_ms)
    ceiling = bool(one.asked.plan.ceiling_kbps)
    filled, failure = None, None
    try:
        filled = judge_fill(
            fill_store.told_of(db, one.job_id), codec, one.asked.ptime_ms, criterion, limits_of(site), ceiling
        )
    except WireError as error:
        failure = str(error)
    except (KeyError, TypeError, ValueError, OverflowError):
        log.warning("what fill %s told is refused", one.job_id, exc_info=True)
        failure = CONTRADICTS
    with writing(db):
        fill_store.keep_judged(db, one.job_id, filled, failure)
    return True


def limits_of(site: Site) -> FillLimits:
    brief = site.brief
    need = brief.needed_calls * (brief.call_kbps or 0.0)
    return FillLimits(brief.target_mos, need, float(brief.up_kbps or 0), float(brief.down_kbps or 0))


def judge_fill(
    result: FillResult, codec: Codec, ptime_ms: int, criterion: Criterion, limits: FillLimits, ceiling: bool
) -> LineFilled:
    """Raises WireError where the record contradicts itself."""
    first, *rest = split_parts(result.record)
    head, parts = Record.parse(first), [parse_checked(part) for part in rest]
    spoiled = self_check_of(head.meta.get("self_check")).reasons
    relation = clock_relation(head, parts)
    calls = {which_and_when(record, "call")[0]: _call(record, relation) for record in parts}
    # A browser can mark nothing: it places the one call only.
    if set(calls) not in ({PLAIN_CALL, MARKED_CALL}, {PLAIN_CALL}):
        raise WireError("Packet record: two calls were to be beside the streams, and others are told.")
    held = Held(calls[PLAIN_CALL], calls.get(MARKED_CALL, NOT_PLACED), stamp_exchanges(head), criterion)
    beside_kbps = len(calls) * call_rate(codec, ptime_ms).ipv4_kbps
    run = Filled(held, result.phases, result.echoes, ceiling, spoiled, beside_kbps, result.cut, result.cut_s)
    return judge_filled(run, limits)


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
