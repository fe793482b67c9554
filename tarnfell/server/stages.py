"""Where a site stands in the order of the work, and the one thing to do next."""

from __future__ import annotations

from collections.abc import Sequence

from tarnfell.core.verdict.site import Evaluation
from tarnfell.server.models.engagements import NextStep
from tarnfell.server.models.sites import Stage
from tarnfell.store.places import FarEnd
from tarnfell.store.plans import Plan
from tarnfell.store.probes import Probe
from tarnfell.store.runs import Run
from tarnfell.store.sites import Site
from tarnfell.work.placing.presence import is_online


def next_step(
    evaluation: Evaluation,
    site: Site,
    probes: Sequence[Probe],
    far_ends: Sequence[FarEnd],
    open_runs: Sequence[Run],
    drafts: Sequence[Plan] = (),
) -> NextStep:
    """The next step and why, from what is there and what is missing."""
    verdict = evaluation.verdict
    if site.archived_us is not None:
        return NextStep(
            words="Restore this site to go on with it",
            why="It is archived; everything of it is kept.",
            action="archive",
            label="Restore",
        )
    if open_runs:
        run = open_runs[-1]
        return NextStep(
            words="Watch the run until both directions flow",
            why=f"{run.calls} {'call is' if run.calls == 1 else 'calls are'} being placed now.",
            action="open-run",
            label="Open the run",
            run_id=run.id,
        )
    online = any(is_online(p) for p in probes)
    missing = None if verdict.calls else _placing(probes, far_ends)
    if missing:
        return missing
    if drafts:
        return NextStep(
            words=f"Schedule the draft “{drafts[0].name}”",
            why="It was prepared and will not run until it has a time.",
            action="plan",
            label="Open the plans",
        )
    if verdict.calls == 0 and any(not cause.network for cause in evaluation.causes):
        why = "What was placed so far was spoiled by one end’s own machine and does not count. The runs say how."
        return NextStep(words="Place the calls again", why=why, action="load", label="Place calls")
    if verdict.calls == 0:
        why = "There is no evidence yet. One minute shows whether both directions carry audio."
        return NextStep(words="Place the first calls", why=why, action="load", label="Place calls")
    if verdict.word == "not ready":
        return _mend(evaluation)
    if verdict.word == "not shown yet":
        return _close(evaluation, online)
    if verdict.missing:
        why = f"Still short of the brief: {', '.join(verdict.missing)}."
        return NextStep(words="Let the test calls continue", why=why, action="plan", label="Open the plans")
    conditions = [r.title for r in verdict.requirements if r.state != "shown"]
    why = f"Conditions: {'; '.join(conditions)}." if conditions else "The evidence covers the brief."
    return NextStep(words="Read and issue the report", why=why, action="report", label="Open the report")


def _mend(evaluation: Evaluation) -> NextStep:
    """What was shown not to hold must change first: the costliest cause, by whom."""
    if not evaluation.faults:
        reason = evaluation.verdict.reasons[0]
        return NextStep(words="Read what fails", why=reason, action="report", label="Open the report")
    top = evaluation.faults[0]
    return NextStep(
        words=f"Send the report to {top.who}",
        why=f"{top.title}: {top.calls_hit} of {top.calls} {top.of}.",
        action="report",
        label="Open the report",
    )


def _close(evaluation: Evaluation, online: bool) -> NextStep:
    """The first open requirement that stops calls, and the evidence that closes it."""
    first = next(r for r in evaluation.verdict.requirements if r.stops and r.state == "open")
    why = f"{first.title}: {first.says} To close it: {first.closes[:1].lower()}{first.closes[1:]}"
    if not online:
        return NextStep(words="Bring the probe back online", why=why, action="place", label="Open test points")
    words = {
        "capacity": f"Schedule {evaluation.brief.needed_calls} concurrent calls in business hours",
        "video": "Schedule the brief’s video beside calls",
    }.get(first.key, "Schedule recurring calls in business hours")
    return NextStep(words=words, why=why, action="plan", label="Open the plans")


def _placing(probes: Sequence[Probe], far_ends: Sequence[FarEnd]) -> NextStep | None:
    """What stands between a new site and its first call."""
    enrolled = [p for p in probes if p.enrolled_us is not None]
    if not probes:
        words, why = (
            "Place a probe at the site",
            "Calls are placed from inside: choose a test point, send a link.",
        )
    elif not enrolled:
        words, why = (
            f"Get {probes[0].name} running",
            "It has never been online. Somebody at the site must open its link.",
        )
    elif not far_ends:
        words, why = (
            "Choose where calls are answered",
            "Best where they will really be answered later.",
        )
    elif not any(is_online(p) for p in enrolled):
        words, why = f"Find out why {enrolled[0].name} is offline", "It was online before."
    else:
        return None
    return NextStep(words=words, why=why, action="place", label="Open test points")


def stages(evaluation: Evaluation, site: Site, probes: Sequence[Probe], open_runs: Sequence[Run]) -> list[Stage]:
    """The spine: each stage that exists, with where it stands in a few words."""
    verdict = evaluation.verdict
    return [
        Stage(key="brief", title="Brief", stands=_brief(site), done=True),
        Stage(key="place", title="Place", stands=_place(probes), done=any(is_online(p) for p in probes)),
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
    return f"{site.needed_calls} concurrent calls, {site.required_share_pct:g} % at {site.target_mos:.1f} MOS"


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


def _load(evaluation: Evaluation, site: Site, open_runs: Sequence[Run]) -> str:
    if open_runs:
        return "a run is in progress"
    capacity, needed = evaluation.verdict.capacity, site.needed_calls
    if not capacity.steps or capacity.steps[-1].concurrent < 2 <= needed:
        return "no concurrent calls yet"
    return f"{capacity.sustained or 'none'} of {needed} concurrent calls shown"


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
