"""Where a site stands in the order of the work, stage by stage in a few words."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

from tarnfell.core.check.values import Judged
from tarnfell.core.verdict.capacity import concurrent_words
from tarnfell.core.verdict.site import Evaluation
from tarnfell.store.probes import Probe
from tarnfell.store.runs import Run
from tarnfell.store.sites import Site
from tarnfell.work.placing.presence import is_online

Key = Literal["brief", "place", "check", "load", "watch", "judge", "report"]


@dataclass(frozen=True)
class Stage:
    key: Key
    title: str
    stands: str
    done: bool


def stages(
    evaluation: Evaluation, site: Site, probes: Sequence[Probe], open_runs: Sequence[Run], check: Judged | None
) -> list[Stage]:
    """The spine: each stage that exists, with where it stands in a few words. ``check`` is the newest that is done."""
    verdict = evaluation.verdict
    return [
        Stage(key="brief", title="Brief", stands=_brief(site), done=True),
        Stage(key="place", title="Place", stands=_place(probes), done=any(is_online(p) for p in probes)),
        Stage(key="check", title="Check", stands=_check(check), done=check is not None and not _failed(check)),
        Stage(
            key="load",
            title="Load",
            stands=_load(evaluation, site, open_runs),
            done=verdict.capacity.state_at(site.needed_calls) == "shown",
        ),
        Stage(
            key="watch",
            title="Watch",
            stands=_watch(evaluation, site),
            done=_watched(evaluation, site),
        ),
        Stage(key="judge", title="Judge", stands=_judge(evaluation), done=verdict.calls > 0),
        Stage(
            key="report",
            title="Report",
            stands=_report(evaluation),
            done=False,
        ),
    ]


def _brief(site: Site) -> str:
    return f"{concurrent_words(site.needed_calls)}, {site.required_share_pct:g} % at {site.target_mos:.1f} MOS"


def _place(probes: Sequence[Probe]) -> str:
    if not probes:
        return "no probe yet"
    if all(p.enrolled_us is None for p in probes):
        return "link sent, never online"
    online = sum(is_online(p) for p in probes)
    count = f"{len(probes)} {'probe' if len(probes) == 1 else 'probes'}"
    if online == len(probes):
        return f"{count} online"
    return f"{count}, {online} online" if online else f"{count}, offline"


def _check(check: Judged | None) -> str:
    if check is None:
        return "not checked yet"
    failed = _failed(check)
    if failed:
        return f"{failed} of {len(check.rungs)} rungs failed"
    return f"{sum(rung.state == 'passed' for rung in check.rungs)} of {len(check.rungs)} rungs passed"


def _failed(check: Judged) -> int:
    return sum(rung.state == "failed" for rung in check.rungs)


def _load(evaluation: Evaluation, site: Site, open_runs: Sequence[Run]) -> str:
    if open_runs:
        return "a run is in progress"
    capacity, needed = evaluation.verdict.capacity, site.needed_calls
    if not capacity.steps or capacity.steps[-1].concurrent < 2 <= needed:
        return "no concurrent calls yet"
    return f"{capacity.sustained or 'none'} of {concurrent_words(needed)} shown"


def _report(evaluation: Evaluation) -> str:
    verdict = evaluation.verdict
    if not verdict.calls:
        return "nothing to report yet"
    return f"{range_words(verdict.low, verdict.high)} of 100, {verdict.word}"


def range_words(low: int, high: int) -> str:
    return str(low) if low == high else f"{low} to {high}"


def _watch(evaluation: Evaluation, site: Site) -> str:
    verdict = evaluation.verdict
    if _watched(evaluation, site):
        return f"{_days(str(verdict.days))}, {_hours(str(verdict.busy_hours))}"
    days, hours = f"{verdict.days} of {site.required_days}", f"{verdict.busy_hours} of {site.required_busy_hours}"
    return f"{_days(days)}, {_hours(hours)}"


def _days(count: str) -> str:
    return f"{count} {'day' if count.split()[-1] == '1' else 'days'}"


def _hours(count: str) -> str:
    return f"{count} busy {'hour' if count.split()[-1] == '1' else 'hours'}"


def _watched(evaluation: Evaluation, site: Site) -> bool:
    verdict = evaluation.verdict
    return verdict.days >= site.required_days and verdict.busy_hours >= site.required_busy_hours


def _judge(evaluation: Evaluation) -> str:
    requirements = evaluation.verdict.requirements
    if not evaluation.verdict.calls:
        return "nothing to judge yet"
    shown = sum(r.state == "shown" for r in requirements)
    failed = sum(r.state == "shown not" for r in requirements)
    return f"{shown} of {len(requirements)} requirements shown" + (f", {failed} not met" if failed else "")
