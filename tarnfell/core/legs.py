"""What each leg of a path adds, from echoes to places along it.

A router may be slow to answer for itself, or not answer at all, while it passes everything on. So what reaches a place
is bad by no more than the least bad of that place and all beyond it; what a leg adds is the difference of neighbours.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np

Role = Literal["gateway", "edge", "outside", "far-end"]
ROLES: tuple[Role, ...] = ("gateway", "edge", "outside", "far-end")
DEPTH: dict[Role, int] = {"gateway": 0, "edge": 1, "outside": 2, "far-end": 2}
"""How far along the path: addresses outside and far ends lie beside each other, not behind."""
ROLE_WORDS = {
    "gateway": "the gateway",
    "edge": "the provider’s edge",
    "outside": "an outside address",
    "far-end": "the far end",
}
_LEG_BEFORE = {"gateway": "inside", "edge": "line", "outside": "beyond", "far-end": "beyond"}
SLOW_MS = 20.0
SLOW_LOSS_PCT = 1.0
NOTICEABLE_LOSS_PCT = 0.5
NOTICEABLE_MS = 10.0


@dataclass(frozen=True)
class Stretch:
    """Echoes of one minute, or of a whole log."""

    sent: int
    lost: int
    p50_ms: float | None
    """None where none was answered."""
    p95_ms: float | None


@dataclass(frozen=True)
class Target:
    """One place along the path."""

    role: Role
    host: str | None
    whole: Stretch
    minutes: dict[int, Stretch] | None
    """By minute since 1970; None where the log does not tell when it was."""


@dataclass(frozen=True)
class Reached:
    """A place, with what its own answers say and what must have been on the way to it."""

    role: Role
    host: str | None
    own: Stretch
    through_loss_pct: float
    through_p50_ms: float | None
    through_p95_ms: float | None
    """Of the whole logs or, minute by minute, the 95th percentile of the minutes' own."""


@dataclass(frozen=True)
class LegAdds:
    leg: str
    to: Role
    loss_pct: float
    p50_ms: float | None
    p95_ms: float | None


@dataclass(frozen=True)
class EchoPath:
    places: list[Reached]
    """From the inside out."""
    legs: list[LegAdds]
    minutes: int | None
    """Common to all logs, by which they were compared; None where their times are not known."""
    not_faults: list[tuple[str, str]]
    """Key (hop-slow, echo-muted) and sentence."""
    says: str


def stretch_of(rtts_ms: Iterable[float | None], answered: Iterable[bool]) -> Stretch:
    """Echoes as one; ``rtts_ms`` may be None for an answer without a time."""
    known = [rtt for rtt in rtts_ms if rtt is not None]
    came = list(answered)
    p50, p95 = (float(q) for q in np.percentile(known, [50, 95])) if known else (None, None)
    return Stretch(len(came), came.count(False), p50, p95)


def echo_path(targets: Sequence[Target]) -> EchoPath:
    """One picture of several logs, at most one a role. Raises ValueError where a role is there twice, or none is."""
    roles = [t.role for t in targets]
    if not targets or len(set(roles)) != len(roles):
        raise ValueError("Each place along the path takes one log.")
    ordered = sorted(targets, key=lambda t: ROLES.index(t.role))
    common = _common_minutes(ordered)
    places = [_reached(ordered, i, common) for i in range(len(ordered))]
    legs = [_adds(places[i - 1] if i else None, place) for i, place in enumerate(places)]
    says = _says(legs, places, "in its worst minutes" if common else "at the 95th percentile")
    return EchoPath(places, legs, len(common) if common else None, _not_faults(places), says)


def _common_minutes(targets: Sequence[Target]) -> list[int]:
    sets = [set(t.minutes) for t in targets if t.minutes]
    if len(sets) < len(targets):
        return []
    return sorted(set.intersection(*sets))


def _reached(targets: Sequence[Target], i: int, common: list[int]) -> Reached:
    beyond = [t for t in targets[i:] if t.whole.lost < t.whole.sent] or [targets[i]]
    if common:
        stretches = [[t.minutes[m] for t in beyond if t.minutes] for m in common]
        weight = np.array([row[0].sent for row in stretches], dtype=float)
        loss = np.array([min(_loss_pct(s) for s in row) for row in stretches])
        p50, p95 = (
            [least for row in stretches if (least := _least(row, name)) is not None] for name in ("p50_ms", "p95_ms")
        )
        return Reached(
            targets[i].role, targets[i].host, targets[i].whole, float(np.average(loss, weights=weight)),
            float(np.median(p50)) if p50 else None, float(np.percentile(p95, 95)) if p95 else None,
        )  # fmt: skip
    whole = [t.whole for t in beyond]
    return Reached(
        targets[i].role, targets[i].host, targets[i].whole, min(_loss_pct(s) for s in whole), _least(whole, "p50_ms"),
        _least(whole, "p95_ms"),
    )  # fmt: skip


def _loss_pct(stretch: Stretch) -> float:
    return 100 * stretch.lost / stretch.sent if stretch.sent else 0.0


def _least(stretches: Iterable[Stretch], name: Literal["p50_ms", "p95_ms"]) -> float | None:
    return min((v for s in stretches if (v := getattr(s, name)) is not None), default=None)


def _adds(before: Reached | None, place: Reached) -> LegAdds:
    def more(now: float | None, then: float | None) -> float | None:
        return None if now is None else max(0.0, now - (then or 0.0))

    leg = _LEG_BEFORE[place.role]
    if before is None and place.role != "gateway":
        leg = "inside and line" if place.role == "edge" else "the whole path"
    elif before is not None and before.role == "gateway" and place.role in ("outside", "far-end"):
        leg = "line and beyond"
    return LegAdds(
        leg=leg,
        to=place.role,
        loss_pct=max(0.0, place.through_loss_pct - (before.through_loss_pct if before else 0.0)),
        p50_ms=more(place.through_p50_ms, before.through_p50_ms if before else None),
        p95_ms=more(place.through_p95_ms, before.through_p95_ms if before else None),
    )


def _not_faults(places: Sequence[Reached]) -> list[tuple[str, str]]:
    told: list[tuple[str, str]] = []
    for i, place in enumerate(places):
        name = ROLE_WORDS[place.role]
        silent = place.own.lost == place.own.sent
        if silent and any(p.own.lost < p.own.sent for p in places[i + 1 :]):
            told.append(
                ("echo-muted", f"{_begin(name)} never answered, while what lies beyond it did: it is set not to.")
            )
            continue
        slow = (place.own.p95_ms or 0.0) - (place.through_p95_ms or 0.0)
        extra = _loss_pct(place.own) - place.through_loss_pct
        if not silent and (slow > SLOW_MS or extra > SLOW_LOSS_PCT):
            told.append(
                (
                    "hop-slow",
                    f"{_begin(name)} answers slowly for itself ({place.own.p95_ms or 0:.0f} ms 95th percentile, "
                    f"{_loss_pct(place.own):.1f} % unanswered) but passes packets on: beyond it "
                    f"{place.through_p95_ms or 0:.0f} ms and {place.through_loss_pct:.1f} %.",
                )
            )
    return told


def _says(legs: Sequence[LegAdds], places: Sequence[Reached], at_worst: str) -> str:
    lossy = max(legs, key=lambda leg: leg.loss_pct)
    slow = max(legs, key=lambda leg: (leg.p95_ms or 0.0) - (leg.p50_ms or 0.0))
    swings = (slow.p95_ms or 0.0) - (slow.p50_ms or 0.0)
    told = []
    if lossy.loss_pct >= NOTICEABLE_LOSS_PCT:
        told.append(
            f"{lossy.loss_pct:.1f} % of echoes are lost on the leg “{lossy.leg}”, up to {ROLE_WORDS[lossy.to]}."
        )
    if swings >= NOTICEABLE_MS:
        told.append(
            f"Delay swings most on the leg “{slow.leg}”: it adds {slow.p50_ms or 0:.0f} ms in the median and "
            f"{slow.p95_ms or 0:.0f} ms {at_worst}."
        )
    if told:
        return " ".join(told)
    last = places[-1]
    return (
        f"No leg stands out: through {ROLE_WORDS[last.role]} {last.through_loss_pct:.1f} % lost, "
        f"{last.through_p95_ms or 0:.0f} ms round trip {at_worst}."
    )


def _begin(words: str) -> str:
    return words[0].upper() + words[1:]
