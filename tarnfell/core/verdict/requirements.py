"""Each requirement of the brief: shown, shown not, or open, with its figure and the evidence that would close it.

Untried is open, never failed. A requirement that stops calls decides between ready and not; the others are conditions.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal, cast

from tarnfell.core.verdict.capacity import Capacity, State, concurrent_words
from tarnfell.core.verdict.facts import Brief, VideoFact
from tarnfell.core.verdict.fills import UnderLoad
from tarnfell.core.verdict.moments import (
    NO_SHARE,
    Share,
    Tallies,
    Watched,
    good_moments_more,
    share_of,
    tally,
    with_watches,
)
from tarnfell.core.verdict.readings import (
    MARKING_KEPT_PCT,
    MEASURES,
    CallReading,
    Reading,
    kept_bounds,
    tally_calls,
    tally_streams,
)
from tarnfell.core.verdict.told import Told

RequirementKey = Literal[
    "share", "capacity", "max_delay_ms", "max_loss_pct", "max_variation_ms", "reachability", "video", "steadiness",
    "marking", "load",
]  # fmt: skip

STEADY_PCT = 98.5
"""Share of ten-minute moments, day and night, below which a site is not steady: 2.5 hours of trouble a week."""


@dataclass(frozen=True)
class Requirement:
    key: RequirementKey
    title: str
    state: State
    stops: bool
    """Whether calls cannot go on without it; otherwise it is a condition."""
    says: str
    closes: str
    """What would close it where it is open; else empty."""


@dataclass(frozen=True)
class Shares:
    """The shares that requirements and score both read."""

    busy: Tallies
    """Calls within business hours."""
    always: Tallies
    """Calls at any time."""
    steady: Tallies
    """Day and night, by calls and by watches."""
    two_way: Tallies
    """Whether both directions carried audio. A call that was bad otherwise speaks for nothing here."""
    placed: int
    """Calls that were placed, good or bad."""
    streams: Tallies


def shares_of(
    calls: Sequence[CallReading], video: Sequence[VideoFact], brief: Brief, watches: Sequence[Watched] = ()
) -> Shares:
    always = tally_calls(calls)
    return Shares(
        busy=tally_calls(c for c in calls if c.busy),
        always=always,
        steady=with_watches(always, watches),
        two_way=tally(
            (c.moments, not c.silent, float(not c.silent))
            for c in calls
            if not c.down and (c.silent or c.good is not False)
        ),
        placed=sum(not c.down for c in calls),
        streams=tally_streams(video, brief),
    )


def state_of(share: Share, required_pct: float) -> State:
    if share.low_pct >= required_pct:
        return "shown"
    return "shown not" if share.high_pct < required_pct else "open"


def requirements_of(
    readings: Sequence[Reading],
    calls: Sequence[CallReading],
    shares: Shares,
    capacity: Capacity,
    brief: Brief,
    enough: bool,
    load: UnderLoad,
    closed: Sequence[Told],
) -> tuple[Requirement, ...]:
    """In the order a reader asks. ``enough``: the evidence is as much as the brief asks for; ``closed`` is what a check
    found closed."""
    found = [
        _share(calls, shares, brief, enough),
        _capacity(capacity, brief),
        *_bounds(readings, brief, enough),
        _reachability(shares, brief, closed),
    ]
    if brief.video:
        found.append(_video(shares, brief))
    return (*found, _steadiness(shares, brief), _marking(readings), _load(load, brief))


def _share(calls: Sequence[CallReading], shares: Shares, brief: Brief, enough: bool) -> Requirement:
    title = f"{brief.required_share_pct:g} % of calls acceptable in business hours"
    share = share_of(shares.busy)
    state = state_of(share, brief.required_share_pct)
    unknown = sum(c.good is None and c.busy for c in calls)
    closes = ""
    if state == "open":
        more = good_moments_more(shares.busy, brief.required_share_pct)
        closes = f"{more} more ten-minute moments of business hours with calls, none bad."
        if unknown:
            closes += f" {unknown} calls count neither way while their delay is not known."
    if share.pct is None:
        outside = share_of(shares.always)
        said = "No call in business hours counts yet."
        if outside.pct is not None:
            said += f" Outside them {share_words(outside, brief.required_share_pct)}."
        return Requirement("share", title, "open", True, said, closes)
    # With all the evidence asked for and the share met as observed, what is left is its certainty.
    uncertain = enough and not unknown and _met_as_observed(share, brief)
    return Requirement("share", title, state, not uncertain, f"{share_words(share, brief.required_share_pct)}.", closes)


def _met_as_observed(share: Share, brief: Brief) -> bool:
    """Not certain, and on the right side."""
    return state_of(share, brief.required_share_pct) == "open" and (share.pct or 0.0) >= brief.required_share_pct


def bounds_words(share: Share, required_pct: float) -> str:
    """The end of the interval that decides, or both where neither does."""
    state = state_of(share, required_pct)
    ends = {
        "shown": f"at least {share.low_pct:.1f} %",
        "shown not": f"at most {share.high_pct:.1f} %",
        "open": f"{share.low_pct:.1f} to {share.high_pct:.1f} %",
    }
    return f"{ends[state]} at 95 % confidence"


def _moments(count: int) -> str:
    return f"{count} ten-minute {'moment' if count == 1 else 'moments'}"


def share_words(share: Share, required_pct: float) -> str:
    return (
        f"{share.good} of {share.calls} calls were acceptable, in {_moments(share.moments)} of {share.days} "
        f"{'day' if share.days == 1 else 'days'}: {share.pct:.1f} %, {bounds_words(share, required_pct)}"
    )


def _capacity(capacity: Capacity, brief: Brief) -> Requirement:
    need = brief.needed_calls
    title = concurrent_words(need)
    state = capacity.state_at(need)
    step = capacity.step_for(need)
    tried = max((s.concurrent for s in capacity.steps), default=0)
    if state == "shown":
        return Requirement(
            "capacity", title, state, True, f"Shown: {concurrent_words(capacity.sustained or need)}.", ""
        )
    if state == "shown not":
        failing = next(s for s in capacity.steps if s.concurrent == capacity.fails_at)
        return Requirement(
            "capacity",
            title,
            state,
            True,
            f"At {concurrent_words(failing.concurrent)} at most "
            f"{failing.high_pct:.1f} % are acceptable, "
            f"{brief.required_share_pct:g} % required; {capacity.sustained or 'no number'} shown.",
            "",
        )
    more = capacity.more_moments(need, brief.required_share_pct)
    said = f"At most {tried} concurrent in business hours so far." if tried else "Not tried in business hours yet."
    if step:
        said = (
            f"{step.share.good} of {step.share.calls} calls at {step.concurrent} concurrent were acceptable, in "
            f"{_moments(step.share.moments)}: {step.low_pct:.1f} to {step.high_pct:.1f} % at 95 % confidence."
        )
    if capacity.sustained:
        said += f" Shown: {capacity.sustained}."
    closes = f"{more} more ten-minute moments of business hours with {concurrent_words(need)}, none bad."
    return Requirement("capacity", title, "open", True, said, closes)


def _bounds(readings: Sequence[Reading], brief: Brief, enough: bool) -> list[Requirement]:
    """Each bound beside the MOS, over directions of calls in business hours."""
    busy = [r for r in readings if r.fact.busy]
    found = []
    for kept in kept_bounds(busy, brief):
        key = cast(RequirementKey, kept.bound.key)
        values = [(r, getattr(r.fact, MEASURES[key])) for r in busy if r.fact.received > 0]
        share = share_of(tally((r.fact.moments, v <= kept.asked, 0.0) for r, v in values if v is not None))
        state = state_of(share, brief.required_share_pct)
        unit = kept.bound.unit
        said = "Not known of any call yet."
        if kept.p95 is not None:
            said = f"Kept by {kept.kept} of {kept.known} directions of calls; 95th percentile {kept.p95:.1f} {unit}."
        if kept.unknown:
            said += f" Not known of {kept.unknown}."
        closes = ""
        if state == "open":
            short = kept.unknown > kept.known
            closes = (
                "Answered time stamps between probe and far end, or RTCP: without either the delay is not known."
                if short
                else "More moments of business hours with calls, as for the share."
            )
        uncertain = enough and not kept.unknown and _met_as_observed(share, brief)
        title = f"{kept.bound.title}: at most {kept.asked:g} {unit}"
        found.append(Requirement(key, title, state, not uncertain, said, closes))
    return found


def _reachability(shares: Shares, brief: Brief, closed: Sequence[Told]) -> Requirement:
    title = "Audio in both directions, and all that calls need open"
    share = share_of(shares.two_way)
    if closed:
        said = " ".join(dict.fromkeys(one.sentence for one in closed))
        return Requirement("reachability", title, "shown not", True, said, "")
    if not shares.placed:
        return Requirement("reachability", title, "open", True, "No call counts yet.", "One call.")
    silent = share.calls - share.good
    if not silent:
        return Requirement("reachability", title, "shown", True, f"Both directions in all {shares.placed} calls.", "")
    state: State = "shown not" if share.high_pct < brief.required_share_pct else "open"
    said = f"{silent} of {shares.placed} calls carried no audio in at least one direction."
    closes = "" if state != "open" else "The cause found and removed, then calls placed again."
    return Requirement("reachability", title, state, True, said, closes)


def _video(shares: Shares, brief: Brief) -> Requirement:
    title = f"{brief.required_share_pct:g} % of video streams at picture score {brief.target_picture:.1f}"
    share = share_of(shares.streams)
    state = state_of(share, brief.required_share_pct)
    if share.pct is None:
        said = "No video stream counts yet."
    else:
        said = (
            f"{share.good} of {share.calls} streams in {_moments(share.moments)}: "
            f"{bounds_words(share, brief.required_share_pct)}."
        )
    closes = ""
    if state == "open":
        more = good_moments_more(shares.streams, brief.required_share_pct)
        closes = f"{more} more ten-minute moments with the brief’s video, none bad."
    # Below its bound video degrades and calls go on; asked for and never shown, nobody can say ready.
    return Requirement("video", title, state, state == "open", said, closes)


def _steadiness(shares: Shares, brief: Brief) -> Requirement:
    title = "Steady over days, day and night"
    share = share_of(shares.steady)
    state = state_of(share, STEADY_PCT)
    if share.pct is None:
        says = "No call counts yet, and no watch has been read."
        return Requirement("steadiness", title, "open", False, says, _days(NO_SHARE, brief))
    if state == "shown" and share.days < brief.required_days:
        state = "open"
    least, most = 100 - share.high_pct, 100 - share.low_pct
    troubled = {
        "shown": f"at most {most:.1f} %",
        "shown not": f"at least {least:.1f} %",
        "open": f"{least:.1f} to {most:.1f} %",
    }
    said = (
        f"{100 - share.pct:.1f} % of {share.moments} watched ten-minute moments troubled "
        f"({troubled[state_of(share, STEADY_PCT)]} at 95 % confidence), on {share.days} "
        f"{'day' if share.days == 1 else 'days'}; at most {100 - STEADY_PCT:g} % is steady."
    )
    return Requirement("steadiness", title, state, False, said, _days(share, brief) if state == "open" else "")


def _days(share: Share, brief: Brief) -> str:
    short = brief.required_days - share.days
    if short > 0:
        return f"{short} more {'day' if short == 1 else 'days'} with a watch, or a short call every ten minutes."
    return "More days with a watch, or a short call every ten minutes."


def _marking(readings: Sequence[Reading]) -> Requirement:
    title = "Priority marking arrives as sent"
    kept = kept_marking_pct(readings)
    if kept is None:
        return Requirement("marking", title, "open", False, "No marked call counts yet.", "A call marked EF (DSCP 46).")
    state: State = "shown" if kept >= MARKING_KEPT_PCT else "shown not"
    return Requirement("marking", title, state, False, f"{kept:.1f} % of packets arrived marked as sent.", "")


def kept_marking_pct(readings: Sequence[Reading]) -> float | None:
    """Mean over directions of marked calls; None where none was marked. DSCP 0 is no marking.

    A call that was bad otherwise speaks against marking only.
    """
    marked = [(r.fact.dscp_kept_pct, r.good) for r in readings if r.fact.dscp_sent and r.fact.dscp_kept_pct is not None]
    telling = [kept for kept, good in marked if good is not False or kept < MARKING_KEPT_PCT]
    kept = telling or [kept for kept, _ in marked]
    return sum(kept) / len(kept) if kept else None


def _load(load: UnderLoad, brief: Brief) -> Requirement:
    title = "Calls while the line is full"
    if load.least is None:
        says, closes = "The line has not been filled beside calls yet.", "A line fill in each direction."
        return Requirement("load", title, "open", False, says, closes)
    held = [f"{mos:.2f} MOS with a full {'upload' if way == 'up' else 'download'}" for way, mos in load.worst.items()]
    fills = f"{load.fills} line {'fill' if load.fills == 1 else 'fills'}"
    says = f"At worst {' and '.join(held)}, in {fills}; {brief.target_mos:.1f} is asked."
    if load.least < brief.target_mos:
        return Requirement("load", title, "shown not", False, says, "")
    if not load.whole:
        return Requirement("load", title, "open", False, says, "A line fill in the other direction.")
    return Requirement("load", title, "shown", False, says, "")
