"""What is wrong, from the facts: cause, direction, evidence, what else it could be, who must act, what it would buy."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass
from typing import Literal

import numpy as np

from tarnfell.core.evidence import CallReading, Reading, Trouble, by_call, standing_ms

Dimension = Literal["voice", "capacity", "steadiness", "load", "reachability", "marking"]

MIN_SHARE_PCT = 0.5
"""Trouble in fewer calls than this is told in the figures, not as a finding."""
MARKING_KEPT_PCT = 99.0


@dataclass(frozen=True)
class Finding:
    """One cause. ``key`` is stable across evaluations; texts are for the customer's eyes."""

    key: str
    title: str
    direction: str
    dimensions: tuple[Dimension, ...]
    calls_hit: int
    calls: int
    evidence: tuple[str, ...]
    call_ids: tuple[int, ...]
    """The calls that show it best, worst first."""
    alternatives: tuple[str, ...]
    remedy: str
    who: str
    gain: str


def find(readings: list[Reading]) -> list[Finding]:
    """All findings, the one that costs most calls first."""
    calls = by_call(readings)
    found: list[Finding] = []
    for direction in ("up", "down"):
        mine = [r for r in readings if r.fact.direction == direction]
        bad = {t: [r for r in mine if r.trouble is t] for t in Trouble}
        if _counts(bad[Trouble.QUEUE], mine):
            found.append(_standing_queue(direction, bad[Trouble.QUEUE], mine, calls, readings))
        if _counts(bad[Trouble.LOSS], mine):
            found.append(_loss(direction, bad[Trouble.LOSS], mine, calls, readings))
        if _counts(bad[Trouble.LATE], mine):
            found.append(_late(direction, bad[Trouble.LATE], mine, calls, readings))
        if _counts(bad[Trouble.DELAY], mine):
            found.append(_delay(direction, bad[Trouble.DELAY], mine, calls, readings))
        if bad[Trouble.SILENT]:
            found.append(_silent(direction, bad[Trouble.SILENT], mine, readings))
        marked = [r for r in mine if r.fact.dscp_kept_pct is not None]
        changed = [r for r in marked if (r.fact.dscp_kept_pct or 0) < MARKING_KEPT_PCT]
        if changed:
            found.append(_marking(direction, changed, marked))
    return sorted(found, key=lambda f: -f.calls_hit)


def _counts(bad: list[Reading], mine: list[Reading]) -> bool:
    return bool(bad) and 100 * len(bad) / len(mine) >= MIN_SHARE_PCT


def _standing_queue(
    direction: str, bad: list[Reading], mine: list[Reading], calls: list[CallReading], readings: list[Reading]
) -> Finding:
    added = [standing_ms(r.fact, r.added_ms) for r in bad]
    ids = {r.fact.call_id for r in bad}
    other = [
        r.added_ms
        for r in readings
        if r.fact.call_id in ids and r.fact.direction != direction and r.added_ms is not None
    ]
    other_name = "downloads" if direction == "up" else "uploads"
    loss = float(np.mean([r.fact.loss_pct for r in bad]))
    verb = "Uploads" if direction == "up" else "Downloads"
    alternatives = [
        f"Not distance: the quiet delay is the same on every day, and {np.median(added):.0f} ms come on top of it.",
        f"Not a faulty cable or radio: {loss:.1f} % of these calls' packets were lost, and only while the delay stood "
        "high, as at the end of a full queue.",
    ]
    if other:
        alternatives.append(
            f"Not the far end or the network beyond: {other_name} in the same calls gained "
            f"{np.median(other):.0f} ms in the middle."
        )
    return Finding(
        key=f"standing-queue-{direction}",
        title=f"{verb} fill the line and calls wait behind them",
        direction=direction,
        dimensions=_hit_dimensions(bad),
        calls_hit=len(bad),
        calls=len(mine),
        evidence=(
            f"{len(bad)} of {len(mine)} calls fell below the target {direction} the line because their packets "
            f"stood in a queue: {np.median(added):.0f} ms on top of "
            f"the quiet delay in the middle, {max(added):.0f} ms at worst.",
            _when(bad),
        ),
        call_ids=_worst(bad),
        alternatives=tuple(alternatives),
        remedy="Switch on fair queueing or active queue management where the line meets the site's router, at 90 to "
        "95 % of the line's rate, and put EF-marked calls in a priority class. More bandwidth alone moves the "
        "problem, it does not end it.",
        who="whoever runs the router at the line",
        gain=_gain(bad, calls, readings),
    )


def _loss(
    direction: str, bad: list[Reading], mine: list[Reading], calls: list[CallReading], readings: list[Reading]
) -> Finding:
    loss = [r.fact.loss_pct for r in bad]
    ratio = float(np.median([r.fact.burst_ratio for r in bad]))
    kind = "in bursts" if ratio >= 1.5 else "at random"
    return Finding(
        key=f"loss-{direction}",
        title=f"Packets are lost {kind} on the way {direction}",
        direction=direction,
        dimensions=_hit_dimensions(bad),
        calls_hit=len(bad),
        calls=len(mine),
        evidence=(
            f"{len(bad)} of {len(mine)} calls lost {np.median(loss):.1f} % of their packets in the middle, "
            f"{max(loss):.1f} % at worst; burst ratio {ratio:.1f}.",
            _when(bad),
        ),
        call_ids=_worst(bad),
        alternatives=(
            "Not a standing queue: packets that did arrive came with little extra delay.",
            "Bursts point to a radio link or an overloaded queue; single losses to a bad cable or a rate limiter. "
            "This evidence alone does not separate them."
            if ratio >= 1.5
            else "Single losses point to a bad cable, a duplex fault or a rate limiter.",
        ),
        remedy="Look at error counters on both sides of each link on the way, starting at the site's own switch; "
        "then ask the provider for the line's.",
        who="whoever runs the switches, then the provider",
        gain=_gain(bad, calls, readings),
    )


def _late(
    direction: str, bad: list[Reading], mine: list[Reading], calls: list[CallReading], readings: list[Reading]
) -> Finding:
    pdv = [r.fact.pdv_p95_ms for r in bad if r.fact.pdv_p95_ms is not None]
    return Finding(
        key=f"late-{direction}",
        title=f"Delay {direction} swings more than a listener's buffer holds",
        direction=direction,
        dimensions=_hit_dimensions(bad),
        calls_hit=len(bad),
        calls=len(mine),
        evidence=(
            f"{len(bad)} of {len(mine)} calls had packets too late to be heard: one in twenty came over "
            f"{np.median(pdv):.0f} ms behind the fastest. They were not lost on the way.",
            _when(bad),
        ),
        call_ids=_worst(bad),
        alternatives=(
            "Not network loss: the packets arrived, too late.",
            "Not distance: the fastest ones were fast.",
        ),
        remedy="Find the link whose queue comes and goes: Wi-Fi, a busy uplink between switches, or the line. Give "
        "marked media priority there.",
        who="whoever runs the network inside",
        gain=_gain(bad, calls, readings),
    )


def _delay(
    direction: str, bad: list[Reading], mine: list[Reading], calls: list[CallReading], readings: list[Reading]
) -> Finding:
    delays = [r.fact.delay_p50_ms or 0.0 for r in bad]
    return Finding(
        key=f"delay-{direction}",
        title=f"The way {direction} is too long for conversation",
        direction=direction,
        dimensions=("voice",),
        calls_hit=len(bad),
        calls=len(mine),
        evidence=(f"{len(bad)} of {len(mine)} calls had {np.median(delays):.0f} ms of delay one way.",),
        call_ids=_worst(bad),
        alternatives=(
            "Not loss: nothing was missing.",
            "Not a queue: the delay is the same when the line is quiet.",
        ),
        remedy="Use a far end, or a provider's edge, closer to the site; check that traffic takes no detour.",
        who="the provider",
        gain=_gain(bad, calls, readings),
    )


def _silent(direction: str, bad: list[Reading], mine: list[Reading], readings: list[Reading]) -> Finding:
    ids = {r.fact.call_id for r in bad}
    other_alive = sum(
        1 for r in readings if r.fact.call_id in ids and r.fact.direction != direction and r.fact.received > 0
    )
    return Finding(
        key=f"silent-{direction}",
        title=f"Calls that carry no sound {direction}",
        direction=direction,
        dimensions=("reachability", "voice"),
        calls_hit=len(bad),
        calls=len(mine),
        evidence=(
            f"Nothing arrived {direction} in {len(bad)} of {len(mine)} calls; in {other_alive} of them the other "
            "direction worked.",
        ),
        call_ids=_worst(bad),
        alternatives=("Not a dead line: calls before and after, or the other direction, worked.",)
        if other_alive
        else ("A dead line and a closed port look alike in this evidence.",),
        remedy="Allow the media ports in both directions in the firewall, then place calls again.",
        who="whoever runs the firewall",
        gain=f"{len(bad)} calls that now have no sound.",
    )


def _marking(direction: str, changed: list[Reading], marked: list[Reading]) -> Finding:
    sent = Counter(r.fact.dscp_sent for r in changed).most_common(1)[0][0]
    return Finding(
        key=f"marking-{direction}",
        title=f"Priority marking does not survive the way {direction}",
        direction=direction,
        dimensions=("marking",),
        calls_hit=len(changed),
        calls=len(marked),
        evidence=(
            f"Packets sent with DSCP {sent} arrived with another value in {len(changed)} of {len(marked)} calls.",
        ),
        call_ids=tuple(r.fact.call_id for r in changed[:3]),
        alternatives=("Not the probe: it records what it sent.",),
        remedy="Let switches and router trust the voice network's marking; ask the provider what the line carries.",
        who="whoever runs the switches, then the provider",
        gain="Priority can work only where the marking arrives.",
    )


def _hit_dimensions(bad: list[Reading]) -> tuple[Dimension, ...]:
    """Bad calls cost voice quality and steadiness; among several held at once they cost capacity too."""
    held = any(r.fact.concurrent > 1 for r in bad)
    return ("voice", "steadiness", "capacity") if held else ("voice", "steadiness")


def _when(bad: list[Reading]) -> str:
    """The hours that hold most of the trouble, in words."""
    hours = Counter(r.fact.minute // 60 for r in bad)
    if len(bad) < 10:
        stamps = ", ".join(f"{r.fact.day} {r.fact.minute // 60:02d}:{r.fact.minute % 60:02d}" for r in bad[:4])
        return f"Seen {stamps}{' and more' if len(bad) > 4 else ''}."
    low, high = _tightest(hours, 0.9 * len(bad))
    days = len({r.fact.day for r in bad})
    busy = sum(r.fact.busy for r in bad)
    return (
        f"Nine in ten between {low:02d}:00 and {(high + 1) % 24:02d}:00, on {days} {'day' if days == 1 else 'days'}; "
        f"{busy} of {len(bad)} within business hours."
    )


def _tightest(hours: Counter[int], needed: float) -> tuple[int, int]:
    """First and last hour of the shortest stretch of the day that holds ``needed`` of the counts."""
    best = (0, 23)
    for low in range(24):
        total = 0
        for high in range(low, 24):
            total += hours[high]
            if total >= needed:
                if high - low < best[1] - best[0]:
                    best = (low, high)
                break
    return best


def _worst(bad: list[Reading]) -> tuple[int, ...]:
    ordered = sorted(bad, key=lambda r: r.fact.mos if r.fact.mos is not None else 0.0)
    return tuple(r.fact.call_id for r in ordered[:3])


def _gain(bad: list[Reading], calls: list[CallReading], readings: list[Reading]) -> str:
    """How the share of good calls would stand had this trouble been absent, other directions as they were."""
    direction = bad[0].fact.direction
    ids = {r.fact.call_id for r in bad}
    also_bad = {r.fact.call_id for r in readings if not r.good and r.fact.direction != direction}
    saved = len(ids - also_bad)
    good = sum(c.good for c in calls)
    if not calls:
        return ""
    return (
        f"{100 * good / len(calls):.1f} % of calls acceptable now, "
        f"{100 * (good + saved) / len(calls):.1f} % without it: "
        f"{saved} of {len(calls)} calls saved."
    )
