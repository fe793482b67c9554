"""Samples put side by side, whatever their order and pace; what is missing is a gap and never loss."""

from __future__ import annotations

import numpy as np
import pytest

from tarnfell.core.days.rounds import Gap, Place, Rounds, rounds_of

SECOND = 1_000_000
TWO = (Place("gateway", "192.0.2.1"), Place("far-end", "203.0.113.10"))


def made(*samples: tuple[float, int, float | None]) -> Rounds:
    """Of seconds, place and round trip; None is lost."""
    at = np.array([round(s * SECOND) for s, _, _ in samples], np.int64)
    rtt = np.array([np.nan if trip is None else trip for _, _, trip in samples])
    return rounds_of(TWO, at, np.array([place for _, place, _ in samples]), rtt)


def test_what_was_asked_within_an_instant_is_one_round() -> None:
    rounds = made((1.012, 1, None), (0.0, 0, 2.0), (1.0, 0, 3.0), (0.015, 1, 30.0), (2.0, 0, 4.0))
    assert rounds.at_us.tolist() == [0, SECOND, 2 * SECOND]
    assert rounds.sent.tolist() == [[True, True, True], [True, True, False]]
    assert rounds.lost.tolist() == [[False, False, False], [False, True, False]]
    assert rounds.rtt_ms[0].tolist() == [2, 3, 4]
    assert (rounds.rtt_ms[1, 0], rounds.interval_us) == (30, SECOND)


def test_places_that_take_turns_share_rounds_and_no_sample_is_dropped() -> None:
    """The second is asked half a second after the first, and once twice within one turn."""
    rounds = made(*((float(i), 0, 1.0) for i in range(4)), *((i + 0.5, 1, 9.0) for i in range(4)), (0.6, 1, None))
    assert rounds.sent[0].sum() == 4
    assert rounds.sent[1].sum() == 5
    assert rounds.lost[1].sum() == 1


def test_turns_are_counted_from_the_first_sample_whenever_that_was() -> None:
    """Two places in turn, the second at half a second, one of its samples missing: its round is the third's."""
    start = 1_795_600_801.3
    rounds = made(
        *((start + i, 0, 1.0) for i in range(5)), *((start + i + 0.4, 1, 9.0) for i in (0, 1, 3, 4)),
        (start + 0.45, 1, 8.0),
    )  # fmt: skip
    assert rounds.sent.tolist() == [[True] * 5, [True] * 5]
    assert rounds.rtt_ms[1].tolist() == [9.0, 8.0, 9.0, 9.0, 9.0]


@pytest.mark.parametrize(("pause_s", "gaps"), [(5.0, 0), (5.1, 1)])
def test_missing_rounds_are_a_gap_from_five_seconds_on(pause_s: float, gaps: int) -> None:
    rounds = made((0, 0, 1.0), (1, 0, 1.0), (2, 0, 1.0), (2 + pause_s, 0, 1.0), (3 + pause_s, 0, 1.0))
    told = rounds.gaps()
    assert len(told) == gaps
    if gaps:
        assert told[0] == Gap(3 * SECOND, round((2 + pause_s) * SECOND))
    assert not rounds.lost.any()


def test_seldom_rounds_have_gaps_by_their_own_interval() -> None:
    steady = made(*((60.0 * i, 0, 1.0) for i in range(4)), (360.0, 0, 1.0), (541.0, 0, 1.0))
    assert [gap.from_us // SECOND for gap in steady.gaps()] == [420]


def test_no_samples_are_no_rounds() -> None:
    with pytest.raises(ValueError, match="no samples"):
        made()
