"""Which calls of a run are acceptable, and in which moments of the site's day they were placed."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from tarnfell.core.targets import Targets, judge_bounds
from tarnfell.core.verdict.moments import Moment, moments_between
from tarnfell.store.calls import StoredDirection
from tarnfell.store.sites import Site
from tarnfell.work.evidence.site_time import moment_at


def acceptable(one: StoredDirection, targets: Targets) -> bool | None:
    """Of one direction of a call; None where its delay decides and is not known."""
    if one.cut:
        return False
    figures = one.figures
    return judge_bounds(
        targets,
        mos=figures.mos,
        mouth_to_ear_ms=figures.mouth_to_ear_ms,
        loss_pct=figures.loss_pct,
        pdv_p99_ms=figures.pdv_p99_ms,
        worst_stretch_mos=figures.worst_stretch_mos,
    ).acceptable


def good_calls(directions: Sequence[StoredDirection], targets: Targets) -> int:
    """Calls of which every direction is known to keep every bound."""
    bad = {one.call_id for one in directions if not acceptable(one, targets)}
    return len({one.call_id for one in directions} - bad)


def calls_in_moments(
    directions: Iterable[StoredDirection], site: Site, seconds: float
) -> list[tuple[tuple[Moment, ...], bool]]:
    """Each call of ``seconds`` that can be judged: when it was, and whether it was acceptable both ways."""
    calls: dict[int, tuple[int, list[bool | None]]] = {}
    for one in directions:
        calls.setdefault(one.call_id, (one.started_us, []))[1].append(acceptable(one, site.targets))
    return [
        (moments_of(site, started_us, seconds), False not in found)
        for started_us, found in calls.values()
        if False in found or None not in found
    ]


def moments_of(site: Site, started_us: int, seconds: float) -> tuple[Moment, ...]:
    at = moment_at(site, started_us)
    return moments_between(at.day, at.minute, seconds)
