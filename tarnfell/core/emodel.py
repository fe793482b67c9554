"""The E-model, ITU-T G.107 (06/2015): from delay and loss to R and MOS.

Every term is here with the recommendation's symbols and default values
(G.107 Table 2), so that a number in a report can be followed line by line.
All functions accept scalars or arrays and broadcast.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache

import numpy as np
from numpy.typing import ArrayLike, NDArray

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Parameters:
    """Transmission parameters with the default values of G.107 Table 2 (dB, dBm0p or ms)."""

    SLR: float = 8.0
    RLR: float = 2.0
    STMR: float = 15.0
    LSTR: float = 18.0
    Ds: float = 3.0
    Dr: float = 3.0
    TELR: float = 65.0
    WEPL: float = 110.0
    qdu: float = 1.0
    Nc: float = -70.0
    Nfor: float = -64.0
    Ps: float = 35.0
    Pr: float = 35.0
    A: float = 0.0
    mT: float = 100.0
    """Minimum perceivable delay, ms (G.107 Table 1, default delay sensitivity class)."""
    sT: float = 1.0


DEFAULTS = Parameters()


@dataclass(frozen=True)
class Rating:
    """R with the parts it was made of, so that the largest impairment can be named."""

    R: Floats
    Ro: float
    Is: float
    Idte: Floats
    Idle: Floats
    Idd: Floats
    Ie_eff: Floats


def rate(
    one_way_ms: ArrayLike,
    loss_pct: ArrayLike,
    burst_ratio: ArrayLike,
    ie: float,
    bpl: float,
    parameters: Parameters = DEFAULTS,
) -> Rating:
    """Transmission rating of a connection (G.107 §7.1, eq. 7-1), R unclamped.

    ``one_way_ms`` is mouth-to-ear delay Ta; T = Ta and Tr = 2·Ta. ``loss_pct``
    is what the listener missed, 0…100. Shapes broadcast.
    """
    p = parameters
    Ta = np.asarray(one_way_ms, dtype=float)
    noise, Ro, Is = _without_delay(p)
    Idte = _talker_echo(p, Ro, noise, Ta)
    Idle = _listener_echo(p, Ro, 2 * Ta)
    Idd = pure_delay(Ta, p)
    Ie_eff = equipment_impairment(loss_pct, burst_ratio, ie, bpl)
    R = Ro - Is - (Idte + Idle + Idd) - Ie_eff + p.A
    return Rating(R=R, Ro=Ro, Is=Is, Idte=Idte, Idle=Idle, Idd=Idd, Ie_eff=Ie_eff)


@cache
def _without_delay(p: Parameters) -> tuple[float, float, float]:
    """No, Ro and Is, which neither delay nor loss changes: they take longer than all the rest."""
    noise = _noise(p)
    Ro = 15 - 1.5 * (p.SLR + noise)
    return noise, Ro, _simultaneous_impairment(p, Ro, noise)


MOST_BURST_RATIO = 8.0
MOST_IE_EFF = 95.0

RO_WIDEBAND = 129.0
"""Ro of a clean wideband connection on the common scale of G.107 and G.107.1."""


def rate_wideband(one_way_ms: ArrayLike, loss_pct: ArrayLike, burst_ratio: ArrayLike, ie: float, bpl: float) -> Floats:
    """R of a wideband connection, unclamped, up to 129: Ro,WB − Idd − Ie,eff,WB (after ITU-T G.107.1).

    Echo and noise terms of G.107.1 are taken at their clean defaults, where they are nothing. ``ie`` and ``bpl`` are
    the wideband values (G.113 App. IV).
    """
    return np.asarray(RO_WIDEBAND - pure_delay(one_way_ms) - equipment_impairment(loss_pct, burst_ratio, ie, bpl))


def mos_wideband_from_r(R: ArrayLike) -> Floats:
    """Mean opinion score on the wideband scale, MOS-CQEW (P.800.1): the cubic of G.107 Annex B at R/1.29.

    Holds for narrowband connections as well: what a listener used to wideband thinks of them.
    """
    return mos_from_r(np.asarray(R, dtype=float) / 1.29)


def equipment_impairment(loss_pct: ArrayLike, burst_ratio: ArrayLike, ie: float, bpl: float) -> Floats:
    """Ie,eff: what codec and loss cost together (G.107 §7.5, eq. 7-29).

    BurstR is taken as 1…8 and the result as at most 95: beyond that the formula was not fitted, and one long outage
    would cost less with more loss around it.
    """
    ppl = np.asarray(loss_pct, dtype=float)
    ratio = np.clip(np.asarray(burst_ratio, dtype=float), 1.0, MOST_BURST_RATIO)
    return np.asarray(np.minimum(ie + (95 - ie) * ppl / (ppl / ratio + bpl), MOST_IE_EFF), dtype=float)


def pure_delay(one_way_ms: ArrayLike, parameters: Parameters = DEFAULTS) -> Floats:
    """Idd: what delay alone costs a conversation (G.107 §7.4.3, eq. 7-27)."""
    p = parameters
    Ta = np.asarray(one_way_ms, dtype=float)
    X = np.log2(np.maximum(Ta, p.mT) / p.mT)  # 0 up to mT, where delay costs nothing
    s6 = 6 * p.sT
    return np.asarray(25 * ((1 + X**s6) ** (1 / s6) - 3 * (1 + (X / 3) ** s6) ** (1 / s6) + 2))


def mos_from_r(R: ArrayLike) -> Floats:
    """Mean opinion score from R (G.107 Annex B), never below 1; scale MOS-CQEN (P.800.1)."""
    r = np.clip(np.asarray(R, dtype=float), 0, 100)
    mos = 1 + 0.035 * r + r * (r - 60) * (100 - r) * 7e-6
    # The cubic dips below 1 for R under 6.5; the scale does not.
    return np.asarray(np.maximum(mos, 1.0))


def clamp_r(R: ArrayLike, most: float = 100.0) -> Floats:
    """R as reported: 0…100, or to 129 for a wideband connection."""
    return np.asarray(np.clip(np.asarray(R, dtype=float), 0.0, most))


def _noise(p: Parameters) -> float:
    """No, all noise as one source at the 0 dBr point (G.107 §7.2, eq. 7-3 to 7-7)."""
    OLR = p.SLR + p.RLR
    Nos = p.Ps - p.SLR - p.Ds - 100 + 0.004 * (p.Ps - OLR - p.Ds - 14) ** 2
    Pre = p.Pr + 10 * np.log10(1 + 10 ** ((10 - p.LSTR) / 10))
    Nor = p.RLR - 121 + Pre + 0.008 * (Pre - 35) ** 2
    Nfo = p.Nfor + p.RLR
    return float(10 * np.log10(sum(10 ** (n / 10) for n in (p.Nc, Nos, Nor, Nfo))))


def _side_tone(p: Parameters, T: ArrayLike) -> Floats:
    """STMRo (G.107 §7.3, eq. 7-12)."""
    return np.asarray(
        -10 * np.log10(10 ** (-p.STMR / 10) + np.exp(-np.asarray(T, dtype=float) / 4) * 10 ** (-p.TELR / 10))
    )


def _ist(p: Parameters, T: ArrayLike) -> Floats:
    """Impairment by non-optimum side tone (G.107 §7.3, eq. 7-11)."""
    s = _side_tone(p, T)
    return np.asarray(
        12 * (1 + ((s - 13) / 6) ** 8) ** (1 / 8)
        - 28 * (1 + ((s + 1) / 19.4) ** 35) ** (1 / 35)
        - 13 * (1 + ((s - 3) / 33) ** 13) ** (1 / 13)
        + 29
    )


def _simultaneous_impairment(p: Parameters, Ro: float, noise: float) -> float:
    """Is = Iolr + Ist + Iq (G.107 §7.3). Ist is taken at T = 0: it belongs to the voice, not the delay."""
    Xolr = p.SLR + p.RLR + 0.2 * (64 + noise - p.RLR)
    Iolr = 20 * ((1 + (Xolr / 8) ** 8) ** (1 / 8) - Xolr / 8)
    Q = 37 - 15 * np.log10(p.qdu)
    G = 1.07 + 0.258 * Q + 0.0602 * Q**2
    Y = (Ro - 100) / 15 + 46 / 8.4 - G / 9
    Z = 46 / 30 - G / 40
    Iq = 15 * np.log10(1 + 10**Y + 10**Z)
    return float(Iolr + _ist(p, 0.0) + Iq)


def _talker_echo(p: Parameters, Ro: float, noise: float, T: Floats) -> Floats:
    """Idte (G.107 §7.4.1, eq. 7-17 to 7-23); no echo is heard below 1 ms."""
    TERV = p.TELR - 40 * np.log10((1 + T / 10) / (1 + T / 150)) + 6 * np.exp(-0.3 * T**2)
    if p.STMR < 9:
        TERV = TERV + _ist(p, T) / 2
    Roe = -1.5 * (noise - p.RLR)
    Re = 80 + 2.5 * (TERV - 14)
    half = (Roe - Re) / 2
    Idte = (half + np.sqrt(half**2 + 100) - 1) * (1 - np.exp(-T))
    if p.STMR > 20:
        Idte = np.sqrt(Idte**2 + _ist(p, T) ** 2)
    return np.where(T < 1, 0.0, Idte)


def _listener_echo(p: Parameters, Ro: float, Tr: Floats) -> Floats:
    """Idle (G.107 §7.4.2, eq. 7-24 to 7-26)."""
    Rle = 10.5 * (p.WEPL + 7) * (Tr + 1) ** -0.25
    half = (Ro - Rle) / 2
    return np.asarray(half + np.sqrt(half**2 + 169))
