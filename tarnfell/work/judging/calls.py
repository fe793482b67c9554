"""Which calls of a run are acceptable, and in which moments of the site's day they were placed."""

from __future__ import annotations

import sqlite3
from typing import NamedTuple

from tarnfell.core.targets import Targets, judge_bounds
from tarnfell.core.verdict.moments import Moment, moments_between
from tarnfell.store import calls as call_store
from tarnfell.store import runs as run_store
from tarnfell.store.calls import Bounded, StoredDirection
from tarnfell.store.runs import Run
from tarnfell.store.sites import Site
from tarnfell.work.evidence.site_time import moment_at
from tarnfell.work.memory import Memory


def acceptable(one: StoredDirection, targets: Targets) -> bool | None:
    """Of one direction of a call; None where its delay decides and is not known."""
    f = one.figures
    bounded = (f.mos, f.mouth_to_ear_ms, f.loss_pct, f.pdv_p99_ms, f.worst_stretch_mos)
    return _keeps(Bounded(one.call_id, one.started_us, one.cut, *bounded), targets)


def _keeps(one: Bounded, targets: Targets) -> bool | None:
    if one.cut:
        return False
    return judge_bounds(
        targets,
        mos=one.mos,
        mouth_to_ear_ms=one.mouth_to_ear_ms,
        loss_pct=one.loss_pct,
        pdv_p99_ms=one.pdv_p99_ms,
        worst_stretch_mos=one.worst_stretch_mos,
    ).acceptable


class HeldCall(NamedTuple):
    """One call held against a brief's bounds, both ways."""

    started_us: int
    acceptable: bool | None
    """None where its delay decides and is not known."""


MAX_IN_MEMORY = 100_000
"""Calls; about 10 MB."""
_HELD = Memory[tuple[HeldCall, ...]](MAX_IN_MEMORY)


def held_calls(db: sqlite3.Connection, run: Run, targets: Targets) -> tuple[HeldCall, ...]:
    """The calls of a run that is done. They are asked for each second while a series goes on, and so remembered."""
    mark = repr((run_store.judged_us(db, run.id), targets))
    known = _HELD.of(db, run.id)
    if known and known[0] == mark:
        return known[1]
    ways: dict[int, list[bool | None]] = {}
    started: dict[int, int] = {}
    for one in call_store.bounded_of_run(db, run.id):
        ways.setdefault(one.call_id, []).append(_keeps(one, targets))
        started[one.call_id] = one.started_us
    held = tuple(
        HeldCall(started[call], False if False in found else None if None in found else True)
        for call, found in ways.items()
    )
    _HELD.keep(db, run.id, mark, held, len(held))
    return held


def good_calls(db: sqlite3.Connection, run: Run, targets: Targets) -> int:
    """Calls of which every direction is known to keep every bound."""
    return sum(one.acceptable is True for one in held_calls(db, run, targets))


def calls_in_moments(db: sqlite3.Connection, run: Run, site: Site) -> list[tuple[tuple[Moment, ...], bool]]:
    """Each call that can be judged: when it was, and whether it was acceptable both ways."""
    when: dict[int, tuple[Moment, ...]] = {}  # calls of a run begin together
    found = []
    for one in held_calls(db, run, site.targets):
        if one.acceptable is None:
            continue
        moments = when.get(one.started_us)
        if moments is None:
            moments = when[one.started_us] = moments_of(site, one.started_us, run.seconds)
        found.append((moments, one.acceptable))
    return found


def moments_of(site: Site, started_us: int, seconds: float) -> tuple[Moment, ...]:
    at = moment_at(site, started_us)
    return moments_between(at.day, at.minute, seconds)
