"""Missing stretches of sound filled from what was heard before them, after the method of ITU-T G.711 Appendix I.

The last pitch period before the gap is repeated: after 10 ms the last two, after 20 ms the last three, so that it does
not buzz. From the second 10 ms on it fades by a fifth each 10 ms; after 60 ms there is silence. What comes after the
gap is blended in. Unlike the appendix, nothing is delayed by 3.75 ms to blend the beginning of a gap as well.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
Bools = NDArray[np.bool_]

STEP_S = 0.010
SHORTEST_S, LONGEST_S = 0.005, 0.015
"""Pitch periods that are looked for: 200 to 66 Hz."""
WINDOW_S = 0.020
"""What is compared."""
FADE_A_STEP = 0.2
SILENT_S = 0.060
MOST_PERIODS = 3
BLEND_A_STEP_S, MOST_BLEND_S = 0.004, 0.010


def conceal(sound: Floats, missing: Bools, rate_hz: int) -> Floats:
    """The sound with its missing samples filled; both of shape (samples,). What is marked missing is never read."""
    heard = np.where(missing, 0.0, sound)
    edges = np.flatnonzero(np.diff(missing.astype(np.int8), prepend=0, append=0))
    for begin, end in zip(edges[::2].tolist(), edges[1::2].tolist(), strict=True):
        _fill(heard, begin, end, rate_hz)
    return heard


def _fill(heard: Floats, begin: int, end: int, rate_hz: int) -> None:
    step = round(STEP_S * rate_hz)
    longest = round(LONGEST_S * rate_hz)
    history = heard[max(0, begin - MOST_PERIODS * longest - round(WINDOW_S * rate_hz)) : begin].copy()
    if len(history) < longest + round(WINDOW_S * rate_hz):
        return  # the call has just begun: there is nothing to go by
    period = _pitch(history, rate_hz)
    quarter = period // 4
    blend = min(len(heard) - end, quarter + min(round(MOST_BLEND_S * rate_hz), _blend(end - begin, step, rate_hz)))
    made = _continued(history, period, end - begin + blend, step)
    made *= _fading(len(made), step, rate_hz)
    heard[begin:end] = made[: end - begin]
    if blend > 0:
        rising = np.arange(1, blend + 1) / (blend + 1)
        heard[end : end + blend] = (1 - rising) * made[end - begin :] + rising * heard[end : end + blend]


def _blend(gap: int, step: int, rate_hz: int) -> int:
    return max(0, -(-gap // step) - 1) * round(BLEND_A_STEP_S * rate_hz)


def _pitch(history: Floats, rate_hz: int) -> int:
    """The lag, in samples, at which the end of the history is most like itself (normalised cross-correlation)."""
    window = round(WINDOW_S * rate_hz)
    tail = history[-window:]
    lags = np.arange(round(SHORTEST_S * rate_hz), round(LONGEST_S * rate_hz) + 1)
    shifted = np.stack([history[len(history) - window - lag : len(history) - lag] for lag in lags])
    energy = np.maximum((shifted**2).sum(axis=1), 1e-12)
    return int(lags[np.argmax(shifted @ tail / np.sqrt(energy))])


def _continued(history: Floats, period: int, count: int, step: int) -> Floats:
    """One period again and again, then two, then three; the joints overlap by a quarter of a period."""
    made = np.empty(0)
    for number in range(1, MOST_PERIODS + 1):
        length = number * period
        quarter = period // 4
        loop = history[-length:].copy()
        if len(history) >= length + quarter:
            # The end of the loop glides into what comes before its beginning.
            rising = np.arange(1, quarter + 1) / (quarter + 1)
            before = history[-length - quarter : -length]
            loop[-quarter:] = (1 - rising) * loop[-quarter:] + rising * before
        wanted = (step if number < MOST_PERIODS else max(0, count - len(made))) if len(made) < count else 0
        start = len(made) % period
        part = np.tile(loop, -(-(start + wanted) // len(loop)))[start : start + wanted]
        made = np.concatenate([made, part])
    return made[:count]


def _fading(count: int, step: int, rate_hz: int) -> Floats:
    steps = np.arange(count) / step
    fading = np.clip(1.0 - FADE_A_STEP * np.maximum(0.0, steps - 1.0), 0.0, 1.0)
    fading[round(SILENT_S * rate_hz) :] = 0.0
    return np.asarray(fading)
