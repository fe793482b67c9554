"""What the runs of one carrying-out of a plan show by themselves: a staircase, a step for each number of calls."""

from __future__ import annotations

import sqlite3
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

from tarnfell.core.verdict.capacity import Capacity, State, capacity_of_tallies
from tarnfell.core.verdict.moments import Moment, Tally, tally
from tarnfell.store import videos as video_store
from tarnfell.store.jobs import OPEN
from tarnfell.store.runs import Run
from tarnfell.store.sites import Site
from tarnfell.work.judging.calls import calls_in_moments
from tarnfell.work.judging.live import good_so_far
from tarnfell.work.judging.run import good_streams

Progress = Literal["to come", "running", "done", "invalid", "failed"]


@dataclass(frozen=True)
class SeriesStep:
    """One number of concurrent calls, over all rounds."""

    calls_at_once: int
    run_ids: list[int]
    state: Progress
    good: int
    calls: int
    pct: float | None
    low_pct: float
    high_pct: float
    """Bounds of the share, at 95 % confidence."""
    passes: bool
    """The share that was measured is what the brief requires."""
    shows: State
    """Whether the required share is shown."""
    moments: int
    more_moments: int
    """Ten-minute moments without a bad call that would still have to be seen."""
    forming_good: int | None
    """Calls good so far in the run that is on; null before anything is known."""
    forming_calls: int
    streams: int
    good_streams: int


def capacity_of_runs(db: sqlite3.Connection, runs: Sequence[Run], site: Site) -> Capacity:
    """What these runs alone show. One that is not done, or spoiled itself, shows nothing."""
    tried: dict[int, list[tuple[tuple[Moment, ...], bool, float]]] = {}
    for run in runs:
        if run.state == "done" and not run.tainted:
            found = calls_in_moments(db, run, site)
            tried.setdefault(run.calls, []).extend((moments, good, float(good)) for moments, good in found)
    tallies: dict[int, dict[Moment, Tally]] = {n: tally(calls) for n, calls in tried.items() if calls}
    return capacity_of_tallies(tallies, site.required_share_pct)


def step_of(
    db: sqlite3.Connection, calls_at_once: int, runs: Sequence[Run], capacity: Capacity, site: Site
) -> SeriesStep:
    """One step, done, forming or still to come."""
    own = [run for run in runs if run.calls == calls_at_once]
    streams: dict[int, bool] = {}
    for run in own:
        if run.video:
            streams |= good_streams(video_store.pictures_of_run(db, run.id), site.targets)
    step = next((s for s in capacity.steps if s.concurrent == calls_at_once), None)
    under_way = next((run for run in own if run.state in OPEN), None)
    forming = good_so_far(db, under_way, site.targets) if under_way else None
    return SeriesStep(
        calls_at_once=calls_at_once,
        run_ids=[run.id for run in own],
        state=_progress(own, under_way is not None, step is not None),
        good=step.share.good if step else 0,
        calls=step.share.calls if step else 0,
        pct=step.share.pct if step else None,
        low_pct=step.low_pct if step else 0.0,
        high_pct=step.high_pct if step else 100.0,
        passes=step is not None and (step.share.pct or 0.0) >= site.required_share_pct,
        shows=step.state if step else "open",
        moments=step.share.moments if step else 0,
        more_moments=step.more_moments if step else 0,
        forming_good=forming[0] if forming else None,
        forming_calls=forming[1] if forming else 0,
        streams=len(streams),
        good_streams=sum(streams.values()),
    )


def _progress(runs: Sequence[Run], under_way: bool, judged: bool) -> Progress:
    if under_way:
        return "running"
    if not runs:
        return "to come"
    if judged:
        return "done"
    return "invalid" if any(run.state == "done" and run.tainted for run in runs) else "failed"
