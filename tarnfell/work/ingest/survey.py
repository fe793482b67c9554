"""A surveyed place as a probe told it, judged by its site's brief."""

from __future__ import annotations

import logging
import sqlite3

from tarnfell.core.quality import Criterion, criterion_for
from tarnfell.core.survey import CallWay, Place, judge_place
from tarnfell.store import sites as site_store
from tarnfell.store import survey as survey_store
from tarnfell.store.codecs import codec_of_site
from tarnfell.store.db import writing
from tarnfell.wire import WireError
from tarnfell.wire.kinds.look import LookResult
from tarnfell.wire.kinds.selfcheck import self_check_of
from tarnfell.wire.record import Record, split_parts
from tarnfell.work.ingest.fills import CONTRADICTS
from tarnfell.work.ingest.packets import clock_relation, half_of, judge_record, parse_checked
from tarnfell.work.ingest.uploads import figures_of

log = logging.getLogger(__name__)


def judge_next_place(db: sqlite3.Connection) -> bool:
    """Judge the newest that waits. Whether there was one."""
    one = survey_store.stale_one(db)
    if one is None or one.told is None:
        return False
    site = site_store.site_by_id(db, one.site_id)
    criterion = criterion_for(codec_of_site(db, site.id, one.codec), one.ptime_ms)
    judged, failure = None, None
    try:
        judged = judge_told(survey_store.whole_of(db, one.job_id), criterion, site.target_mos)
    except WireError as error:
        failure = str(error)
    except (KeyError, TypeError, ValueError, OverflowError):
        log.warning("what surveyed place %s told is refused", one.job_id, exc_info=True)
        failure = CONTRADICTS
    with writing(db):
        survey_store.keep_judged(db, one.job_id, judged, failure)
    return True


def judge_told(told: LookResult, criterion: Criterion, target_mos: float) -> Place:
    """Raises WireError where the call's record contradicts itself."""
    if not told.record:
        return judge_place(told.series, None, None, target_mos, told.call_failure or "the probe tells of none")
    first, *rest = split_parts(told.record)
    head, parts = Record.parse(first), [parse_checked(part) for part in rest]
    if len(parts) != 1:
        raise WireError("Packet record: one call was placed, and others are told.")
    both = judge_record(parts[0], clock_relation(head, parts), criterion)
    ways = {}
    for way, one in both.items():
        figures = figures_of(one, criterion, half_of(parts[0]))
        ways[way] = CallWay(
            figures.mos, figures.loss_pct, figures.pdv_p95_ms, figures.mouth_to_ear_ms, figures.reason
        )  # fmt: skip
    spoiled = tuple(self_check_of(head.meta.get("self_check")).reasons)
    return judge_place(told.series, ways.get("up"), ways.get("down"), target_mos, spoiled=spoiled)
