"""A place of a walk-about survey judged: what echoes to the gateway and a call to the far end had there.

Echoes tell of the way to the gateway; whether calls would be good is told by the call and by nothing else.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from tarnfell.wire.kinds.look import LookRole, LookSeries

LOSS_PCT = 2.0
"""Of a hundred echoes, from which on loss to the gateway is said."""
LARGE_PCT = 3.0
"""Points that large packets lose more than small ones."""
SWING_MS = 20.0
"""95th percentile above the median, from which on delay to the gateway swings."""
ENOUGH = 20
"""Fewer echoes whose time is up say nothing of a per cent."""


@dataclass(frozen=True)
class CallWay:
    """One direction of the call that was placed there."""

    mos: float | None
    loss_pct: float
    pdv_p95_ms: float | None
    mouth_to_ear_ms: float | None
    reason: str | None = None
    """Why there is no MOS."""


@dataclass(frozen=True)
class Place:
    """What came of one place."""

    up: CallWay | None
    down: CallWay | None
    """None where no call was placed."""
    acceptable: bool | None
    """Whether both directions of the call reached the target; None where no call tells."""
    spoiled: tuple[str, ...]
    """What the probe saw of itself that makes its figures invalid."""
    says: tuple[str, ...]


def judge_place(
    series: Iterable[LookSeries],
    up: CallWay | None,
    down: CallWay | None,
    target_mos: float,
    call_failure: str | None = None,
    spoiled: tuple[str, ...] = (),
) -> Place:
    ways = {"up": up, "down": down}
    scores = [way.mos for way in ways.values() if way is not None]
    acceptable = None
    if scores and not spoiled:
        acceptable = all(mos is not None and mos >= target_mos for mos in scores)
    says = [f"Invalid: {reason}" for reason in spoiled]
    says += _of_the_call(ways, target_mos, call_failure)
    says += _of_the_gateway([one for one in series if one.role == "gateway"])
    return Place(up, down, acceptable, spoiled, tuple(says))


def _of_the_call(ways: dict[str, CallWay | None], target_mos: float, failure: str | None) -> list[str]:
    if failure:
        return [f"No call could be placed from here: {failure}"]
    says = []
    for name, way in ways.items():
        if way is None:
            continue
        if way.mos is None:
            says.append(f"A call has no {_WAYS[name]} here: {way.reason or 'nothing arrived'}.")
        elif way.mos < target_mos:
            pdv = f", PDV p95 {way.pdv_p95_ms:.0f} ms" if way.pdv_p95_ms is not None else ""
            says.append(
                f"{_WAYS[name].capitalize()} had {way.mos:.2f} MOS, the target is {target_mos:.1f}: "
                f"{way.loss_pct:.1f} % lost{pdv}."
            )
    return says


_WAYS = {"up": "upload", "down": "download"}


def loss_pct(one: LookSeries) -> float | None:
    """None where too few echoes have had their time."""
    over = one.answered + one.lost
    return 100 * one.lost / over if over >= ENOUGH else None


def _of_the_gateway(series: list[LookSeries]) -> list[str]:
    """Small packets first. A gateway that answers nothing at all is not asked further."""
    if not series or not any(one.answered for one in series):
        return ["The gateway answers no echo: the call alone tells."] if series and series[0].sent else []
    small, large = series[0], series[-1]
    says = []
    lost, of_large = loss_pct(small), loss_pct(large) if large is not small else None
    if lost is not None and lost >= LOSS_PCT:
        says.append(f"{lost:.1f} % of {small.sent} small packets to the gateway were not answered.")
    if lost is not None and of_large is not None and of_large >= lost + LARGE_PCT:
        says.append(
            f"Large packets lose more: {of_large:.1f} % of those of {large.packet_bytes} bytes, {lost:.1f} % of those "
            f"of {small.packet_bytes}."
        )
    if small.median_ms is not None and small.p95_ms is not None and small.p95_ms - small.median_ms >= SWING_MS:
        says.append(
            f"Delay to the gateway swings: median {small.median_ms:.1f} ms, 95th percentile {small.p95_ms:.1f} ms."
        )
    return says


def series_of(series: Iterable[LookSeries], role: LookRole, large: bool) -> LookSeries | None:
    """Of the two sizes to one target: the smaller, or the larger."""
    own = sorted((one for one in series if one.role == role), key=lambda one: one.packet_bytes)
    return (own[-1] if large else own[0]) if own and (not large or len(own) > 1) else None
