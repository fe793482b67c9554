"""What is wrong, from the facts: cause, direction, evidence, alternatives, who must act, what it would buy."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np

from tarnfell.core.evidence import CallReading, Reading, Trouble, VideoFact, by_call, good_picture, standing_ms
from tarnfell.core.targets import Targets

Dimension = Literal["voice", "video", "capacity", "steadiness", "load", "reachability", "marking"]

MIN_SHARE_PCT = 0.5
"""Trouble in fewer calls than this is told in the figures, not as a finding."""
MARKING_KEPT_PCT = 99.0
BURSTY_RATIO = 1.5
SHOWN_CALLS = 3


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
    of: str = "calls"
    """What was hit: calls, or video streams."""
    stream_ids: tuple[int, ...] = ()
    """The video streams that show it best, worst first."""


@dataclass(frozen=True)
class _Case:
    """The readings one trouble spoils, among all of its direction and of the site."""

    direction: str
    bad: list[Reading]
    same: list[Reading]
    """All readings of this direction."""
    site: list[Reading]
    calls: list[CallReading]

    @property
    def of(self) -> str:
        return f"{len(self.bad)} of {len(self.same)} calls"

    @property
    def opposite(self) -> list[Reading]:
        """The other direction of the very calls that are bad."""
        ids = {r.fact.call_id for r in self.bad}
        return [r for r in self.site if r.fact.call_id in ids and r.fact.direction != self.direction]

    def finding(
        self,
        key: str,
        title: str,
        evidence: tuple[str, ...],
        alternatives: tuple[str, ...],
        remedy: str,
        who: str,
        dimensions: tuple[Dimension, ...] = ("voice", "steadiness"),
        gain: str | None = None,
    ) -> Finding:
        # Bad calls among several held at once cost capacity as well.
        if "voice" in dimensions and any(r.fact.concurrent > 1 for r in self.bad):
            dimensions = (*dimensions, "capacity")
        return Finding(
            key=f"{key}-{self.direction}",
            title=title,
            direction=self.direction,
            dimensions=dimensions,
            calls_hit=len(self.bad),
            calls=len(self.same),
            evidence=evidence,
            call_ids=_worst(self.bad),
            alternatives=alternatives,
            remedy=remedy,
            who=who,
            gain=self._gain() if gain is None else gain,
        )

    def _gain(self) -> str:
        """How the share of good calls would stand had this trouble been absent, other directions as they were."""
        also_bad = {r.fact.call_id for r in self.opposite if not r.good}
        saved = len({r.fact.call_id for r in self.bad} - also_bad)
        good, total = sum(c.good for c in self.calls), max(1, len(self.calls))
        return (
            f"{100 * good / total:.1f} % of calls acceptable now, {100 * (good + saved) / total:.1f} % without it: "
            f"{saved} of {total} calls saved."
        )


def find(readings: list[Reading], video: Sequence[VideoFact], targets: Targets) -> list[Finding]:
    """All findings, the one that costs most calls first; those of video after those of sound."""
    calls = by_call(readings)
    tellers = {
        Trouble.QUEUE: _standing_queue,
        Trouble.LOSS: _loss,
        Trouble.LATE: _late,
        Trouble.DELAY: _delay,
        Trouble.SILENT: _silent,
    }
    found: list[Finding] = []
    for direction in ("up", "down"):
        same = [r for r in readings if r.fact.direction == direction]
        for trouble, tell in tellers.items():
            bad = [r for r in same if r.trouble is trouble]
            enough = trouble is Trouble.SILENT or 100 * len(bad) >= MIN_SHARE_PCT * len(same)
            if bad and enough:
                found.append(tell(_Case(direction, bad, same, readings, calls)))
        marked = [r for r in same if r.fact.dscp_kept_pct is not None]
        changed = [r for r in marked if (r.fact.dscp_kept_pct or 0) < MARKING_KEPT_PCT]
        if changed:
            found.append(_marking(_Case(direction, changed, marked, readings, calls)))
    found.sort(key=lambda f: -f.calls_hit)
    pictures = [_pictures(d, [f for f in video if f.direction == d and not f.tainted], targets) for d in ("up", "down")]
    return found + sorted((p for p in pictures if p), key=lambda f: -f.calls_hit)


def _standing_queue(case: _Case) -> Finding:
    added = [standing_ms(r.fact, r.added_ms) for r in case.bad]
    loss = _mean([r.fact.loss_pct for r in case.bad])
    these, others = ("Uploads", "downloads") if case.direction == "up" else ("Downloads", "uploads")
    alternatives = [
        f"Not distance: the quiet delay is the same on every day, and {np.median(added):.0f} ms come on top of it.",
        f"Not a faulty cable or radio: {loss:.1f} % of these calls' packets were lost, and only while the delay stood "
        "high, as at the end of a full queue.",
    ]
    other = [r.added_ms for r in case.opposite if r.added_ms is not None]
    if other:
        alternatives.append(
            f"Not the far end or the network beyond: {others} in the same calls gained {np.median(other):.0f} ms in "
            "the middle."
        )
    return case.finding(
        "standing-queue",
        f"{these} fill the line and calls wait behind them",
        (
            f"{case.of} fell below the target {case.direction} the line because their packets stood in a queue: "
            f"{np.median(added):.0f} ms on top of the quiet delay in the middle, {max(added):.0f} ms at worst.",
            _when(case.bad),
        ),
        tuple(alternatives),
        "Switch on fair queueing or active queue management where the line meets the site's router, at 90 to 95 % of "
        "the line's rate, and put EF-marked calls in a priority class. More bandwidth alone moves the problem, it "
        "does not end it.",
        "whoever runs the router at the line",
    )


def _loss(case: _Case) -> Finding:
    loss = [r.fact.loss_pct for r in case.bad]
    ratio = float(np.median([r.fact.burst_ratio for r in case.bad]))
    bursty = ratio >= BURSTY_RATIO
    return case.finding(
        "loss",
        f"Packets are lost {'in bursts' if bursty else 'at random'} on the way {case.direction}",
        (
            f"{case.of} lost {np.median(loss):.1f} % of their packets in the middle, {max(loss):.1f} % at worst; "
            f"burst ratio {ratio:.1f}.",
            _when(case.bad),
        ),
        (
            "Not a standing queue: packets that did arrive came with little extra delay.",
            "Bursts point to a radio link or an overloaded queue; this evidence alone does not separate them."
            if bursty
            else "Single losses point to a bad cable, a duplex fault or a rate limiter.",
        ),
        "Look at error counters on both sides of each link on the way, starting at the site's own switch; then ask "
        "the provider for the line's.",
        "whoever runs the switches, then the provider",
    )


def _late(case: _Case) -> Finding:
    swing = [r.fact.pdv_p95_ms for r in case.bad if r.fact.pdv_p95_ms is not None]
    return case.finding(
        "late",
        f"Delay {case.direction} swings more than a listener's buffer holds",
        (
            f"{case.of} had packets too late to be heard: one in twenty came over {np.median(swing):.0f} ms behind the "
            "fastest. They were not lost on the way.",
            _when(case.bad),
        ),
        ("Not network loss: the packets arrived, too late.", "Not distance: the fastest ones were fast."),
        "Find the link whose queue comes and goes: Wi-Fi, a busy uplink between switches, or the line. Give marked "
        "media priority there.",
        "whoever runs the network inside",
    )


def _delay(case: _Case) -> Finding:
    delay = _mean([r.fact.delay_p50_ms or 0.0 for r in case.bad])
    return case.finding(
        "delay",
        f"The way {case.direction} is too long for conversation",
        (f"{case.of} had {delay:.0f} ms of delay one way.",),
        ("Not loss: nothing was missing.", "Not a queue: the delay is the same when the line is quiet."),
        "Use a far end, or a provider's edge, closer to the site; check that traffic takes no detour.",
        "the provider",
        dimensions=("voice",),
    )


def _silent(case: _Case) -> Finding:
    other_alive = sum(r.fact.received > 0 for r in case.opposite)
    return case.finding(
        "silent",
        f"Calls that carry no sound {case.direction}",
        (
            f"Nothing arrived {case.direction} in {case.of}; in {other_alive} of them the other direction worked.",
            _when(case.bad),
        ),
        ("Not a dead line: the other direction of the same calls worked.",)
        if other_alive
        else ("A dead line and a closed port look alike in this evidence.",),
        "Allow the media ports in both directions in the firewall, then place calls again.",
        "whoever runs the firewall",
        dimensions=("reachability", "voice", "steadiness"),
    )


def _marking(case: _Case) -> Finding:
    sent = Counter(r.fact.dscp_sent for r in case.bad).most_common(1)[0][0]
    return case.finding(
        "marking",
        f"Priority marking does not survive the way {case.direction}",
        (f"Packets sent with DSCP {sent} arrived with another value in {case.of}.",),
        ("Not the probe: it records what it sent.",),
        "Let switches and router trust the voice network's marking; ask the provider what the line carries.",
        "whoever runs the switches, then the provider",
        dimensions=("marking",),
        gain="Priority can work only where the marking arrives.",
    )


def _pictures(direction: str, same: list[VideoFact], targets: Targets) -> Finding | None:
    bad = sorted((f for f in same if not good_picture(f.score, targets)), key=lambda f: f.score or 0.0)
    if not bad:
        return None
    lost, late = sum(f.lost for f in bad), sum(f.late for f in bad)
    broken, frames = sum(f.frames - f.whole for f in bad), sum(f.frames for f in bad)
    frozen_s = sum(f.frozen_ms for f in bad) / 1000
    cause = "lost on the way" if lost >= late else "came too late to be shown"
    return Finding(
        key=f"pictures-{direction}",
        title=f"Pictures freeze or jerk {direction} the line",
        direction=direction,
        dimensions=("video",),
        calls_hit=len(bad),
        calls=len(same),
        of="video streams",
        evidence=(
            f"{len(bad)} of {len(same)} video streams {direction} scored below {targets.target_picture:g}: "
            f"{100 * broken / max(1, frames):.1f} % of their frames were broken, and the picture stood still for "
            f"{frozen_s:.1f} s in {sum(f.freezes for f in bad)} freezes.",
            f"{lost} of their packets were lost and {late} late: most of what was missing {cause}.",
        ),
        call_ids=(),
        stream_ids=tuple(f.stream_id for f in bad[:SHOWN_CALLS]),
        alternatives=(
            "Not the camera or the computer: these streams are made of packets alone.",
            "A frame needs every one of its packets, so loss that hardly hurts sound breaks pictures.",
        ),
        remedy="Give meeting traffic its marking and a share of the line where it meets the router; if the line is too "
        "small for it, cap the service's bit rate.",
        who="whoever runs the router at the line",
        gain=f"{len(same) - len(bad)} of {len(same)} streams good {direction} now; all of them without it.",
    )


def _when(bad: list[Reading]) -> str:
    """The hours that hold most of the trouble, in words."""
    if len(bad) < 10:
        stamps = ", ".join(f"{r.fact.day} {r.fact.minute // 60:02d}:{r.fact.minute % 60:02d}" for r in bad[:4])
        return f"Seen {stamps}{' and more' if len(bad) > 4 else ''}."
    low, high = _tightest(Counter(r.fact.minute // 60 for r in bad), 0.9 * len(bad))
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
    return tuple(r.fact.call_id for r in ordered[:SHOWN_CALLS])


def _mean(values: list[float]) -> float:
    return float(np.mean(values))
