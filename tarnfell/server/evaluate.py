"""A site's evidence through the core, kept until new evidence comes; and its views for the API."""

from __future__ import annotations

import sqlite3
import threading
from datetime import UTC, datetime
from zoneinfo import ZoneInfo

from tarnfell.core.evidence import CallFact, VideoFact
from tarnfell.core.path import worse_direction
from tarnfell.core.site import Evaluation, evaluate_site
from tarnfell.server.models.engagements import EvidenceView, LegView, PathView, ShareView, StripHour, VerdictView
from tarnfell.server.models.sites import DaySheet, DaySheetDay
from tarnfell.store import calls as call_store
from tarnfell.store import videos as video_store
from tarnfell.store.places import FarEnd
from tarnfell.store.sites import Site

_MAX_KEPT = 64
_kept: dict[tuple[str, Site], tuple[tuple[int, int], Evaluation]] = {}
_lock = threading.Lock()


def evaluate(db: sqlite3.Connection, site: Site) -> Evaluation:
    """The evaluation of ``site``; computed anew only when its evidence or its brief has changed."""
    mark = call_store.evidence_mark(db, site.id)
    key = (str(db.execute("PRAGMA database_list").fetchone()["file"]), site)
    with _lock:
        kept = _kept.get(key)
    if kept and kept[0] == mark:
        return kept[1]
    evaluation = evaluate_site(_facts(db, site), site.brief, _video_facts(db, site))
    with _lock:
        if len(_kept) >= _MAX_KEPT:
            _kept.clear()
        _kept[key] = (mark, evaluation)
    return evaluation


def _facts(db: sqlite3.Connection, site: Site) -> list[CallFact]:
    facts = []
    for row in call_store.directions_of_site(db, site.id):
        if row["sent"] == 0:
            continue  # a direction that never began says nothing about the way
        day, minute, busy = _moment(site, row["started_us"])
        facts.append(
            CallFact(
                call_id=row["call_id"],
                run_id=row["run_id"],
                direction=row["direction"],
                day=day,
                minute=minute,
                busy=busy,
                concurrent=row["calls"],
                sent=row["sent"],
                received=row["received"],
                loss_pct=row["loss_pct"],
                late_pct=100 * row["late"] / row["sent"],
                burst_ratio=row["burst_ratio"],
                mos=row["mos"],
                delay_p50_ms=row["delay_p50_ms"],
                mouth_to_ear_ms=row["mouth_to_ear_ms"],
                pdv_p50_ms=row["pdv_p50_ms"],
                pdv_p95_ms=row["pdv_p95_ms"],
                pdv_p99_ms=row["pdv_p99_ms"],
                jitter_ms=row["jitter_ms"],
                dscp_sent=row["dscp_sent"],
                dscp_kept_pct=row["dscp_kept_pct"],
                tainted=bool(row["tainted"]),
                one_way=row["flow"] != "both",
            )
        )
    return facts


def _video_facts(db: sqlite3.Connection, site: Site) -> list[VideoFact]:
    facts = []
    for row in video_store.pictures_of_site(db, site.id):
        if row["sent"] == 0:
            continue
        day, minute, busy = _moment(site, row["started_us"])
        facts.append(
            VideoFact(
                day=day,
                minute=minute,
                busy=busy,
                tainted=bool(row["tainted"]),
                one_way=row["flow"] != "both",
                **{name: row[name] for name in _PICTURE_FIELDS},
            )
        )
    return facts


_PICTURE_FIELDS = (
    "stream_id",
    "run_id",
    "direction",
    "frames",
    "whole",
    "lost",
    "late",
    "freezes",
    "frozen_ms",
    "worst_second_fps",
    "score",
)


def _moment(site: Site, at_us: int) -> tuple[str, int, bool]:
    """Day and minute at the site, and whether it was open."""
    local = datetime.fromtimestamp(at_us / 1e6, UTC).astimezone(ZoneInfo(site.time_zone))
    minute = local.hour * 60 + local.minute
    busy = str(local.isoweekday()) in site.open_days and site.open_minute <= minute < site.close_minute
    return local.date().isoformat(), minute, busy


def verdict_view(evaluation: Evaluation) -> VerdictView:
    verdict = evaluation.verdict
    return VerdictView(
        word=verdict.word,
        provisional=verdict.provisional,
        score=verdict.score,
        reasons=list(verdict.reasons),
        missing=list(verdict.missing),
    )


def share_view(evaluation: Evaluation) -> ShareView:
    return ShareView.model_validate(evaluation.verdict.share)


def evidence_view(evaluation: Evaluation) -> EvidenceView:
    verdict, brief = evaluation.verdict, evaluation.brief
    return EvidenceView(
        days=verdict.days,
        required_days=brief.required_days,
        busy_hours=verdict.busy_hours,
        required_busy_hours=brief.required_busy_hours,
        left_out_calls=evaluation.tainted_calls,
        calls=verdict.calls,
        required_calls=brief.required_calls,
    )


def path_view(evaluation: Evaluation, spot: str, far_end: FarEnd | None) -> PathView | None:
    if not evaluation.readings:
        return None
    up, down = evaluation.legs
    return PathView(
        spot=spot,
        far_end=far_end.name if far_end else "far end",
        place=far_end.place if far_end else "",
        up=LegView.model_validate(up),
        down=LegView.model_validate(down),
        worst=worse_direction(up, down),
    )


def sheet_view(evaluation: Evaluation, site: Site) -> DaySheet:
    days = [
        DaySheetDay(
            day=day.day,
            call_id=day.call_id,
            up_mos=day.up.mos,
            down_mos=day.down.mos,
            up_added_ms=day.up.added_ms,
            down_added_ms=day.down.added_ms,
            up_loss_pct=day.up.loss_pct,
            down_loss_pct=day.down.loss_pct,
        )
        for day in evaluation.sheet
    ]
    return DaySheet(days=days, open_minute=site.open_minute, close_minute=site.close_minute, open_days=site.open_days)


def strip_view(evaluation: Evaluation) -> list[StripHour]:
    """The worst call of each hour of the sheet's days."""
    return [
        StripHour(day=day.day, hour=hour, mos=day.worst_mos(hour * 6, hour * 6 + 6))
        for day in evaluation.sheet
        for hour in range(24)
    ]
