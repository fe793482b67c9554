"""Where a site stands in the order of the work, and the one thing to do next."""

from __future__ import annotations

from collections.abc import Sequence

from tarnfell.core.site import Evaluation
from tarnfell.server.models.engagements import NextStep
from tarnfell.server.models.sites import Stage
from tarnfell.server.presence import is_heard
from tarnfell.store.places import FarEnd
from tarnfell.store.plans import Plan
from tarnfell.store.probes import Probe
from tarnfell.store.runs import Run
from tarnfell.store.sites import Site


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
            words="Take this site out of the archive to go on with it",
            why="It was put away; everything of it is kept.",
            action="archive",
            label="Take it out",
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
    heard = any(is_heard(p) for p in probes)
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
    if verdict.calls == 0 and evaluation.tainted_calls:
        why = "What was placed so far was spoiled by one end's own machine, and counts into nothing. The runs say how."
        return NextStep(words="Place the calls again", why=why, action="load", label="Place calls")
    if verdict.calls == 0:
        why = "There is no evidence yet. One minute shows whether both directions flow at all."
        return NextStep(words="Place the first calls", why=why, action="load", label="Place calls")
    if verdict.word == "not ready" and evaluation.findings:
        top = evaluation.findings[0]
        words = f"Report what was found and have it mended by {top.who}"
        return NextStep(
            words=words,
            why=f"{top.title}. It costs {top.calls_hit} of {top.calls} calls.",
            action="report",
            label="Open the report",
        )
    if verdict.sustained_calls is None or verdict.sustained_calls < site.needed_calls:
        held = verdict.sustained_calls or 0
        why = f"{site.needed_calls} calls at once are needed and {held} are shown to hold."
        if heard:
            words = f"Hold {site.needed_calls} calls at once in business hours"
            return NextStep(words=words, why=why, action="load", label="Place calls")
    if verdict.missing:
        why = f"Still short: {', '.join(verdict.missing)}."
        return NextStep(words="Read the report as it stands", why=why, action="report", label="Open the report")
    return NextStep(
        words="Issue the report",
        why="The evidence covers the brief.",
        action="report",
        label="Open the report",
    )


def _placing(probes: Sequence[Probe], far_ends: Sequence[FarEnd]) -> NextStep | None:
    """What stands between a new site and its first call."""
    enrolled = [p for p in probes if p.enrolled_us is not None]
    if not probes:
        words, why = (
            "Place a probe at the site",
            "Calls are placed from inside: choose a spot, send a link.",
        )
    elif not enrolled:
        words, why = f"Get {probes[0].name} running", "It has not been heard yet. Somebody at the site opens its link."
    elif not far_ends:
        words, why = (
            "Choose where calls are answered",
            "Best where they will really be answered later.",
        )
    elif not any(is_heard(p) for p in enrolled):
        words, why = f"Find out why {enrolled[0].name} is silent", "It was heard before and is not heard now."
    else:
        return None
    return NextStep(words=words, why=why, action="place", label="Open its places")


def stages(evaluation: Evaluation, site: Site, probes: Sequence[Probe], open_runs: Sequence[Run]) -> list[Stage]:
    """The spine: each stage that exists, with where it stands in a few words."""
    verdict = evaluation.verdict
    return [
        Stage(key="brief", title="Brief", stands=_brief(site), done=True),
        Stage(key="place", title="Place", stands=_place(probes), done=any(is_heard(p) for p in probes)),
        Stage(
            key="load",
            title="Load",
            stands=_load(evaluation, site, open_runs),
            done=verdict.sustained_calls is not None,
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
            stands="nothing to report yet" if verdict.score is None else f"{verdict.score} of 100, {verdict.word}",
            done=False,
        ),
    ]


def _brief(site: Site) -> str:
    return f"{site.needed_calls} calls at once, {site.required_share_pct:g} % at {site.target_mos:.1f} MOS"


def _place(probes: Sequence[Probe]) -> str:
    if not probes:
        return "no probe yet"
    if all(p.enrolled_us is None for p in probes):
        return "link sent, not heard yet"
    heard = sum(is_heard(p) for p in probes)
    count = f"{len(probes)} {'probe' if len(probes) == 1 else 'probes'}"
    if heard == len(probes):
        return f"{count}, heard just now"
    return f"{count}, {heard} heard" if heard else f"{count}, silent now"


def _load(evaluation: Evaluation, site: Site, open_runs: Sequence[Run]) -> str:
    if open_runs:
        return "a run is on"
    sustained, needed = evaluation.verdict.sustained_calls, site.needed_calls
    return "no run of several calls yet" if sustained is None else f"{sustained} calls held, {needed} needed"


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
    found = len(evaluation.findings)
    if not evaluation.verdict.calls:
        return "nothing to judge yet"
    return "nothing wrong found" if not found else f"{found} {'finding' if found == 1 else 'findings'}"
