"""What was measured beside the verdict: check, services, marking, fills, video, and the runs."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator, Sequence
from datetime import UTC, datetime
from statistics import median
from zoneinfo import ZoneInfo

from tarnfell.core.causes import DIRECTIONS
from tarnfell.core.codecs import find_codec
from tarnfell.core.verdict.facts import Brief, VideoFact
from tarnfell.core.verdict.fills import FillFact
from tarnfell.core.verdict.readings import good_picture
from tarnfell.report.measured import (
    NOT_MEASURED,
    CheckAnswer,
    CheckFound,
    FillFound,
    MarkingFound,
    Measured,
    RunsAlike,
    ServiceAnswer,
    VideoFound,
)
from tarnfell.store import calls as call_store
from tarnfell.store import places as place_store
from tarnfell.store import probes as probe_store
from tarnfell.store import runs as run_store
from tarnfell.store.sites import Site
from tarnfell.work.evidence.computed import Computed
from tarnfell.work.evidence.facts import counts_since, fills_since, video_since
from tarnfell.work.judging.checks import newest_done


def measured_of(db: sqlite3.Connection, site: Site) -> Measured:
    zone = ZoneInfo(site.time_zone)
    since_us = counts_since(db, site)
    return Measured(
        check=_checked(db, site, zone),
        marking=_marking(db, site, since_us),
        fills=_filled(fills_since(db, site, since_us)),
        video=tuple(_video(video_since(db, site, since_us), site.brief)),
        runs=_runs(db, site, zone),
    )


def _names(db: sqlite3.Connection, site: Site) -> object:
    """Of the ends between which runs were placed."""
    probes, far_ends = probe_store.probes_of(db, site.id), place_store.far_ends_of(db, site.id)
    return [one.name for one in probes] + [one.name for one in far_ends]


MEASURED = Computed("measured", Measured, measured_of, lambda _: NOT_MEASURED, _names)


def _checked(db: sqlite3.Connection, site: Site, zone: ZoneInfo) -> CheckFound | None:
    done = newest_done(db, site.id)
    if done is None:
        return None
    return CheckFound(
        _local(done.job.begun_us or done.job.created_us, zone).isoformat(timespec="minutes"),
        tuple(CheckAnswer(rung.title, rung.state, rung.says) for rung in done.judged.rungs),
        tuple(
            ServiceAnswer(
                one.asked.name, one.asked.host, one.asked.port, one.asked.protocol, one.state, one.took_ms, one.says
            )
            for one in done.result.services
        ),
    )


def _local(at_us: int, zone: ZoneInfo) -> datetime:
    """The wall clock's, without its zone."""
    return datetime.fromtimestamp(at_us / 1e6, UTC).astimezone(zone).replace(tzinfo=None)


def _marking(db: sqlite3.Connection, site: Site, since_us: int) -> tuple[MarkingFound, ...]:
    found = [MarkingFound(*row) for row in call_store.marking_of_site(db, site.id, since_us)]
    return tuple(sorted(found, key=lambda one: (DIRECTIONS.index(one.direction), one.dscp_sent)))


def _filled(fills: Sequence[FillFact]) -> tuple[FillFound, ...]:
    newest = sorted(fills, key=lambda one: (one.day, one.minute), reverse=True)
    return tuple(
        FillFound(
            f"{one.day}T{int(one.minute) // 60:02d}:{int(one.minute) % 60:02d}",
            one.direction,
            one.full,
            one.idle_mos,
            one.mos,
            one.mos_marked,
        )
        for one in newest
    )


def _video(video: Sequence[VideoFact], brief: Brief) -> Iterator[VideoFound]:
    for way in DIRECTIONS:
        scored = [one for one in video if one.direction == way and not one.tainted and one.score is not None]
        if scored:
            yield VideoFound(
                direction=way,
                streams=len(scored),
                good=sum(good_picture(one.score, brief) for one in scored),
                score_p50=median(one.score or 0.0 for one in scored),
                frames=sum(one.frames for one in scored),
                frames_whole=sum(one.whole for one in scored),
                frozen_ms=sum(one.frozen_ms for one in scored),
            )


def _runs(db: sqlite3.Connection, site: Site, zone: ZoneInfo) -> tuple[RunsAlike, ...]:
    return tuple(
        RunsAlike(
            probe=one.probe,
            far_end=one.far_end,
            calls=one.calls,
            direction=one.direction,
            with_video=one.with_video,
            codec=one.codec,
            codec_title=find_codec(one.codec).title,
            ptime_ms=one.ptime_ms,
            seconds=one.seconds,
            dscp=one.dscp,
            runs=one.runs,
            first_day=_local(one.first_us, zone).date().isoformat(),
            last_day=_local(one.last_us, zone).date().isoformat(),
        )
        for one in run_store.settings_of(db, site.id)
    )
