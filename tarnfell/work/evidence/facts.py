"""A site's records as evidence: each call and stream a fact, what could not be placed as well, and what is left out."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from tarnfell.core.causes import DIRECTIONS, Direction
from tarnfell.core.codecs import Codec
from tarnfell.core.verdict.facts import Blame, CallFact, Outcome, VideoFact
from tarnfell.core.verdict.fills import FillFact
from tarnfell.core.verdict.moments import Watched
from tarnfell.core.verdict.site import Aside
from tarnfell.core.verdict.told import Told
from tarnfell.store import browsers as browser_store
from tarnfell.store import calls as call_store
from tarnfell.store import fills as fill_store
from tarnfell.store import imports as import_store
from tarnfell.store import remedies as remedy_store
from tarnfell.store import runs as run_store
from tarnfell.store import videos as video_store
from tarnfell.store.codecs import codec_of_site
from tarnfell.store.jobs import TAKEN_BACK
from tarnfell.store.remedies import Remedy
from tarnfell.store.runs import Run
from tarnfell.store.sites import Site
from tarnfell.wire.failures import GONE, NO_MEDIA, OF_THE_NETWORK, OTHER, SILENT, code_of
from tarnfell.work.evidence.site_time import moment_at
from tarnfell.work.evidence.told import told_of
from tarnfell.work.evidence.watched import watched_of

WI_FI = "Wi-Fi"
"""As a probe tells its link."""
PROMPT_US = 20_000_000
"""A failure told this soon after the run was taken shows that the server could be reached meanwhile."""

SLEPT_MS = 5000.0


@dataclass(frozen=True)
class Facts:
    """All that a site is judged by, and what of it is told and not counted."""

    calls: list[CallFact]
    video: list[VideoFact]
    fills: list[FillFact]
    told: list[Told]
    """By watches and by the newest check."""
    watches: list[Watched]
    aside: Aside


def facts_of(db: sqlite3.Connection, site: Site) -> Facts:
    """Since the newest remedy before which evidence is set aside; of each call once a direction."""
    remedy = _standing_remedy(db, site)
    since_us = _begins(remedy)
    failed = [_Failed.of(run) for run in run_store.failed_runs(db, site.id)]
    timed = [*_placed(db, site), *(fact for f in failed for fact in f.facts(site))]
    before = {fact.call_id for at_us, fact in timed if at_us < since_us}
    aside = Aside(
        before_remedy=len(before),
        remedy=remedy.words if remedy else "",
        failed=sum(f.run.calls for f in failed if f.says_nothing and f.at_us >= since_us),
        imported=import_store.count_of(db, site.id),
        browsers=browser_store.not_counted(db, site.id),
    )
    return Facts(
        calls=[fact for at_us, fact in timed if at_us >= since_us],
        video=video_since(db, site, since_us),
        fills=fills_since(db, site, since_us),
        told=told_of(db, site, since_us),
        watches=watched_of(db, site, since_us),
        aside=aside,
    )


def counts_since(db: sqlite3.Connection, site: Site) -> int:
    """When what is evidence of the site begins: at the newest remedy before which evidence is set aside, or 0."""
    return _begins(_standing_remedy(db, site))


def _standing_remedy(db: sqlite3.Connection, site: Site) -> Remedy | None:
    """The newest remedy before which evidence is set aside."""
    return next((one for one in remedy_store.remedies_of(db, site.id) if one.set_aside), None)


def _begins(remedy: Remedy | None) -> int:
    return remedy.at_us if remedy else 0


def video_since(db: sqlite3.Connection, site: Site, since_us: int) -> list[VideoFact]:
    return [fact for at_us, fact in _streams(db, site) if at_us >= since_us]


def fills_since(db: sqlite3.Connection, site: Site, since_us: int) -> list[FillFact]:
    return [fact for at_us, fact in _filled(db, site) if at_us >= since_us]


def _filled(db: sqlite3.Connection, site: Site) -> Iterator[tuple[int, FillFact]]:
    left_out = set() if site.browser_counts else browser_store.numbers_of(db, site.id)
    other_ways = browser_store.by_other_ways(db, site.id)
    for fill in fill_store.fills_of(db, site.id):
        if fill.probe_id in left_out or fill.job_id in other_ways:
            continue
        idle = fill.filled.phase("idle") if fill.filled else None
        at = moment_at(site, fill.at_us)
        for direction in DIRECTIONS:
            phase = fill.filled.phase(direction) if fill.filled else None
            if fill.filled is None or fill.filled.spoiled or phase is None:
                continue
            side = phase.side(direction)
            yield (
                fill.at_us,
                FillFact(
                    fill_id=fill.job_id,
                    direction=direction,
                    day=at.day,
                    minute=at.minute,
                    busy=at.busy,
                    full=bool(side.filled),
                    idle_mos=idle.side(direction).mos if idle else None,
                    mos=side.mos,
                    mos_marked=side.mos_marked,
                    kept_pct=side.marking_kept_pct,
                    causes=tuple(cause for cause in fill.filled.causes if cause.direction == direction),
                    probe_id=fill.probe_id,
                    far_end_id=fill.far_end_id,
                ),
            )


def _placed(db: sqlite3.Connection, site: Site) -> Iterator[tuple[int, CallFact]]:
    """Calls that were placed, whole or cut, each direction with when it began. One that never began is silent."""
    codecs: dict[str, Codec] = {}
    clock_set: dict[int, bool] = {}
    names: Sequence[str] = ()
    began_us, at = 0, None
    for values in call_store.directions_of_site(db, site.id):
        names = names or values.keys()
        row = dict(zip(names, values, strict=True))  # a row of SQLite looks for each name from its first column on
        if row["codec"] not in codecs:
            codecs[row["codec"]] = codec_of_site(db, site.id, row["codec"])
        codec = codecs[row["codec"]]
        if row["tainted"] and row["run_id"] not in clock_set:
            clock_set[row["run_id"]] = _clock_was_set(row["self_check"])
        if at is None or row["started_us"] != began_us:  # both directions of a call stand beside one another
            began_us, at = row["started_us"], moment_at(site, row["started_us"])
        cut, sent = row["cut_reason"] is not None, row["sent"]
        seconds = row["cut_after_s"] if cut else sent * row["ptime_ms"] / 1000 if sent else row["seconds"]
        outcome: Outcome = "cut" if cut else "whole"
        yield (
            row["started_us"],
            CallFact(
                call_id=row["call_id"],
                run_id=row["run_id"],
                direction=row["direction"],
                day=at.day,
                minute=at.minute,
                seconds=seconds,
                busy=at.busy,
                concurrent=row["calls"],
                sent=sent,
                received=row["received"],
                loss_pct=row["loss_pct"] if sent else None,
                late_pct=100 * row["late"] / sent if sent else None,
                burst_ratio=row["burst_ratio"],
                mos=row["mos"],
                worst_stretch_mos=row["worst_stretch_mos"],
                delay_p50_ms=row["delay_p50_ms"],
                mouth_to_ear_ms=row["mouth_to_ear_ms"],
                pdv_p50_ms=row["pdv_p50_ms"],
                pdv_p95_ms=row["pdv_p95_ms"],
                pdv_p99_ms=row["pdv_p99_ms"],
                jitter_ms=row["jitter_ms"],
                dscp_sent=row["dscp_sent"],
                dscp_kept_pct=row["dscp_kept_pct"],
                tainted=bool(row["tainted"]) and (not cut or _slept(row["self_check"])),
                clock_set=clock_set.get(row["run_id"], False),
                one_way=row["flow"] != "both",
                outcome=outcome,
                reason=row["cut_reason"] or "",
                blame=_blame(row["server_reachable"]),
                probe_id=row["probe_id"],
                far_end_id=row["far_end_id"],
                wireless=row["medium"] == WI_FI,
                ie=codec.ie,
                bpl=codec.bpl,
            ),
        )


def _slept(self_check: str | None) -> bool:
    """Whether an end stood still for so long that it may itself have broken the run off.

    Packets sent some milliseconds late spoil figures, but cut no line.
    """
    check = run_store.self_check(self_check)
    late_ms = [end.send_late_ms.max for end in (check.ends if check else ()) if end.send_late_ms]
    return any(late is not None and late >= SLEPT_MS for late in late_ms)


def _clock_was_set(self_check: str | None) -> bool:
    check = run_store.self_check(self_check)
    return check is not None and any(end.clock_steps for end in check.ends)


def _blame(server_reachable: int | None) -> Blame:
    return "unknown" if server_reachable is None else "far end" if server_reachable else "site"


@dataclass(frozen=True)
class _Failed:
    """A run without a result."""

    run: Run
    code: str
    at_us: int
    """When it was to begin."""
    taken: bool

    @staticmethod
    def of(run: Run) -> _Failed:
        code = run.failure_code or (code_of(run.failure or "") if run.taken_us is not None else OTHER)
        return _Failed(run, code, run.begun_us or run.taken_us or run.created_us, run.taken_us is not None)

    @property
    def says_nothing(self) -> bool:
        """Of the network; and nobody took it back before it began."""
        return self.code not in OF_THE_NETWORK and self.run.failure != TAKEN_BACK

    def facts(self, site: Site) -> Iterator[tuple[int, CallFact]]:
        """Each call of it as one that a user could not have placed, that carried no sound, or that was cut with nothing
        known of it."""
        if self.code not in OF_THE_NETWORK:
            return
        run, at = self.run, moment_at(site, self.at_us)
        outcome: Outcome = "cut" if self.code in (SILENT, GONE) and run.begun_us is not None else "not placed"
        if self.code == NO_MEDIA:
            outcome = "whole"
        blame = _blame(run.server_reachable)
        prompt = run.ended_us is not None and run.ended_us - self.at_us <= PROMPT_US
        if run.server_reachable is None and outcome == "not placed" and self.taken and prompt:
            blame = "far end"
        ways: Sequence[Direction] = [d for d in DIRECTIONS if run.direction in ("both", d)]
        for number in range(1, run.calls + 1):
            for direction in ways:
                yield (
                    self.at_us,
                    CallFact(
                        # Such a call has no row and no page; its number is none that a row could have.
                        call_id=-(run.id * 1000 + number),
                        run_id=run.id,
                        direction=direction,
                        day=at.day,
                        minute=at.minute,
                        seconds=0.0 if outcome == "not placed" else run.seconds,
                        busy=at.busy,
                        concurrent=run.calls,
                        sent=0,
                        received=0,
                        loss_pct=None,
                        late_pct=None,
                        burst_ratio=1.0,
                        mos=None,
                        worst_stretch_mos=None,
                        delay_p50_ms=None,
                        mouth_to_ear_ms=None,
                        pdv_p50_ms=None,
                        pdv_p95_ms=None,
                        pdv_p99_ms=None,
                        jitter_ms=0.0,
                        dscp_sent=run.dscp,
                        dscp_kept_pct=None,
                        tainted=False,
                        one_way=run.direction != "both",
                        outcome=outcome,
                        reason=run.failure or "",
                        blame=blame,
                        probe_id=run.probe_id,
                        far_end_id=run.far_end_id,
                    ),
                )


def _streams(db: sqlite3.Connection, site: Site) -> Iterator[tuple[int, VideoFact]]:
    for row in video_store.pictures_of_site(db, site.id):
        at = moment_at(site, row["started_us"])
        yield (
            row["started_us"],
            VideoFact(
                day=at.day,
                minute=at.minute,
                busy=at.busy,
                seconds=row["cut_after_s"] or row["seconds"],
                tainted=bool(row["tainted"]),
                one_way=row["flow"] != "both",
                **{name: row[name] for name in _PICTURE_FIELDS},
            ),
        )


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
