"""What was measured beside the verdict, as a report's tables: check, services, marking, fills, video, and the runs."""

from __future__ import annotations

import sqlite3
from collections.abc import Sequence
from datetime import UTC, date, datetime
from statistics import mean, median
from zoneinfo import ZoneInfo

from tarnfell.core.causes import DIRECTIONS
from tarnfell.core.check.judge import judge
from tarnfell.core.codecs import find_codec
from tarnfell.core.verdict.facts import Brief, CallFact, VideoFact
from tarnfell.core.verdict.fills import FillFact
from tarnfell.core.verdict.readings import good_picture
from tarnfell.report.tables import Table
from tarnfell.store import checks as check_store
from tarnfell.store import jobs as job_store
from tarnfell.store import runs as run_store
from tarnfell.store.jobs import Job
from tarnfell.store.sites import Site
from tarnfell.wire.kinds.check import CheckResult
from tarnfell.wire.kinds.fields import read
from tarnfell.work.evidence.facts import Facts
from tarnfell.work.judging.checks import LOOKED_AT

MOST_FILLS = 24
MOST_SETTINGS = 40
NAMES = {"up": "Upload", "down": "Download"}


def measured_tables(db: sqlite3.Connection, site: Site, facts: Facts) -> tuple[Table, ...]:
    """Those of which there is something to show, nothing of what was not done."""
    zone = ZoneInfo(site.time_zone)
    found = [*_checked(db, site, zone), _marking(facts.calls), _filled(facts.fills), _video(facts.video, site.brief)]
    return tuple(one for one in found if one.rows)


def _checked(db: sqlite3.Connection, site: Site, zone: ZoneInfo) -> list[Table]:
    """Of the newest check that came to its end."""
    jobs = job_store.newest_of_kind(db, site.id, "check", LOOKED_AT)
    done = next((job for job in jobs if job.state == "done" and job.result), None)
    if done is None or done.result is None:
        return []
    result = read(CheckResult, done.result)
    judged = judge(result, check_store.wish_of(db, site.id).limits)
    when = f"By the check of {_at(done, zone):%d %B %Y, %H:%M}."
    return [
        Table(
            "What the check found",
            f"{when} Unproven: nobody could tell.",
            ("Question", "Answer", "What was seen"),
            tuple((rung.title, rung.state, rung.says) for rung in judged.rungs),
        ),
        Table(
            "Services",
            when,
            ("Service", "Address", "Answer", "After", "What came back"),
            tuple(
                (
                    one.asked.name,
                    f"{one.asked.host} port {one.asked.port}, {one.asked.protocol.upper()}",
                    one.state,
                    "–" if one.took_ms is None else f"{one.took_ms:.0f} ms",
                    one.says or "–",
                )
                for one in result.services
            ),
        ),
    ]


def _at(job: Job, zone: ZoneInfo) -> datetime:
    return datetime.fromtimestamp((job.begun_us or job.created_us) / 1e6, UTC).astimezone(zone)


def _marking(calls: Sequence[CallFact]) -> Table:
    rows = []
    for way in DIRECTIONS:
        marks = sorted({one.dscp_sent for one in calls if one.direction == way})
        for mark in marks:
            kept = [
                one.dscp_kept_pct
                for one in calls
                if one.direction == way and one.dscp_sent == mark and one.dscp_kept_pct is not None
            ]
            if kept:
                whole = sum(pct >= 100 for pct in kept)
                rows.append((NAMES[way], str(mark), f"{whole} of {len(kept)}", f"{mean(kept):.1f} %"))
    return Table(
        "Marking",
        "How media was marked (DSCP), and how much of it arrived with the same marking. 46 (EF) is usual for voice; 0 "
        "is none.",
        ("Direction", "Sent as", "Calls that kept it throughout", "Packets that kept it, on average"),
        tuple(rows),
    )


def _filled(fills: Sequence[FillFact]) -> Table:
    newest = sorted(fills, key=lambda one: (one.day, one.minute), reverse=True)[:MOST_FILLS]
    more = len(fills) - len(newest)
    return Table(
        "Calls while the line is full",
        "The line was filled by TCP streams with a call beside them."
        + (f" The newest {MOST_FILLS} of {len(fills)}." if more else ""),
        ("When", "Filled", "Seen to be full", "MOS, idle", "MOS, full", "MOS, full and marked"),
        tuple(
            (
                f"{date.fromisoformat(one.day):%a %d %b} {_clock(one.minute)}",
                NAMES[one.direction].lower(),
                "yes" if one.full else "no",
                _mos(one.idle_mos),
                _mos(one.mos),
                _mos(one.mos_marked),
            )
            for one in newest
        ),
    )


def _clock(minute: float) -> str:
    return f"{int(minute) // 60:02d}:{int(minute) % 60:02d}"


def _mos(value: float | None) -> str:
    return "–" if value is None else f"{value:.2f}"


def _video(video: Sequence[VideoFact], brief: Brief) -> Table:
    rows = []
    for way in DIRECTIONS:
        scored = [one for one in video if one.direction == way and not one.tainted and one.score is not None]
        if scored:
            good = sum(good_picture(one.score, brief) for one in scored)
            frames, whole = sum(one.frames for one in scored), sum(one.whole for one in scored)
            rows.append(
                (
                    NAMES[way],
                    f"{good} of {len(scored)}",
                    f"{median(one.score or 0.0 for one in scored):.2f}",
                    f"{100 * whole / frames:.1f} %" if frames else "–",
                    f"{sum(one.frozen_ms for one in scored) / 1000:.1f} s",
                )
            )
    return Table(
        "Video",
        f"Streams of packets as a meeting’s video has them, no camera. {brief.target_picture:g} of 5 is required.",
        (
            "Direction",
            "Streams that reach it",
            "Picture score, median",
            "Frames that came whole",
            "Stood still, in all",
        ),
        tuple(rows),
    )


def runs_table(db: sqlite3.Connection, site: Site) -> Table | None:
    """How often calls were placed with which settings; None where none was."""
    settings = run_store.settings_of(db, site.id)
    if not settings:
        return None
    zone = ZoneInfo(site.time_zone)
    shown, more = settings[:MOST_SETTINGS], settings[MOST_SETTINGS:]
    return Table(
        "Runs and their settings",
        "Runs that were carried out, those included that do not count."
        + (f" {sum(one.runs for one in more)} more were placed with {len(more)} other settings." if more else ""),
        ("Between", "Calls", "Codec and interval", "Length", "Marked", "Runs", "First and last"),
        tuple(
            (
                f"{one.probe} and {one.far_end}",
                f"{one.calls}{'' if one.direction == 'both' else f', {one.direction} only'}"
                f"{', with video' if one.with_video else ''}",
                f"{find_codec(one.codec).title}, {one.ptime_ms} ms",
                f"{one.seconds:g} s",
                str(one.dscp),
                str(one.runs),
                " to ".join(
                    dict.fromkeys(
                        f"{datetime.fromtimestamp(us / 1e6, UTC).astimezone(zone):%d %b %Y}"
                        for us in (one.first_us, one.last_us)
                    )
                ),
            )
            for one in shown
        ),
    )
