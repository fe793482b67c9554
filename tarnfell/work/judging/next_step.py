"""The one thing to do next at a site, and why, from what is there and what is missing."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

from tarnfell.core.verdict.capacity import concurrent_words
from tarnfell.core.verdict.site import Evaluation
from tarnfell.store.places import FarEnd
from tarnfell.store.plans import Plan
from tarnfell.store.probes import Probe
from tarnfell.store.runs import Run
from tarnfell.store.sites import Site
from tarnfell.work.placing.presence import is_online

Action = Literal["place", "load", "plan", "report", "open-run", "archive"]


@dataclass(frozen=True)
class NextStep:
    words: str
    why: str
    action: Action
    """Which button does it: go to the place screen, place calls, and so on."""
    label: str
    run_id: int | None = None


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
        why=f"{top.headline}.",
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
        "capacity": f"Schedule {concurrent_words(evaluation.brief.needed_calls)} in business hours",
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
