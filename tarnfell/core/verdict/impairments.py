"""Causes of calls that were carried and not good enough: queues, loss, scatter, distance, changed marking."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from tarnfell.core.causes import LEG_WORDS, WAY_WORDS, CauseKey, Direction
from tarnfell.core.figures import count
from tarnfell.core.verdict.case import MIN_COMPARED, SPARED, Case, in_words, own_load, way_of
from tarnfell.core.verdict.causes import Cause, owner
from tarnfell.core.verdict.facts import Brief
from tarnfell.core.verdict.moments import Moment
from tarnfell.core.verdict.readings import MARKING_KEPT_PCT, CallReading, Reading, Trouble, standing_ms
from tarnfell.core.verdict.routes import STEP_MS
from tarnfell.core.verdict.when import when

BURSTY_RATIO = 1.5
RADIO_REMEDY = (
    "Every call that suffered was taken over Wi-Fi: measure the signal at this test point, move it or the access "
    "point, use 5 or 6 GHz, and put calls on the cable where that can be done."
)


def queue(case: Case) -> Cause:
    added = [standing_ms(r.fact, r.added_ms) for r in case.bad]
    median_ms, most = float(np.median(added)), max(added)
    compared, load = case.compared(), own_load(case)
    way: Direction = "up" if case.direction == "up" else "down"
    says = [
        f"{case.of} missed the brief {in_words(way)} with packets queued for {median_ms:.0f} ms above the idle delay "
        f"(median; worst {most:.0f} ms).",
        when(case.bad),
    ]
    if load and case.brief.call_kbps:
        n, figures = load
        rate, line = n * case.brief.call_kbps, case.brief.line_kbps(way)
        stated = f"; the brief gives the line {count(line)} kbit/s" if line else ""
        return case.cause(
            "uplink-small" if way == "up" else "downlink-small",
            compared.leg,
            f"Concurrent calls fill the {WAY_WORDS[case.direction]} by themselves from {n} on",
            [*says, f"It follows the calls’ own number: {figures}", *compared.says],
            (
                f"Not other traffic: below {n} concurrent calls the delay stayed low at the same times of day.",
                f"{n} calls take {count(rate)} kbit/s on the line{stated}.",
            ),
            "Raise the rate of the narrowest link or choose a leaner codec; priority cannot create capacity.",
            owner(case.brief, compared.leg),
        )
    key: CauseKey = "uplink-queue" if way == "up" else "downlink-queue"
    if compared.leg == "inside":
        key = "inside-congested"
    elif compared.leg == "beyond":
        key = "beyond-congested"
    lost = float(np.mean([r.fact.loss_pct or 0.0 for r in case.bad]))
    alternatives = [
        f"Not distance: {median_ms:.0f} ms of the delay comes and goes (median); distance does not.",
        f"{lost:.1f} % of these calls’ packets were lost, which a full queue explains as well as a fault does.",
        *compared.says,
    ]
    other = _opposite_added(case)
    if other is not None:
        alternatives.append(
            f"The other direction of the same calls gained {other:.0f} ms (median): "
            + ("it is one direction’s queue." if other < median_ms / 2 else "both directions queue together.")
        )
    remedy = {
        "inside": "Find the link inside that is congested (switch uplink, access point) and give EF-marked media "
        "priority there.",
        "beyond": "Show the far end’s provider these times; a second far end is spared, so the queue is not the "
        "site’s.",
    }.get(
        compared.leg,
        "Find the congested link: sample gateway and provider’s edge at these times. If it is the line, shape it "
        f"at the router to 90–95 % of its rate {in_words(way)} with fair queueing, EF-marked media first.",
    )
    return case.cause(
        key,
        compared.leg,
        f"{WAY_WORDS[case.direction].capitalize()} packets queue for {median_ms:.0f} ms {LEG_WORDS[compared.leg]}",
        says,
        alternatives,
        remedy,
        owner(case.brief, compared.leg),
    )


def _opposite_added(case: Case) -> float | None:
    ids = {r.fact.call_id for r in case.bad}
    found = [
        r.added_ms
        for r in case.site
        if r.fact.call_id in ids and r.fact.direction != case.direction and r.added_ms is not None
    ]
    return float(np.median(found)) if found else None


def loss(case: Case) -> Cause:
    loss = [r.fact.loss_pct or 0.0 for r in case.bad]
    ratio = float(np.median([r.fact.burst_ratio for r in case.bad]))
    compared, load = case.compared(), own_load(case)
    standing = float(np.median([standing_ms(r.fact, r.added_ms) for r in case.bad]))
    says = [
        f"{case.of} lost packets beyond the brief: median {np.median(loss):.1f} %, worst {max(loss):.1f} %; "
        f"burst ratio {ratio:.1f}.",
        when(case.bad),
    ]
    if load:
        n, figures = load
        return case.cause(
            "policed",
            compared.leg,
            f"Packets are dropped from {n} concurrent calls on, without added delay",
            [*says, f"It follows the calls’ own number: {figures}"],
            (
                f"Not a queue: packets of these calls waited {standing:.0f} ms (median) while others were dropped.",
                f"Not a faulty link: below {n} concurrent calls it did not happen.",
                *compared.says,
            ),
            "Ask for the rate limit on this traffic (a policer on the line, the router or the marking’s class) and "
            "have it raised above the calls’ rate.",
            owner(case.brief, compared.leg),
        )
    key: CauseKey = "line-loss"
    if compared.leg == "inside":
        key = "inside-radio" if case.by_radio else "inside-cable"
    elif compared.leg == "beyond":
        key = "beyond-loss"
    kind = "in bursts" if ratio >= BURSTY_RATIO else "one by one"
    return case.cause(
        key,
        compared.leg,
        f"Packets are lost {kind} {LEG_WORDS[compared.leg]} ({WAY_WORDS[case.direction]})",
        says,
        (
            f"Not a standing queue: packets that arrived had waited {standing:.0f} ms (median).",
            "Not the calls’ own load: it does not follow how many were concurrent."
            if len({r.fact.concurrent for r in case.same}) > 1
            else "Whether it follows the calls’ own load is open: one number of concurrent calls was tried.",
            *compared.says,
        ),
        RADIO_REMEDY
        if key == "inside-radio"
        else "Read the error counters on both sides of each link, from the test point outwards; where they are clean "
        "as far as the router, the line’s provider must read theirs.",
        owner(case.brief, compared.leg),
    )


def late(case: Case) -> Cause:
    swing = [r.fact.pdv_p99_ms for r in case.bad if r.fact.pdv_p99_ms is not None]
    jitter = float(np.median([r.fact.jitter_ms for r in case.bad]))
    late = float(np.median([r.fact.late_pct or 0.0 for r in case.bad]))
    compared = case.compared()
    radio = compared.leg == "inside" and case.by_radio
    return case.cause(
        "inside-radio" if radio else "delay-swings",
        compared.leg,
        f"Delay varies by {np.median(swing) if swing else 0:.0f} ms, more than the brief allows "
        f"({WAY_WORDS[case.direction]})",
        (
            f"{case.of} had {late:.1f} % of packets too late for the receiver’s buffer (median); the 99th percentile "
            f"of packet delay variation was {np.median(swing) if swing else 0:.0f} ms, jitter {jitter:.1f} ms.",
            when(case.bad),
        ),
        (
            "Not one standing queue: consecutive packets differ by "
            f"{jitter:.1f} ms (median jitter), a queue changes slowly.",
            *compared.says,
        ),
        RADIO_REMEDY
        if radio
        else "Look first at radio links (Wi-Fi, a bridge) and at links that are briefly full; give EF-marked media "
        "priority there. A deeper receive buffer hides it at the price of delay.",
        owner(case.brief, compared.leg),
    )


def far(case: Case) -> Cause:
    delay = float(np.median([r.fact.delay_p50_ms or 0.0 for r in case.bad]))
    ear = float(np.median([r.fact.mouth_to_ear_ms or 0.0 for r in case.bad]))
    added = float(np.median([r.added_ms or 0.0 for r in case.bad]))
    lost = float(np.mean([r.fact.loss_pct or 0.0 for r in case.bad]))
    compared = case.compared()
    return case.cause(
        "far-away",
        "beyond" if compared.leg == "beyond" else "unknown",
        f"The far end is {delay:.0f} ms away, too far for conversation",
        (f"{case.of} had {delay:.0f} ms of one-way delay, {ear:.0f} ms mouth-to-ear (medians).",),
        (
            f"Not a queue: the delay stood {added:.0f} ms (median) above its own idle value.",
            f"Not loss: {lost:.2f} % of these calls’ packets were lost.",
            *compared.says,
        ),
        "Use a far end closer to the site, or have the provider’s route to it checked for a detour.",
        owner(case.brief, "beyond"),
        dimensions=("voice", "steadiness"),
    )


def detour(case: Case) -> Cause:
    """Calls too far away for conversation on a route that is not the shortest seen between the same ends."""
    added = float(np.median([r.detour_ms for r in case.bad]))
    ear = float(np.median([r.fact.mouth_to_ear_ms or 0.0 for r in case.bad]))
    spread = float(np.median([r.fact.pdv_p95_ms or 0.0 for r in case.bad]))
    lost = float(np.mean([r.fact.loss_pct or 0.0 for r in case.bad]))
    ends = {(r.fact.probe_id, r.fact.far_end_id) for r in case.bad}
    short = [
        r for r in case.same if (r.fact.probe_id, r.fact.far_end_id) in ends and r.detour_ms <= STEP_MS and r.trouble
        is not Trouble.DOWN
    ]  # fmt: skip
    good = sum(r.good is True for r in short)
    first = min((r.fact for r in case.bad), key=lambda f: (f.day, f.minute))
    compared = case.compared()
    return case.cause(
        "route-changed",
        "beyond" if compared.leg == "beyond" else "unknown",
        f"The route changed: {added:.0f} ms longer one way, too far for conversation",
        (
            f"{case.of} ran over a longer route, {added:.0f} ms more one way, {ear:.0f} ms mouth-to-ear (medians); "
            f"first seen {first.day} {int(first.minute) // 60:02d}:{int(first.minute) % 60:02d}.",
            when(case.bad),
        ),
        (
            f"Not a queue: within these calls the 95th percentile of packet delay variation was {spread:.0f} ms "
            f"(median) and {lost:.2f} % of packets were lost; the delay stood at a new level.",
            f"Not distance alone: on the shorter route between the same ends {good} of {len(short)} directions of "
            "calls were acceptable.",
            *compared.says,
        ),
        "Show the line’s provider when the delay stepped up and ask for the shorter route; record the path at both "
        "times.",
        owner(case.brief, "beyond"),
    )


def marking(readings: list[Reading], calls: list[CallReading], brief: Brief) -> list[Cause]:
    marked = [r for r in readings if r.fact.dscp_kept_pct is not None and r.fact.dscp_sent]
    changed = [r for r in marked if (r.fact.dscp_kept_pct or 0.0) < MARKING_KEPT_PCT]
    if not changed:
        return []
    way = way_of({r.fact.direction for r in changed})
    case = Case(way, changed, [r for r in marked if way in ("both", r.fact.direction)], readings, calls, brief)
    sent = sorted({r.fact.dscp_sent for r in changed})
    kept = float(np.median([r.fact.dscp_kept_pct or 0.0 for r in changed]))
    compared = case.compared()
    cause = case.cause(
        "marking-changed",
        "unknown",
        f"Priority marking is changed on the path ({WAY_WORDS[way]})",
        (f"In {case.of} packets sent with DSCP {', '.join(map(str, sent))} arrived so in {kept:.0f} % (median).",),
        ("Not the probe: each end records the marking it sent.",),
        "Let switches, access points and router trust the marking of voice; ask the provider what the line carries.",
        owner(brief, compared.leg),
        dimensions=("marking",),
        gain="Priority can act only where the marking arrives; what it would buy is not measured.",
    )
    lost = sum(100.0 - (r.fact.dscp_kept_pct or 0.0) for r in changed) / 100
    return [replace(cause, cost={"marking": lost})]


def priority(readings: list[Reading], calls: list[CallReading], brief: Brief) -> list[Cause]:
    """Marked calls that fared no better than unmarked ones in the very moments in which a queue or loss hurt those."""
    met: dict[tuple[int, int, Direction, Moment], tuple[list[Reading], list[Reading]]] = {}
    for r in readings:
        arrived_marked = r.fact.dscp_sent > 0 and (r.fact.dscp_kept_pct or 0.0) >= MARKING_KEPT_PCT
        if arrived_marked or r.fact.dscp_sent == 0:
            for m in r.fact.moments:
                at = met.setdefault((r.fact.probe_id, r.fact.far_end_id, r.fact.direction, m), ([], []))
                at[0 if arrived_marked else 1].append(r)
    crowded = (Trouble.QUEUE, Trouble.LOSS, Trouble.LATE)
    compared = {
        at: marked for at, (marked, plain) in met.items() if marked and any(r.trouble in crowded for r in plain)
    }
    ignored = [at for at, marked in compared.items() if any(r.trouble in crowded for r in marked)]
    if len(compared) < MIN_COMPARED or len(ignored) < SPARED * len(compared):
        return []
    bad = [r for at in ignored for r in compared[at] if r.trouble in crowded]
    way = way_of({r.fact.direction for r in bad})
    case = Case(way, bad, [r for marked in compared.values() for r in marked], readings, calls, brief)
    cause = case.cause(
        "priority-ignored",
        "unknown",
        f"Priority marking arrives and is not honoured ({WAY_WORDS[way]})",
        (
            f"In {len(ignored)} of the {len(compared)} ten-minute moments in which unmarked calls suffered from a "
            "queue or loss, calls that arrived marked suffered as well.",
        ),
        (f"Not the marking itself: at least {MARKING_KEPT_PCT:g} % of these calls’ packets arrived with it.",),
        "Give the marking a queue of its own where the path is full: at the router towards the line first, then ask "
        "the provider what the line honours.",
        owner(brief, "unknown"),
        gain="What a queue of its own would buy shows by calls placed again, marked and unmarked, in the same minutes.",
    )
    return [replace(cause, cost={})]
