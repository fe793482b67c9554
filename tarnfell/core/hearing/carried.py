"""A sentence as it would have come through the packets of one direction of a call."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from tarnfell.core.codecs import Codec
from tarnfell.core.hearing.conceal import conceal
from tarnfell.core.hearing.speech import NARROW_HZ, WIDE_HZ, speech
from tarnfell.core.playout import Playout
from tarnfell.core.trace import Bools

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]

LONGEST_S = 12.0
"""Of one listening."""
A_LAW, MU_LAW = "g711a", "g711u"


@dataclass(frozen=True)
class Heard:
    """Both of shape (samples,), within ±1."""

    rate_hz: int
    sent: Floats
    """After the codec, with every packet in time."""
    heard: Floats
    missed: int
    """Packets of this stretch that were concealed."""
    packets: int


def carried(missed: Bools, codec: Codec, ptime_ms: int, first: int) -> Heard:
    """Packets of a call on end, each with its part of the sentence; ``first`` is the first of them, and ``missed``, of
    shape (packets,), says which the listener missed.

    The sentence begins with the call, so that the same moment sounds the same whatever is asked for beside it.
    """
    rate = WIDE_HZ if codec.band == "wide" else NARROW_HZ
    size = rate * ptime_ms // 1000
    sentence = speech(rate)
    at = (first * size + np.arange(len(missed) * size)) % len(sentence)
    sent = _coded(sentence[at], codec)
    heard = conceal(sent, np.repeat(missed, size), rate)
    return Heard(rate, sent, heard, int(np.count_nonzero(missed)), len(missed))


def worst_stretch(played: Playout, count: int) -> int:
    """The first packet of the stretch of ``count`` in which most were missed; the earliest of several."""
    missed = np.concatenate([[0], np.cumsum(played.missed)])
    if len(played.missed) <= count:
        return 0
    return int(np.argmax(missed[count:] - missed[:-count]))


def _coded(sound: Floats, codec: Codec) -> Floats:
    """As the codec sends it, where that is our own to say: G.711. Of others only the band is told."""
    if codec.name == A_LAW:
        return _a_law(sound)
    return _mu_law(sound) if codec.name == MU_LAW else sound


def _a_law(sound: Floats) -> Floats:
    """There and back by ITU-T G.711's A-law, its characteristic in eight bits."""
    a = 87.6
    size = np.abs(sound)
    whole = np.where(size < 1 / a, a * size, 1 + np.log(np.maximum(a * size, 1.0))) / (1 + np.log(a))
    stepped = (np.floor(np.minimum(whole, 0.999999) * 128) + 0.5) / 128 * (1 + np.log(a))
    back = np.where(stepped < 1, stepped / a, np.exp(stepped - 1) / a)
    return np.asarray(np.sign(sound) * back)


def _mu_law(sound: Floats) -> Floats:
    """There and back by ITU-T G.711's µ-law, its characteristic in eight bits."""
    mu = 255.0
    whole = np.log1p(mu * np.abs(sound)) / np.log1p(mu)
    stepped = np.round(whole * 127) / 127
    return np.asarray(np.sign(sound) * np.expm1(stepped * np.log1p(mu)) / mu)


def pcm16(sound: Floats) -> bytes:
    """16-bit linear, little-endian, as WAV has it."""
    return bytes(np.rint(np.clip(sound, -1.0, 1.0) * 32767).astype("<i2").tobytes())


def log_spectral_distance_db(sent: Floats, heard: Floats, rate_hz: int) -> float:
    """Mean over frames of 20 ms of the root mean square difference of their log spectra; frames of silence left out.

    A plain objective distance (after Gray and Markel, 1976): not a model of ears, but it grows with what is missing.
    """
    size = rate_hz // 50
    frames = len(sent) // size
    window = np.hanning(size)
    spectra = [
        np.abs(np.fft.rfft(one[: frames * size].reshape(frames, size) * window, axis=1)) ** 2 for one in (sent, heard)
    ]
    loud = spectra[0].sum(axis=1) > 1e-4 * spectra[0].sum(axis=1).max()
    floor = 1e-6 * float(spectra[0].max())
    logs = [10 * np.log10(one[loud] + floor) for one in spectra]
    return float(np.sqrt(((logs[0] - logs[1]) ** 2).mean(axis=1)).mean()) if loud.any() else 0.0
