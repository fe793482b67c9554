"""What spoiled calls, from readings: one cause for what belongs together, the one that costs most first."""

from __future__ import annotations

from collections.abc import Sequence

from tarnfell.core.causes import DIRECTIONS, WAY_WORDS, CauseKey, Direction
from tarnfell.core.verdict import impairments, reach
from tarnfell.core.verdict.case import SHOWN_CALLS, Case, way_of
from tarnfell.core.verdict.causes import Cause, owner
from tarnfell.core.verdict.facts import Brief, CallFact, VideoFact
from tarnfell.core.verdict.readings import CallReading, Reading, Trouble, good_picture
from tarnfell.core.verdict.score import Verdict

MIN_SHARE_PCT = 0.5
"""Trouble in fewer calls than this is told in the figures, not as a cause; outages and silence always are."""
MIN_COST_PCT = 3.0
"""Of what all such trouble costs; less than that beside a larger cause is no cause of its own."""


def find_causes(
    readings: list[Reading], calls: list[CallReading], video: Sequence[VideoFact], brief: Brief
) -> list[Cause]:
    """All causes, the one that costs most first; those of video after those of sound. ``calls`` are the readings by
    their calls."""
    found: list[Cause] = []
    for trouble, tell in (
        (Trouble.QUEUE, impairments.queue),
        (Trouble.LOSS, impairments.loss),
        (Trouble.LATE, impairments.late),
        (Trouble.DETOUR, impairments.detour),
        (Trouble.FAR, impairments.far),
    ):
        for case in _cases(trouble, readings, calls, brief):
            found.append(tell(case))
    # What one fault does at its edges looks like another; a sliver beside a large cause is told by the figures alone.
    total = sum(sum(c.cost.values()) for c in found)
    found = [c for c in found if sum(c.cost.values()) >= MIN_COST_PCT * total / 100]
    found += reach.down(readings, calls, brief)
    found += reach.silent(readings, calls, brief)
    found += impairments.marking(readings, calls, brief)
    found += impairments.priority(readings, calls, brief)
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


def _pictures(video: Sequence[VideoFact], brief: Brief) -> Cause | None:
    same = [f for f in video if not f.tainted]
    bad = sorted((f for f in same if not good_picture(f.score, brief)), key=lambda f: f.score or 0.0)
    if not bad:
        return None
    hit, total = len({f.stream_id for f in bad}), len({f.stream_id for f in same})
    lost, late = sum(f.lost for f in bad), sum(f.late for f in bad)
    broken, frames = sum(f.frames - f.whole for f in bad), sum(f.frames for f in bad)
    frozen_s = sum(f.frozen_ms for f in bad) / 1000
    way = way_of({f.direction for f in bad})
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
        gain=f"{total - hit} of {total} streams good in both directions now, all of them without it.",
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


def evidence_short(verdict: Verdict, calls: int) -> list[Cause]:
    """Said where calls were judged and are fewer than the brief asks for; an empty site is told to place the first."""
    if not verdict.missing or not calls:
        return []
    closing = next((r for r in verdict.requirements if r.state == "open" and r.closes), None)
    return [
        Cause(
            key="evidence-short",
            leg="unknown",
            direction="both",
            title="Less was measured than the brief asks for",
            says=(f"So far {', '.join(verdict.missing)}.",),
            alternatives=("What is said above holds for the hours that were measured, and for no others.",),
            remedy="Schedule calls through the business hours of the days that are missing."
            + (f" Open first: {closing.title}. {closing.closes}" if closing else ""),
            who="the consultant",
            gain=f"The score, {verdict.low} to {verdict.high} of 100 now, closes on one number."
            if verdict.low < verdict.high
            else "The verdict is provisional no longer.",
            calls_hit=0,
            calls=calls,
            network=False,
        )
    ]
