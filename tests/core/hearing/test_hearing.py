"""What is heard of a call: speech made by rule, gaps filled by the published method, and ears that agree with MOS."""

from __future__ import annotations

import numpy as np
import pytest
from numpy.typing import NDArray
from scipy.stats import spearmanr

from tarnfell.core.codecs import find_codec
from tarnfell.core.hearing import conceal as filling
from tarnfell.core.hearing.carried import carried, log_spectral_distance_db, pcm16, worst_stretch
from tarnfell.core.hearing.conceal import conceal
from tarnfell.core.hearing.speech import LEVEL, NARROW_HZ, WIDE_HZ, _vowel, speech
from tarnfell.core.playout import Playout
from tarnfell.core.quality import criterion_for, judge
from tarnfell.core.trace import build_trace

RATE = NARROW_HZ
MS = RATE // 1000


def played(missed: NDArray[np.bool_]) -> Playout:
    return Playout(np.zeros(1), np.zeros(1), np.zeros(len(missed), bool), missed)


def tone(hz: float, seconds: float) -> NDArray[np.float64]:
    return np.asarray(0.5 * np.sin(2 * np.pi * hz * np.arange(round(seconds * RATE)) / RATE))


def gap(length: int, first_ms: float, last_ms: float) -> NDArray[np.bool_]:
    missing = np.zeros(length, bool)
    missing[round(first_ms * MS) : round(last_ms * MS)] = True
    return missing


# Speech


def test_a_vowel_begins_and_ends_without_a_click() -> None:
    sound = _vowel("a", "p", 120.0)
    loudest = np.abs(sound).max()
    assert np.abs(sound[-8:]).max() < 0.001 * loudest
    assert np.abs(sound[:8]).max() < 0.001 * loudest


@pytest.mark.parametrize("rate", [NARROW_HZ, WIDE_HZ])
def test_speech_is_as_loud_as_on_a_telephone_and_has_pauses(rate: int) -> None:
    sound = speech(rate)
    spoken = np.abs(sound) > 1e-3 * np.abs(sound).max()
    assert np.sqrt(np.mean(sound[spoken] ** 2)) == pytest.approx(LEVEL, rel=0.05)
    assert 20 * np.log10(LEVEL) == pytest.approx(-26, abs=0.1)
    assert np.abs(sound).max() < 1.0
    assert len(sound) / rate == 4.66  # voiced consonants close for a third of the time that others hiss
    still = np.convolve(np.abs(sound), np.ones(rate // 10) / (rate // 10), "valid")
    assert still.min() < 1e-3 * still.max()


def test_narrow_speech_keeps_to_a_telephones_band_and_wide_does_not() -> None:
    power = {rate: np.abs(np.fft.rfft(speech(rate))) ** 2 for rate in (NARROW_HZ, WIDE_HZ)}
    hz = {rate: np.fft.rfftfreq(len(speech(rate)), 1 / rate) for rate in power}
    assert power[NARROW_HZ][hz[NARROW_HZ] > 3700].sum() < 1e-3 * power[NARROW_HZ].sum()
    assert power[WIDE_HZ][hz[WIDE_HZ] > 3700].sum() > 1e-3 * power[WIDE_HZ].sum()


def test_there_is_no_other_rate() -> None:
    with pytest.raises(ValueError, match="44100"):
        speech(44_100)


# Concealment


def test_a_steady_tone_goes_on_through_a_short_gap() -> None:
    sound = tone(125, 0.4)  # a period of 8 ms
    missing = gap(len(sound), 200, 210)
    heard = conceal(sound, missing, RATE)
    assert np.abs(heard - sound)[missing].max() < 0.05
    assert np.array_equal(heard[: 200 * MS], sound[: 200 * MS])


def test_a_gap_fades_by_a_fifth_each_step_after_the_first_and_ends_in_silence() -> None:
    sound = tone(125, 0.6)
    heard = conceal(sound, gap(len(sound), 200, 400), RATE)

    def level(first_ms: int) -> float:
        part = heard[first_ms * MS : (first_ms + 8) * MS]
        return float(np.sqrt(np.mean(part**2)) / np.sqrt(np.mean(sound[: 80 * MS] ** 2)))

    assert level(201) == pytest.approx(1.0, abs=0.05)
    for step, expected in ((1, 0.9), (2, 0.7), (3, 0.5), (4, 0.3), (5, 0.1)):
        assert level(201 + 10 * step) == pytest.approx(expected, abs=0.06), step
    assert np.all(heard[261 * MS : 400 * MS] == 0)


def test_what_comes_after_a_gap_is_blended_in_and_then_left_alone() -> None:
    """A quarter of a period of 8 ms, and 4 ms for each further 10 ms of gap, at most 10."""
    sound = tone(125, 0.6)
    other = sound.copy()
    other[240 * MS :] = 0.25
    heard = conceal(other, gap(len(sound), 200, 240), RATE)
    blended = (2 + 10) * MS
    # Without a blend it would jump by 0.25 and more.
    assert abs(heard[240 * MS] - heard[240 * MS - 1]) < 0.05
    assert np.array_equal(heard[240 * MS + blended :], other[240 * MS + blended :])
    assert not np.array_equal(heard[: 240 * MS + blended], other[: 240 * MS + blended])
    for begin, most_ms in ((200, 12), (220, 6), (230, 2)):
        heard = conceal(other, gap(len(sound), begin, 240), RATE)
        last = int(np.nonzero(heard != other)[0].max()) + 1 - 240 * MS
        # Of its last sample the blend may leave what was there.
        assert most_ms * MS - 3 <= last <= most_ms * MS, begin


def test_what_is_missing_is_never_read() -> None:
    sound = speech(RATE)[: 2 * RATE]
    missing = np.random.default_rng(3).random(len(sound) // (20 * MS)) < 0.2
    missing = np.repeat(missing, 20 * MS)[: len(sound)]
    missing = np.concatenate([missing, np.zeros(len(sound) - len(missing), bool)])
    spoiled = np.where(missing, 9.0, sound)
    assert np.array_equal(conceal(spoiled, missing, RATE), conceal(sound, missing, RATE))


def test_a_gap_at_the_very_beginning_is_silent_and_one_at_the_end_is_filled() -> None:
    sound = tone(125, 0.3)
    assert np.all(conceal(sound, gap(len(sound), 0, 20), RATE)[: 20 * MS] == 0)
    heard = conceal(sound, gap(len(sound), 280, 300), RATE)
    assert np.abs(heard[281 * MS : 288 * MS]).max() > 0.3


def test_nothing_missing_changes_nothing() -> None:
    sound = tone(125, 0.2)
    assert np.array_equal(conceal(sound, np.zeros(len(sound), bool), RATE), sound)


@pytest.mark.parametrize("hz", [80, 125, 180])
def test_the_pitch_is_found(hz: int) -> None:
    wave = sum(tone(hz * k, 0.1) / k for k in range(1, 6))
    periods = filling._pitch(np.asarray(wave), RATE) * hz / RATE
    assert round(periods) >= 1  # two periods repeat as well as one does
    assert periods == pytest.approx(round(periods), abs=0.03)


# A call


@pytest.mark.parametrize("codec", ["g711a", "g711u"])
def test_g711_costs_what_eight_bits_cost(codec: str) -> None:
    """Both laws have a signal to quantising noise ratio of 33 to 40 dB at the level of speech (ITU-T G.712)."""
    made = carried(np.zeros(200, bool), find_codec(codec), 20, 0)
    plain = np.resize(speech(RATE), len(made.sent))
    ratio = 10 * np.log10(np.sum(plain**2) / np.sum((plain - made.sent) ** 2))
    assert 33 < ratio < 40
    assert np.array_equal(made.sent, made.heard)
    assert made.missed == 0


def test_a_packet_is_as_long_as_its_interval_and_the_same_moment_sounds_the_same() -> None:
    missed = np.zeros(300, bool)
    missed[[20, 21]] = True
    codec = find_codec("g711a")
    whole = carried(missed, codec, 20, 0)
    part = carried(missed[10:60], codec, 20, 10)
    assert (whole.rate_hz, len(whole.sent)) == (8000, 300 * 160)
    assert np.array_equal(part.sent, whole.sent[10 * 160 : 60 * 160])
    assert (part.missed, part.packets) == (2, 50)
    changed = np.flatnonzero(part.sent != part.heard)
    assert changed[0] >= 10 * 160
    assert changed[-1] < 13 * 160


def test_wideband_codecs_are_heard_wide() -> None:
    assert carried(np.zeros(10, bool), find_codec("g722"), 20, 0).rate_hz == WIDE_HZ


def test_the_worst_stretch_is_where_most_is_missed() -> None:
    missed = np.zeros(1000, bool)
    missed[[5, 600, 640, 690, 950]] = True
    first = worst_stretch(played(missed), 100)
    assert missed[first : first + 100].sum() == 3
    assert worst_stretch(played(missed[:80]), 100) == 0
    assert worst_stretch(played(np.zeros(1000, bool)), 100) == 0


def test_sixteen_bits() -> None:
    assert pcm16(np.array([0.0, 1.0, -1.0, 2.0])) == b"\x00\x00\xff\x7f\x01\x80\xff\x7f"


# MOS and ears


def test_the_distance_is_of_what_was_said_and_not_of_the_pauses() -> None:
    """Ten times less of every frequency is 20 dB in each frame that counts."""
    rate_hz = 8000
    sound = np.random.default_rng(3).normal(0, 0.1, rate_hz)
    sound[rate_hz // 2 :] *= 1e-4
    heard = sound.copy()
    heard[: rate_hz // 2] *= 0.1
    assert log_spectral_distance_db(sound, heard, rate_hz) == pytest.approx(20, abs=0.1)
    noisy = sound.copy()
    noisy[rate_hz // 2 :] *= 5
    assert log_spectral_distance_db(sound, noisy, rate_hz) == 0.0
    assert log_spectral_distance_db(np.zeros(rate_hz), noisy, rate_hz) == 0.0


def test_ears_and_the_e_model_agree_in_order(capsys: pytest.CaptureFixture[str]) -> None:
    """Of traces with no to very much loss, alone and in bursts: more MOS, less distance (Spearman at least 0.9)."""
    codec, random = find_codec("g711a"), np.random.default_rng(11)
    criterion = criterion_for(codec, 20)
    scores, distances = [], []
    for percent in (0, 0.5, 1, 2, 3, 5, 8, 12, 18, 25, 35):
        for mean_run in (1, 3):
            count, lost = 1500, np.zeros(1500, bool)
            while 100 * lost.mean() < percent:
                at = int(random.integers(0, count))
                lost[at : at + int(random.geometric(1 / mean_run))] = True
            sent = np.arange(count, dtype=np.int64) * 20_000
            came = np.flatnonzero(~lost)
            trace = build_trace(np.arange(count), sent, came, sent[came] + 30_000)
            quality = judge(trace, criterion)
            made = carried(criterion.play(trace).missed, codec, 20, 0)
            scores.append(quality.mos)
            distances.append(log_spectral_distance_db(made.sent, made.heard, made.rate_hz))
    rank = float(spearmanr(scores, [-one for one in distances]).statistic)
    with capsys.disabled():
        print(f"\n  rank correlation of MOS and spectral distance over {len(scores)} traces: {rank:.3f}")
    assert rank >= 0.9
    assert log_spectral_distance_db(made.sent, made.sent, made.rate_hz) == 0.0


LOUDNESS = {
    NARROW_HZ: [42.06, 51.5, 0.58, 0.59, 0.47, 50.21, 39.14, 1.49, 50.25, 0.21, 14.28, 36.94, 0.82, 45.1, 37.47, 0.51,
                1.44, 35.82, 0.47, 0.02, 43.09],
    WIDE_HZ: [37.03, 33.1, 0.18, 0.19, 0.14, 30.17, 38.38, 0.48, 29.71, 0.07, 18.0, 35.73, 0.26, 31.05, 37.94, 0.16,
              0.46, 37.99, 0.15, 0.0, 39.82],
}  # fmt: skip
"""Thousandths of full scale, of each twentieth, and from sample to sample."""


@pytest.mark.parametrize("rate", LOUDNESS)
def test_speech_stays_the_speech_it_is(rate: int) -> None:
    """What was heard of a call is heard the same way a year later."""
    parts = [*np.array_split(speech(rate), 20), np.diff(speech(rate))]
    assert [1000 * float(np.sqrt(np.mean(part**2))) for part in parts] == pytest.approx(LOUDNESS[rate], abs=0.0051)
