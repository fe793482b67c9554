"""What spoiled calls, from readings: one cause for what belongs together, with its leg only where figures tell it.

Calls between one probe and one far end cannot tell a leg. A second far end or test point measured in the same moments
can: what spares it lies beyond, or before, the point where the ways part (`Comparison`). Whether trouble follows the
number of concurrent calls is read from the loads tried (`own_load`).
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import numpy as np

from tarnfell.core.verdict.causes import (
    LEG_WORDS,
    WAY_WORDS,
    Cause,
    CauseKey,
    Dimension,
    LegName,
    Way,
    firewall_owner,
    owner,
)
from tarnfell.core.verdict.facts import DIRECTIONS, Brief, CallFact, Direction, VideoFact
from tarnfell.core.verdict.moments import Moment
from tarnfell.core.verdict.readings import CallReading, Reading, Trouble, by_call, good_picture, standing_ms
from tarnfell.core.verdict.when import when

MIN_SHARE_PCT = 0.5
"""Trouble in fewer calls than this is told in the figures, not as a cause; outages and silence always are."""
MIN_COST_PCT = 3.0
"""Of what all such trouble costs; less than that beside a larger cause is no cause of its own."""
MARKING_KEPT_PCT = 99.0
BURSTY_RATIO = 1.5
SHOWN_CALLS = 3
SPARED = 0.8
"""Of the moments compared, in which the other way must agree before a leg is told."""
MIN_COMPARED = 3
OWN_LOAD_BAD = 0.5
OWN_LOAD_CLEAR = 0.05
"""Trouble follows the calls' own load where at least half the calls of a load suffer and at most a twentieth below."""
OWN_LOAD_CALLS = 8
"""Fewest calls on each side of that comparison."""


_At = tuple[int, int, Moment]
"""Probe, far end and moment."""


@dataclass(frozen=True)
class Comparison:
    """What other ways met in the very moments in which this one was bad."""

    leg: LegName
    says: tuple[str, ...]


@dataclass(frozen=True)
class Case:
    """The readings one trouble spoils, in one direction or both, among all of the site."""

    direction: Way
    bad: list[Reading]
    same: list[Reading]
    """All readings of the direction or directions."""
    site: list[Reading]
    calls: list[CallReading]
    brief: Brief

    @property
    def hit(self) -> int:
        return len({r.fact.call_id for r in self.bad})

    @property
    def total(self) -> int:
        return len({r.fact.call_id for r in self.same})

    @property
    def of(self) -> str:
        return f"{self.hit} of {self.total} calls"

    def cause(
        self,
        key: CauseKey,
        leg: LegName,
        title: str,
        says: Sequence[str],
        alternatives: Sequence[str],
        remedy: str,
        who: str,
        dimensions: Sequence[Dimension] = ("voice", "steadiness"),
        gain: str | None = None,
    ) -> Cause:
        cost = sum(1.0 - r.worth for r in self.bad)
        costs: dict[Dimension, float] = dict.fromkeys(dimensions, cost)
        if "voice" in costs:
            concurrent = sum(1.0 - r.worth for r in self.bad if r.fact.concurrent > 1)
            if concurrent:
                costs["capacity"] = concurrent
        worst = sorted(self.bad, key=lambda r: (r.worth, r.fact.mos if r.fact.mos is not None else 0.0))
        return Cause(
            key=key,
            leg=leg,
            direction=self.direction,
            title=title,
            says=tuple(says),
            alternatives=tuple(alternatives),
            remedy=remedy,
            who=who,
            gain=self._gain() if gain is None else gain,
            calls_hit=self.hit,
            calls=self.total,
            cost=costs,
            call_ids=tuple(dict.fromkeys(r.fact.call_id for r in worst if r.fact.call_id > 0))[:SHOWN_CALLS],
        )

    def _gain(self) -> str:
        """How the share of acceptable calls would stand had this trouble been absent, all else as it was."""
        mine = {(r.fact.call_id, r.fact.direction) for r in self.bad}
        otherwise = {
            r.fact.call_id for r in self.site if r.good is False and (r.fact.call_id, r.fact.direction) not in mine
        }
        saved = len({call for call, _ in mine} - otherwise)
        known = [c for c in self.calls if c.good is not None]
        good, total = sum(bool(c.good) for c in known), max(1, len(known))
        return (
            f"{100 * good / total:.1f} % of calls acceptable now, {100 * min(total, good + saved) / total:.1f} % "
            f"without it: {saved} of {total} calls."
        )

    def compared(self) -> Comparison:
        """The leg, as far as other far ends and test points measured in the same moments tell it."""
        moments = {(r.fact.probe_id, r.fact.far_end_id, m) for r in self.bad for m in r.fact.moments}
        far = self._others(moments, lambda f, p, e: f.probe_id == p and f.far_end_id != e)
        near = self._others(moments, lambda f, p, e: f.probe_id != p and f.far_end_id == e)
        says = []
        leg: LegName = "unknown"
        if len(near) >= MIN_COMPARED:
            spared = sum(near.values())
            says.append(
                f"Another test point, measured in {len(near)} of the same ten-minute moments, was spared in {spared}."
            )
            if spared >= SPARED * len(near):
                leg = "inside"
        if len(far) >= MIN_COMPARED:
            spared = sum(far.values())
            says.append(
                f"Another far end, measured in {len(far)} of the same ten-minute moments, was spared in {spared}."
            )
            if spared >= SPARED * len(far):
                leg = "beyond" if leg == "unknown" else "unknown"
            elif spared <= (1 - SPARED) * len(far) and leg == "unknown":
                leg = "inside or line"
        return Comparison(leg, tuple(says))

    def _others(self, moments: set[_At], is_other: Callable[[CallFact, int, int], bool]) -> dict[_At, bool]:
        """Of the other ways: each bad moment in which they were measured, and whether they were spared."""
        found: dict[_At, bool] = {}
        by_moment: dict[Moment, list[Reading]] = {}
        for r in self.site:
            if self.direction in ("both", r.fact.direction):
                for m in r.fact.moments:
                    by_moment.setdefault(m, []).append(r)
        for probe, far_end, m in moments:
            others = [r for r in by_moment.get(m, []) if is_other(r.fact, probe, far_end)]
            if others:
                found[(probe, far_end, m)] = all(r.good is not False for r in others)
        return found


def own_load(case: Case) -> tuple[int, str] | None:
    """The load from which on calls suffer while below it they do not, and the figures in words; None: no such load."""
    tried = sorted({r.fact.concurrent for r in case.same})
    bad_ids = {id(r) for r in case.bad}
    for n in tried[1:]:
        at = [id(r) in bad_ids for r in case.same if r.fact.concurrent >= n]
        below = [id(r) in bad_ids for r in case.same if r.fact.concurrent < n]
        if min(len(at), len(below)) < OWN_LOAD_CALLS:
            continue
        if sum(at) >= OWN_LOAD_BAD * len(at) and sum(below) <= OWN_LOAD_CLEAR * len(below):
            return n, f"{sum(at)} of {len(at)} at {n} or more concurrent calls, {sum(below)} of {len(below)} below."
    return None


def find_causes(readings: list[Reading], video: Sequence[VideoFact], brief: Brief) -> list[Cause]:
    """All causes, the one that costs most first; those of video after those of sound."""
    calls = by_call(readings)
    found: list[Cause] = []
    for trouble, tell in (
        (Trouble.QUEUE, _queue),
        (Trouble.LOSS, _loss),
        (Trouble.LATE, _late),
        (Trouble.FAR, _far),
    ):
        for case in _cases(trouble, readings, calls, brief):
            found.append(tell(case))
    # What one fault does at its edges looks like another; a sliver beside a large cause is told by the figures alone.
    total = sum(sum(c.cost.values()) for c in found)
    found = [c for c in found if sum(c.cost.values()) >= MIN_COST_PCT * total / 100]
    found += _down(readings, calls, brief)
    found += _silent(readings, calls, brief)
    found += _marking(readings, calls, brief)
    found.sort(key=lambda c: -sum(c.cost.values()))
    pictures = _pictures(video, brief)
    return found + ([pictures] if pictures else [])


def _cases(trouble: Trouble, readings: list[Reading], calls: list[CallReading], brief: Brief) -> list[Case]:
    """One case a direction for a queue, which has its own key each way; one for both for everything else."""
    per: dict[Direction, tuple[list[Reading], list[Reading]]] = {}
    for direction in DIRECTIONS:
        same = [r for r in readings if r.fact.direction == direction]
        bad = [r for r in same if r.trouble is trouble]
        if bad and 100 * len(bad) >= MIN_SHARE_PCT * len(same):
            per[direction] = (bad, same)
    if trouble is not Trouble.QUEUE and len(per) == 2:
        (bad_up, same_up), (bad_down, same_down) = per["up"], per["down"]
        return [Case("both", bad_up + bad_down, same_up + same_down, readings, calls, brief)]
    return [Case(direction, bad, same, readings, calls, brief) for direction, (bad, same) in per.items()]


def _down(readings: list[Reading], calls: list[CallReading], brief: Brief) -> list[Cause]:
    """Calls that were cut or could not be placed, by which side was away."""
    bad = [r for r in readings if r.trouble is Trouble.DOWN]
    found = []
    for blame in ("site", "far end", "unknown"):
        of = [r for r in bad if r.fact.blame == blame]
        if not of:
            continue
        case = Case("both", of, readings, readings, calls, brief)
        cut = len({r.fact.call_id for r in of if r.fact.outcome == "cut"})
        counts = f"{case.of} were not carried: {cut} were cut, {case.hit - cut} could not be placed."
        runs = len({r.fact.run_id for r in of})
        told = f"The probe reported: “{of[0].fact.reason}”" if of[0].fact.reason else ""
        says = [counts, *([told] if told else []), when(of)]
        if blame == "far end":
            cause = case.cause(
                "beyond-down",
                "beyond",
                f"The far end was unreachable in {runs} {_runs(runs)} while the site was online",
                says,
                ("Not the site’s line: the probe reached this server at the same instant, through the same line.",),
                "Ask whoever runs the far end for its log at these times; place calls to a second far end beside it.",
                "whoever runs the far end",
            )
        elif blame == "site":
            cause = case.cause(
                "line-down",
                "inside or line",
                f"The site was offline in {runs} {_runs(runs)}",
                says,
                (
                    "Not the far end alone: the probe could not reach this server at the same instant either.",
                    "The line and the network inside are not told apart: sampling the gateway beside calls would.",
                ),
                "Ask for the line’s log at these times and look at the router’s; then check power and uplink inside.",
                owner(brief, "inside or line"),
            )
        else:
            cause = case.cause(
                "line-down",
                "unknown",
                f"Connection lost in {runs} {_runs(runs)}",
                says,
                (
                    "Line, network inside and far end are not told apart: whether the server could be reached at that "
                    "instant is not known.",
                ),
                "Compare the router’s log and the far end’s at these times.",
                owner(brief, "unknown"),
            )
        found.append(cause)
    return found


def _silent(readings: list[Reading], calls: list[CallReading], brief: Brief) -> list[Cause]:
    """Calls that carried no sound: one way, some ports, or UDP altogether."""
    bad = [r for r in readings if r.trouble is Trouble.SILENT]
    if not bad:
        return []
    heard_in_run = {(r.fact.run_id, r.fact.direction) for r in readings if r.fact.received > 0}
    silent_ways: dict[int, set[str]] = {}
    for r in bad:
        silent_ways.setdefault(r.fact.call_id, set()).add(r.fact.direction)
    ports: list[Reading] = []
    everything: list[Reading] = []
    one_way: dict[Way, list[Reading]] = {}
    for r in bad:
        if (r.fact.run_id, r.fact.direction) in heard_in_run:
            ports.append(r)
        elif len(silent_ways[r.fact.call_id]) == len(DIRECTIONS):
            everything.append(r)
        else:
            one_way.setdefault(r.fact.direction, []).append(r)
    groups: list[tuple[CauseKey, Way, list[Reading]]] = [("one-way", way, of) for way, of in one_way.items()]
    if ports:
        groups.append(("port-blocked", _way({r.fact.direction for r in ports}), ports))
    if everything:
        groups.append(("udp-blocked", "both", everything))
    return [_tell_silent(key, way, of, readings, calls, brief) for key, way, of in groups]


def _tell_silent(
    key: CauseKey, way: Way, bad: list[Reading], readings: list[Reading], calls: list[CallReading], brief: Brief
) -> Cause:
    same = [r for r in readings if way == "both" or r.fact.direction == way]
    case = Case(way, bad, same, readings, calls, brief)
    compared = case.compared()
    never = sum(r.fact.sent == 0 for r in bad)
    began = (
        f" In {never} of {len(bad)} silent directions sending never began, because the media port did not answer."
        if never
        else ""
    )
    says = [f"No audio arrived {_ways(way)} in {case.of}.{began}", *compared.says, when(bad)]
    who = firewall_owner(brief)
    if key == "port-blocked":
        return case.cause(
            key,
            compared.leg,
            f"Some media ports carry no audio ({WAY_WORDS[way]})",
            says,
            ("Not UDP altogether: other calls of the same runs carried audio in the same direction.",),
            "Allow the far end’s whole range of UDP media ports in the firewall, then place calls again.",
            who,
            dimensions=("reachability", "voice", "steadiness"),
        )
    if key == "udp-blocked":
        return case.cause(
            key,
            compared.leg,
            "No audio in either direction",
            says,
            ("The far end answered on its control port (TCP) in these calls, so it was up and could be reached.",),
            "Allow UDP to and from the far end’s media ports in the firewall, then place calls again.",
            who,
            dimensions=("reachability", "voice", "steadiness"),
        )
    other = "download" if way == "up" else "upload"
    ids = {r.fact.call_id for r in bad}
    alive = len({r.fact.call_id for r in readings if r.fact.call_id in ids and r.fact.received > 0})
    return case.cause(
        "one-way",
        compared.leg,
        f"No audio in one direction: {WAY_WORDS[way]}",
        says,
        (f"Not a dead line: {other} audio arrived in {alive} of the same {len(ids)} calls.",),
        f"Allow UDP media {'towards' if way == 'up' else 'from'} the far end in every firewall on the way, its state "
        "timeout included, then place calls again.",
        who,
        dimensions=("reachability", "voice", "steadiness"),
    )


def _queue(case: Case) -> Cause:
    added = [standing_ms(r.fact, r.added_ms) for r in case.bad]
    middle, most = float(np.median(added)), max(added)
    compared, load = case.compared(), own_load(case)
    way: Direction = "up" if case.direction == "up" else "down"
    says = [
        f"{case.of} missed the brief {_ways(way)} with packets queued for {middle:.0f} ms above the idle delay "
        f"(median; worst {most:.0f} ms).",
        when(case.bad),
    ]
    if load and case.brief.call_kbps:
        n, figures = load
        rate, line = n * case.brief.call_kbps, case.brief.line_kbps(way)
        stated = f"; the brief gives the line {line:,} kbit/s" if line else ""
        return case.cause(
            "uplink-small" if way == "up" else "downlink-small",
            compared.leg,
            f"Concurrent calls fill the {WAY_WORDS[case.direction]} by themselves from {n} on",
            [*says, f"It follows the calls’ own number: {figures}", *compared.says],
            (
                f"Not other traffic: below {n} concurrent calls the delay stayed low at the same times of day.",
                f"{n} calls take {rate:,.0f} kbit/s on the line{stated}.",
            ),
            "Raise the rate of the narrowest part of the way or choose a codec that takes less; priority cannot make "
            "room that is not there.",
            owner(case.brief, compared.leg),
        )
    key: CauseKey = "uplink-queue" if way == "up" else "downlink-queue"
    if compared.leg == "inside":
        key = "inside-congested"
    elif compared.leg == "beyond":
        key = "beyond-congested"
    lost = float(np.mean([r.fact.loss_pct or 0.0 for r in case.bad]))
    alternatives = [
        f"Not distance: the idle delay of the same way is {middle:.0f} ms lower.",
        f"{lost:.1f} % of these calls’ packets were lost, which a full queue explains as well as a fault does.",
        *compared.says,
    ]
    other = _opposite_added(case)
    if other is not None:
        alternatives.append(
            f"The other direction of the same calls gained {other:.0f} ms (median): "
            + ("it is one direction’s queue." if other < middle / 2 else "both directions queue together.")
        )
    remedy = {
        "inside": "Find the link inside that fills up (switch uplink, access point) and give EF-marked media priority "
        "there.",
        "beyond": "Show the far end’s provider these times; a second far end is spared, so the queue is not the "
        "site’s.",
    }.get(
        compared.leg,
        "Find the link that fills up: sample gateway and provider’s edge at these times. If it is the line, shape it "
        f"at the router to 90–95 % of its rate {_ways(way)} with fair queueing, EF-marked media first.",
    )
    return case.cause(
        key,
        compared.leg,
        f"{WAY_WORDS[case.direction].capitalize()} packets queue for {middle:.0f} ms {LEG_WORDS[compared.leg]}",
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


def _loss(case: Case) -> Cause:
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
        key = "inside-cable"
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
        "Read the error counters on both sides of each link, from the test point outwards; where they are clean as far "
        "as the router, the line’s provider must read his.",
        owner(case.brief, compared.leg),
    )


def _late(case: Case) -> Cause:
    swing = [r.fact.pdv_p99_ms for r in case.bad if r.fact.pdv_p99_ms is not None]
    jitter = float(np.median([r.fact.jitter_ms for r in case.bad]))
    late = float(np.median([r.fact.late_pct or 0.0 for r in case.bad]))
    compared = case.compared()
    return case.cause(
        "delay-swings",
        compared.leg,
        f"Delay varies by {np.median(swing) if swing else 0:.0f} ms, more than the brief allows "
        f"({WAY_WORDS[case.direction]})",
        (
            f"{case.of} had {late:.1f} % of packets too late for the receiver’s buffer (median); the 99th percentile "
            f"of packet delay variation was {np.median(swing) if swing else 0:.0f} ms, jitter {jitter:.1f} ms.",
            when(case.bad),
        ),
        (
            "Not one standing queue: neighbouring packets differ by "
            f"{jitter:.1f} ms (median jitter), a queue changes slowly.",
            *compared.says,
        ),
        "Look first at radio links (Wi-Fi, a bridge) and at links that are briefly full; give EF-marked media priority "
        "there. A deeper receive buffer hides it at the price of delay.",
        owner(case.brief, compared.leg),
    )


def _far(case: Case) -> Cause:
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


def _marking(readings: list[Reading], calls: list[CallReading], brief: Brief) -> list[Cause]:
    marked = [r for r in readings if r.fact.dscp_kept_pct is not None and r.fact.dscp_sent]
    changed = [r for r in marked if (r.fact.dscp_kept_pct or 0.0) < MARKING_KEPT_PCT]
    if not changed:
        return []
    way = _way({r.fact.direction for r in changed})
    case = Case(way, changed, [r for r in marked if way in ("both", r.fact.direction)], readings, calls, brief)
    sent = sorted({r.fact.dscp_sent for r in changed})
    kept = float(np.median([r.fact.dscp_kept_pct or 0.0 for r in changed]))
    compared = case.compared()
    cause = case.cause(
        "marking-changed",
        "unknown",
        f"Priority marking is changed on the way ({WAY_WORDS[way]})",
        (f"In {case.of} packets sent with DSCP {', '.join(map(str, sent))} arrived so in {kept:.0f} % (median).",),
        ("Not the probe: each end records the marking it sent.",),
        "Let switches, access points and router trust the marking of voice; ask the provider what the line carries.",
        owner(brief, compared.leg),
        dimensions=("marking",),
        gain="Priority can act only where the marking arrives; what it would buy is not measured.",
    )
    lost = sum(100.0 - (r.fact.dscp_kept_pct or 0.0) for r in changed) / 100
    return [replace(cause, cost={"marking": lost})]


def _pictures(video: Sequence[VideoFact], brief: Brief) -> Cause | None:
    same = [f for f in video if not f.tainted]
    bad = sorted((f for f in same if not good_picture(f.score, brief)), key=lambda f: f.score or 0.0)
    if not bad:
        return None
    hit, total = len({f.stream_id for f in bad}), len({f.stream_id for f in same})
    lost, late = sum(f.lost for f in bad), sum(f.late for f in bad)
    broken, frames = sum(f.frames - f.whole for f in bad), sum(f.frames for f in bad)
    frozen_s = sum(f.frozen_ms for f in bad) / 1000
    way = _way({f.direction for f in bad})
    return Cause(
        key="pictures-break",
        leg="unknown",
        direction=way,
        title=f"Pictures freeze or jerk ({WAY_WORDS[way]})",
        says=(
            f"{hit} of {total} video streams scored below {brief.target_picture:g}: {100 * broken / max(1, frames):.1f}"
            f" % of their frames were broken, and the picture froze {sum(f.freezes for f in bad)} times for "
            f"{frozen_s:.1f} s in all.",
            f"Of their packets {lost} were lost and {late} came too late.",
        ),
        alternatives=("Not a camera or computer: these streams are packets alone.",),
        remedy="Give meeting traffic its marking and a share of the line where it is full; if the line is too small "
        "for it, cap the service’s bit rate.",
        who=owner(brief, "unknown"),
        gain=f"{total - hit} of {total} streams good both ways now, all of them without it.",
        calls_hit=hit,
        calls=total,
        cost={"video": float(len(bad))},
        of="video streams",
        stream_ids=tuple(dict.fromkeys(f.stream_id for f in bad))[:SHOWN_CALLS],
    )


def spoiled(facts: Sequence[CallFact]) -> list[Cause]:
    """What an end's own machine or clock spoiled: not the network's fault, and nothing to judge it by."""
    found = []
    total = len({f.call_id for f in facts})
    for key, of in (
        ("clock-set", [f for f in facts if f.tainted and f.clock_set]),
        ("probe-spoiled", [f for f in facts if f.tainted and not f.clock_set]),
    ):
        hit = len({f.call_id for f in of})
        if not hit:
            continue
        clock = key == "clock-set"
        name: CauseKey = "clock-set" if clock else "probe-spoiled"
        found.append(
            Cause(
                key=name,
                leg="unknown",
                direction="both",
                title=f"{hit} {'call was' if hit == 1 else 'calls were'} spoiled by "
                + ("a clock that was set" if clock else "the probe’s or far end’s own machine"),
                says=(f"{hit} of {total} calls are left out of the verdict for it. Each run says what was seen.",),
                alternatives=("Not the network: each end watches its own sending, receiving and clock.",),
                remedy="Keep the machine’s clock by NTP from the start, and place the calls again."
                if clock
                else "Close other programs on it or take a machine that does nothing else, wired; then place the calls "
                "again.",
                who="the consultant",
                gain=f"{hit} calls more to judge by.",
                calls_hit=hit,
                calls=total,
                call_ids=tuple(dict.fromkeys(f.call_id for f in of))[:SHOWN_CALLS],
                network=False,
            )
        )
    return found


def _way(directions: set[str]) -> Way:
    return "both" if len(directions) == 2 else "up" if "up" in directions else "down"


def _ways(way: Way) -> str:
    return {"up": "on upload", "down": "on download", "both": "both ways"}[way]


def _runs(count: int) -> str:
    return "run" if count == 1 else "runs"
