"""A watch hour by hour."""

import numpy as np
import pytest

from tarnfell.core.days.findings import lasted
from tarnfell.core.days.hours import HOUR_US, hours_of

START = 500_000 * HOUR_US
TEN = HOUR_US // 6


def told(hours: list[tuple[int, float]]) -> list[tuple[int, float]]:
    return [((at - START) // HOUR_US, mos) for at, mos in hours]


def test_each_hour_with_samples_has_the_worst_of_its_episodes() -> None:
    sampled = START + np.array([0, 1, 2, 7, 30, 31, 50]) * TEN  # hours 0, 1, 5 and 8
    spoiled = [
        (START + 10, START + 20, 3.0),
        (START + 20, START + 30, 2.0),
        (START + HOUR_US - 5, START + HOUR_US, 2.5),  # it ends with the hour, and is not in the next
        (START + 5 * HOUR_US + 1, START + 8 * HOUR_US + 1, 3.5),
    ]
    assert told(hours_of(sampled, spoiled, 4.3, START)) == [(0, 2.0), (1, 4.3), (5, 3.5), (8, 3.5)]


def test_hours_before_are_left_out() -> None:
    sampled = START + np.arange(18) * TEN
    spoiled = [(START, START + 3 * HOUR_US, 2.0)]
    assert told(hours_of(sampled, spoiled, 4.3, START + HOUR_US + 1)) == [(1, 2.0), (2, 2.0)]
    assert told(hours_of(sampled, spoiled, 4.3, START + HOUR_US - 1)) == [(0, 2.0), (1, 2.0), (2, 2.0)]


def test_an_episode_worse_than_nothing_does_not_better_it() -> None:
    assert told(hours_of(START + np.array([0]), [(START, START + 1, 4.4)], 4.3, START)) == [(0, 4.3)]


@pytest.mark.parametrize(
    ("seconds", "told"),
    [
        (8, "8 s"), (119.4, "119 s"), (120, "2 min"), (150, "3 min"), (210, "4 min"), (7169, "119 min"),
        (7170, "2 h 00 min"), (36_030, "10 h 01 min"),
    ],
)  # fmt: skip
def test_how_long_trouble_lasted_is_rounded_as_screens_round(seconds: float, told: str) -> None:
    assert lasted(seconds) == told
