"""A video stream frame by frame: how high each stands, and where."""

from __future__ import annotations

import pytest

from tests.charts.test_geometry import js

FILE = "frames-geometry"
WIDTH = 86 + 60 + 100


def test_frames_in_a_row_of_one_fate_are_one_bar() -> None:
    told = js(FILE, "bars", "ssssbboosb", WIDTH)
    assert [(one["x"], one["width"], one["height"], one["fate"]) for one in told] == [
        (86, 40, 22, "s"), (126, 20, 4, "b"), (146, 20, 11, "o"), (166, 10, 22, "s"), (176, 10, 4, "b"),
    ]  # fmt: skip
    assert js(FILE, "bars", "", WIDTH) == []
    assert [one["width"] for one in js(FILE, "bars", "sb", 10)] == [0, 0]


def test_what_was_not_shown_is_missed() -> None:
    assert [js(FILE, "missed", fates) for fates in ("", "sss", "sobs", "bo")] == [0, 0, 2, 2]


@pytest.mark.parametrize(
    ("first", "count", "told"),
    [
        (0, 50, [[0, 86], [1, 136], [2, 186]]),
        (10, 50, [[1, 86 + 30], [2, 86 + 80]]),
        (5, 10, []),
        (25, 25, [[1, 86], [2, 186]]),
    ],
)
def test_whole_seconds_lie_under_their_frames(first: int, count: int, told: list[list[float]]) -> None:
    assert js(FILE, "seconds", first, count, 25, WIDTH) == told
