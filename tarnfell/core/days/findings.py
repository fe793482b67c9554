"""Causes that a watch tells of, and what would worry somebody and is no fault: each with its figures."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal
from zoneinfo import ZoneInfo

import numpy as np

from tarnfell.core.causes import FAR_END, LEG_WORDS, NETWORK, PROVIDER, ROUTER, CauseKey, LegName, Way
from tarnfell.core.days.blame import Kind
from tarnfell.core.days.calm import Calm
from tarnfell.core.days.episodes import Episode
from tarnfell.core.days.local import day_and_minute, local_time
from tarnfell.core.days.recurrence import Recurrence
from tarnfell.core.days.rounds import Place, Rounds
from tarnfell.core.days.steps import NEAR_BLOCKS, Step
from tarnfell.core.legs import ROLE_WORDS, ROLES
from tarnfell.core.quality import Criterion, mouth_to_ear_ms

RADIO_SCATTER_MS = 1.0
"""Between the quartiles of a gateway's answers in calm minutes: a cable's lie within tenths of a millisecond."""

Medium = Literal["wired", "wireless"]


@dataclass(frozen=True)
class Finding:
    key: CauseKey
    leg: LegName
    direction: Way
    title: str
    says: str
    remedy: str
    who: str
    episodes: tuple[Episode, ...] = ()


_KEYS: dict[tuple[Kind, LegName], CauseKey] = {
    ("outage", "inside"): "inside-down",
    ("outage", "line"): "line-down",
    ("outage", "beyond"): "beyond-down",
    ("loss", "line"): "line-loss",
    ("loss", "beyond"): "beyond-loss",
    ("delay", "inside"): "inside-congested",
    # Round trips alone do not tell in which direction of the line packets queue.
    ("delay", "line"): "delay-swings",
    ("delay", "beyond"): "beyond-congested",
}
_QUEUES: dict[tuple[LegName, Way | None], CauseKey] = {
    ("line", "up"): "uplink-queue",
    ("line", "down"): "downlink-queue",
}
_TITLES: dict[CauseKey, tuple[str, str, str]] = {
    "inside-down": (
        "The way to the gateway breaks",
        "Look at the cable, switch or access point between test point and gateway, and at its log at these times.",
        NETWORK,
    ),
    "inside-cable": (
        "Packets are lost inside the site",
        "Change the cable and the port between test point and gateway; look for errors and duplex at the switch.",
        NETWORK,
    ),
    "inside-radio": (
        "Packets are lost over the site’s radio",
        "Measure the signal here and move test point or access point; use 5 or 6 GHz; put calls on a cable where that "
        "can be done.",
        NETWORK,
    ),
    "inside-congested": (
        "A link inside the site is congested",
        "Find the link that is full at these times and give EF-marked media priority there, or more capacity.",
        NETWORK,
    ),
    "line-down": ("The line goes down", "Give the provider these times, and ask for its own log of them.", PROVIDER),
    "line-loss": ("The line loses packets", "Give the provider these times, with the samples side by side.", PROVIDER),
    "delay-swings": (
        "Packets queue on the line",
        "Fill the line with calls beside it: that tells the direction. Then shape it at the router to 90–95 % of its "
        "rate, media first.",
        NETWORK,
    ),
    "uplink-queue": (
        "Packets queue on the line, upload",
        "Shape the upload at the router to 90–95 % of the line’s rate with fair queueing, EF-marked media first.",
        ROUTER,
    ),
    "downlink-queue": (
        "Packets queue on the line, download",
        "Shape the download at the router to 90–95 % of the line’s rate with fair queueing, EF-marked media first.",
        ROUTER,
    ),
    "beyond-down": (
        "The far end cannot be reached beyond the provider’s edge",
        "Compare with a second far end; show the provider and whoever runs the far end these times.",
        f"{PROVIDER}, then {FAR_END}",
    ),
    "beyond-loss": (
        "Packets are lost beyond the provider’s edge",
        "Compare with a second far end; show the provider and whoever runs the far end these times.",
        f"{PROVIDER}, then {FAR_END}",
    ),
    "beyond-congested": (
        "Packets queue beyond the provider’s edge",
        "Compare with a second far end; show the provider these times.",
        f"{PROVIDER}, then {FAR_END}",
    ),
}  # fmt: skip


def findings_of(
    rounds: Rounds,
    calm: Calm,
    episodes: Sequence[Episode],
    recurrences: Sequence[Recurrence],
    criterion: Criterion,
    target_mos: float,
    zone: ZoneInfo,
    medium: Medium | None,
) -> list[Finding]:
    """The one that spoiled most time first; then routes, distance, and what could not be told."""
    by_key: dict[tuple[CauseKey, LegName], list[Episode]] = {}
    untold = []
    for one in episodes:
        key = _loss_inside(calm, rounds, medium) if (one.kind, one.leg) == ("loss", "inside") else None
        key = key or _QUEUES.get((one.leg, one.direction)) or _KEYS.get((one.kind, one.leg))
        if key is None:
            untold.append(one)
        else:
            by_key.setdefault((key, one.leg), []).append(one)
    found = []
    for (key, leg), own in by_key.items():
        title, remedy, who = _TITLES[key]
        again = [one for one in recurrences if any(episode in own for episode in one.episodes)]
        says = " ".join([_summary(own, zone), *(one.says for one in again)])
        found.append(Finding(key, leg, _way_of(own), title, says, remedy, who, tuple(own)))
    found.sort(key=lambda one: -sum(episode.seconds for episode in one.episodes))
    found += _routes(rounds, calm, zone)
    found += _far(calm, rounds, criterion, target_mos)
    if untold:
        found.append(_not_told(untold, rounds, zone))
    return found + _silent(rounds)


def _way_of(own: Sequence[Episode]) -> Way:
    """That of all of them; both where they differ, or it is not known."""
    ways = {one.direction for one in own}
    (way,) = ways if len(ways) == 1 else (None,)
    return way or "both"


def _summary(own: Sequence[Episode], zone: ZoneInfo) -> str:
    certain = min(own, key=lambda one: one.certainty)
    where = LEG_WORDS[own[0].leg]
    return f"{_times_and_depth(own, zone)}, {where} (certainty at least {100 * certain.certainty:.0f} %)."


def _times_and_depth(own: Sequence[Episode], zone: ZoneInfo) -> str:
    """Without a full stop."""
    days, _ = day_and_minute(np.array([one.from_us for one in own], np.int64), zone)
    longest = max(own, key=lambda one: one.seconds)
    at = local_time(longest.from_us, zone)
    on = len(np.unique(days))
    if len(own) == 1:
        told = f"Once, for {lasted(longest.seconds)} from {at:%a %d %b %H:%M:%S}"
    else:
        told = (
            f"{len(own)} times on {on} {'day' if on == 1 else 'days'}, {lasted(sum(one.seconds for one in own))} in all"
        )
        told += f"; the longest {lasted(longest.seconds)}, from {at:%a %d %b %H:%M}"
    worst = max(own, key=lambda one: one.loss_pct)
    added = [one for one in own if one.added_p95_ms is not None]
    told += f". Up to {worst.loss_pct:.0f} % were lost"
    if added:
        slowest = max(added, key=lambda one: one.added_p95_ms or 0.0)
        told += f" and up to {max(0.0, slowest.added_p95_ms or 0.0):.0f} ms added (95th percentile)"
    return told


def lasted(seconds: float) -> str:
    """In seconds, minutes, or hours and minutes."""
    if seconds < 120:
        return f"{seconds:.0f} s"
    minutes = int(seconds / 60 + 0.5)  # as screens round, which have the same figure beside it
    return f"{minutes} min" if minutes < 120 else f"{minutes // 60} h {minutes % 60:02d} min"


def _loss_inside(calm: Calm, rounds: Rounds, medium: Medium | None) -> CauseKey:
    if medium is not None:
        return "inside-radio" if medium == "wireless" else "inside-cable"
    scatter = _gateway_scatter(calm, rounds)
    return "inside-radio" if scatter is not None and scatter >= RADIO_SCATTER_MS else "inside-cable"


def _gateway_scatter(calm: Calm, rounds: Rounds) -> float | None:
    for i, place in enumerate(rounds.places):
        if place.role == "gateway" and calm.blocks.answered[i].any():
            return float(np.nanmedian(calm.blocks.quantile(i, 0.75) - calm.blocks.quantile(i, 0.25)))
    return None


def _routes(rounds: Rounds, calm: Calm, zone: ZoneInfo) -> list[Finding]:
    """One for each change, told of the nearest place that has it."""
    changes: list[list[Step]] = []
    for step in calm.steps:
        near = NEAR_BLOCKS * calm.blocks.block_us
        if changes and abs(changes[-1][0].at_us - step.at_us) <= near:
            changes[-1].append(step)
        else:
            changes.append([step])
    found = []
    for steps in changes:
        nearest = min(steps, key=lambda step: ROLES.index(rounds.places[step.place].role))
        leg = _leg_to(rounds, nearest.place)
        way = "rose" if nearest.by_ms > 0 else "fell"
        at = local_time(nearest.at_us, zone)
        found.append(
            Finding(
                "route-changed",
                leg,
                "both",
                "Packets take another route",
                f"On {at:%a %d %b at %H:%M} the round trip to {name_of(rounds.places[nearest.place])} "
                f"{way} by {abs(nearest.by_ms):.1f} ms at once and stayed there, with no more scatter than before. "
                "That is no jitter: a receiver’s buffer follows it.",
                "None while the delay is within the brief; ask the provider if it keeps changing.",
                PROVIDER,
            )
        )
    return found


def _leg_to(rounds: Rounds, place: int) -> LegName:
    """The leg that ends at a place, where the one before it was asked and answered."""
    roles = {one.role for one, rtt in zip(rounds.places, rounds.rtt_ms, strict=True) if not np.all(np.isnan(rtt))}
    role = rounds.places[place].role
    if role == "gateway":
        return "inside"
    if role == "edge":
        return "line" if "gateway" in roles else "inside or line"
    return "beyond" if "edge" in roles else "unknown"


def _far(calm: Calm, rounds: Rounds, criterion: Criterion, target_mos: float) -> list[Finding]:
    found = []
    for i, place in enumerate(rounds.places):
        level = calm.level_ms[i]
        if place.role != "far-end" or np.all(np.isnan(level)):
            continue
        round_trip = float(np.nanmedian(level))
        ear_ms = mouth_to_ear_ms(round_trip / 2, criterion.buffer_ms, criterion) or 0.0
        mos = float(criterion.mos(criterion.rating(ear_ms, 0.0, 1.0)))
        if mos < target_mos:
            found.append(
                Finding(
                    "far-away",
                    "beyond",
                    "both",
                    "The far end is too far away",
                    f"{place.name} answers in {round_trip:.0f} ms at its calmest: {ear_ms:.0f} ms from mouth to ear, "
                    f"which alone leaves {mos:.2f} MOS.",
                    "Choose a far end nearer to the site, or another access than the one it has.",
                    FAR_END,
                )
            )
    return found


def _not_told(untold: Sequence[Episode], rounds: Rounds, zone: ZoneInfo) -> Finding:
    missing = [role for role in ("gateway", "edge") if not _answers(rounds, role)]
    what = " and ".join(ROLE_WORDS[role] for role in ROLES if role in missing)
    mends = (
        f"Sample an address that answers for {what}." if missing else "Watch longer: it was seen too seldom to tell."
    )
    return Finding(
        "evidence-short",
        "unknown",
        "both",
        "On which leg it was cannot be told",
        _times_and_depth(untold, zone)
        + (
            f". {what[0].upper()}{what[1:]} did not answer, so that legs next to it cannot be told apart."
            if missing
            else "."
        ),
        mends,
        "the consultant",
        tuple(untold),
    )


def _answers(rounds: Rounds, role: str) -> bool:
    return any(
        place.role == role and not np.all(np.isnan(rtt))
        for place, rtt in zip(rounds.places, rounds.rtt_ms, strict=True)
    )


def _silent(rounds: Rounds) -> list[Finding]:
    """A far end that never answered while others did: nothing is known of the way to it."""
    heard = ~np.all(np.isnan(rounds.rtt_ms), axis=1)
    return [
        Finding(
            "service-silent",
            "unknown",
            "both",
            "The far end never answered",
            f"{place.name} answered none of {int(rounds.sent[i].sum())} samples, while other addresses did. Whether it "
            "is away or set not to answer is not known, and nothing is known of the way to it.",
            "Place a call to it, or choose a far end that answers.",
            FAR_END,
        )
        for i, place in enumerate(rounds.places)
        if place.role == "far-end" and not heard[i] and heard.any()
    ]


def name_of(place: Place) -> str:
    return f"{ROLE_WORDS[place.role]} ({place.name})"
