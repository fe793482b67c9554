"""A note's time in the report, in site time and no finer than it needs."""

from __future__ import annotations

from zoneinfo import ZoneInfo

import pytest

from tarnfell.work.issuing.dataset import _clock
from tarnfell.work.issuing.report import span_words

pytestmark = pytest.mark.usefixtures("told_as_before")

S = 1_000_000
AT_US = 1_782_946_770 * S
"""1 July 2026, 23:59:30 in London."""
EVEN_US = 26_567_000 << 26
"""1 July 2026, 05:46:29.888: the bits of 67 seconds and more change here."""


@pytest.mark.parametrize(
    ("from_us", "until_us", "words"),
    [
        (AT_US, AT_US, "01 July 2026, 23:59:30"),
        (AT_US, AT_US + 60 * S - 1, "01 July 2026, 23:59:30"),
        (AT_US, AT_US + 60 * S, "01 July 2026, 23:59 to 02 July 2026, 00:00"),
        (AT_US - 60 * S, AT_US, "01 July 2026, 23:58 to 23:59"),
        (EVEN_US - S, EVEN_US + S, "01 July 2026, 05:46:28"),
    ],
)
def test_a_span_is_told_no_finer_than_it_needs(from_us: int, until_us: int, words: str) -> None:
    assert span_words(from_us, until_us, ZoneInfo("Europe/London")) == words


@pytest.mark.parametrize(
    ("minute", "told"),
    [(0, "00:00:00"), (61.5, "01:01:30"), (9 * 60 + 5 + 59.9 / 60, "09:05:59"), (24 * 60 - 1 / 60, "23:59:59")],
)
def test_minutes_of_the_day_are_told_to_the_second_that_has_begun(minute: float, told: str) -> None:
    assert _clock(minute) == told
