"""A few seconds that sound like speech and say nothing, made here by rule: nobody's voice, and nobody's recording.

A pulse train at a falling pitch, and noise, go through three resonators that glide from vowel to vowel (the
source-filter model of speech), syllable by syllable, with pauses between phrases. It is the same at every call.
"""

from __future__ import annotations

from functools import cache

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]

WIDE_HZ = 16_000
NARROW_HZ = 8_000
LEVEL = 0.05
"""Root mean square of full scale while it speaks: -26 dB, as telephone speech is sent (ITU-T P.56)."""
_BLOCK = WIDE_HZ // 200
_BANDWIDTHS = (80.0, 110.0, 160.0)
_VOWELS = {
    "a": (730.0, 1090.0, 2440.0),
    "e": (530.0, 1840.0, 2480.0),
    "i": (270.0, 2290.0, 3010.0),
    "o": (570.0, 840.0, 2410.0),
    "u": (300.0, 870.0, 2240.0),
}
"""First three formants in Hz (Peterson and Barney, 1952, means of men)."""
_PHRASES = ("sa to mi e la", "ku fe no ta", "i so ra me tu sa", "o fi ne")
_VOICELESS = "stkf"
_VOWEL_S, _ONSET_S, _PAUSE_S = 0.17, 0.06, 0.22


@cache
def speech(rate_hz: int) -> Floats:
    """About five seconds at 8 or 16 kHz, shape (samples,), within ±1; to be repeated for as long as is wanted."""
    if rate_hz not in (NARROW_HZ, WIDE_HZ):
        raise ValueError(f"Speech is made at {NARROW_HZ} or {WIDE_HZ} Hz, not at {rate_hz}.")
    noise = np.random.default_rng(7)
    parts: list[Floats] = []
    for phrase in _PHRASES:
        syllables = phrase.split()
        for place, syllable in enumerate(syllables):
            pitch_hz = 138.0 - 30.0 * place / len(syllables)
            parts.append(_onset(syllable[0], noise))
            parts.append(_vowel(syllable[-1], syllable[0], pitch_hz))
        parts.append(np.zeros(round(_PAUSE_S * WIDE_HZ)))
    whole = np.concatenate(parts)
    if rate_hz == NARROW_HZ:
        # A telephone's band, then every second sample.
        whole = np.convolve(whole, _low_pass())[: len(whole) : 2]
    spoken = np.abs(whole) > 1e-3 * np.abs(whole).max()
    return np.asarray(np.clip(whole * LEVEL / np.sqrt(np.mean(whole[spoken] ** 2)), -1.0, 1.0))


def _onset(letter: str, noise: np.random.Generator) -> Floats:
    """The consonant before a vowel: a hiss, or nothing but a short closure for those that are voiced."""
    count = round(_ONSET_S * WIDE_HZ)
    if letter not in _VOICELESS:
        return np.zeros(count // 3)
    hiss = noise.standard_normal(count)
    high = np.convolve(hiss, (1.0, -0.9) if letter in "sf" else (1.0, -0.3))[:count]
    return np.asarray(0.25 * high * np.hanning(count))


def _vowel(letter: str, before: str, pitch_hz: float) -> Floats:
    """From a neutral mouth towards its vowel, block by block, so that the resonators glide."""
    from scipy.signal import lfilter  # loaded late: it takes longer than all the rest of the server

    count = round(_VOWEL_S * WIDE_HZ) // _BLOCK * _BLOCK
    period = WIDE_HZ / (pitch_hz * np.linspace(1.04, 0.94, count))
    phase = np.cumsum(1.0 / period)
    pulses = np.diff(np.floor(phase), prepend=0.0)
    source = np.asarray(lfilter([1.0], [1.0, -0.96], pulses))
    target = np.array(_VOWELS[letter])
    start = np.array((500.0, 1500.0, 2500.0)) if before in _VOICELESS else np.array((350.0, 1200.0, 2300.0))
    found = np.empty(count)
    states = [np.zeros(2) for _ in _BANDWIDTHS]
    for first in range(0, count, _BLOCK):
        share = min(1.0, 2.5 * first / count)
        block = source[first : first + _BLOCK]
        for number, (hz, width) in enumerate(zip(start + share * (target - start), _BANDWIDTHS, strict=True)):
            r = np.exp(-np.pi * width / WIDE_HZ)
            poles = [1.0, -2 * r * np.cos(2 * np.pi * hz / WIDE_HZ), r * r]
            block, states[number] = lfilter([1 - r], poles, block, zi=states[number])
        found[first : first + _BLOCK] = block
    edge = count // 6
    envelope = np.ones(count)
    envelope[:edge] = 0.5 - 0.5 * np.cos(np.pi * np.arange(edge) / edge)
    envelope[-edge:] = envelope[:edge][::-1]
    return np.asarray(found * envelope)


def _low_pass() -> Floats:
    """To 3.4 kHz at 16 kHz."""
    n = np.arange(-32, 33)
    taps = np.sinc(2 * 3400 / WIDE_HZ * n) * np.hamming(len(n))
    return np.asarray(taps / taps.sum())
