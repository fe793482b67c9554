"""When packets of a capture were sent, where the sender set its timestamps on."""

from __future__ import annotations

import numpy as np
import pytest

from tarnfell.exchange.send_times import JUMP_US, without_jumps

COUNT, STEP_US = 100, 20_000


def corrected(jump_us: float, first: int, pause_us: int = 0) -> tuple[list[float], list[str]]:
    """Send times of a hundred packets, less those of packets sent evenly; the timestamps of the ``first`` and later
    are behind by ``jump_us``, and nothing was sent for ``pause_us`` before it."""
    numbers = np.arange(COUNT)
    even = numbers * float(STEP_US) + np.where(numbers >= first, pause_us, 0)
    notes: list[str] = []
    found = without_jumps(
        even - np.where(numbers >= first, jump_us, 0.0), (even + 7000).astype(np.int64), numbers, notes
    )
    return (found - even).tolist(), notes


@pytest.mark.parametrize("first", [10, 40, 90])
@pytest.mark.parametrize("jump_us", [400_000.0, -400_000.0])
def test_a_jump_is_taken_out_from_the_very_packet_on_that_has_it(jump_us: float, first: int) -> None:
    off, notes = corrected(jump_us, first, pause_us=400_000)
    assert off == [0.0] * COUNT
    assert len(notes) == 1
    assert "jumped against its arrivals once" in notes[0]


@pytest.mark.parametrize(
    ("jump_us", "first"),
    [(JUMP_US, 40), (400_000, 9), (400_000, 91)],
    ids=["too small", "too near to the beginning", "too near to the end"],
)
def test_what_may_be_delay_is_left_as_it_is(jump_us: float, first: int) -> None:
    off, notes = corrected(jump_us, first)
    assert off == [0.0] * first + [-jump_us] * (COUNT - first)
    assert notes == []


@pytest.mark.parametrize(("pace", "is_jump"), [(0.82, True), (0.78, False)])
def test_packets_that_come_faster_than_they_were_sent_are_those_of_a_stall(pace: float, is_jump: bool) -> None:
    sent = np.arange(COUNT) * float(STEP_US)
    after = np.maximum(np.arange(COUNT) - 40, 0)
    late = np.where(np.arange(COUNT) >= 40, 500_000, 0) - after * STEP_US * (1 - pace)
    found = without_jumps(sent, (sent + late + 7000).astype(np.int64), np.arange(COUNT), [])
    assert (found[40] > sent[40]) is np.bool_(is_jump)
    assert found[:40].tolist() == sent[:40].tolist()
