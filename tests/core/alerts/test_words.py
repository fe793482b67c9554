"""What an alert says, by the clock of its site."""

from __future__ import annotations

from datetime import UTC, datetime
from zoneinfo import ZoneInfo

import pytest

from tarnfell.core.alerts.rules import Rule
from tarnfell.core.alerts.spells import Spell
from tarnfell.core.alerts.words import says

LONDON = ZoneInfo("Europe/London")


def us(*when: int) -> int:
    return int(datetime(*when, tzinfo=UTC).timestamp() * 1e6)  # type: ignore[arg-type,misc]


JULY = us(2026, 7, 3, 11, 4)


@pytest.mark.parametrize(
    ("rule", "value", "until", "words"),
    [
        (Rule("loss", "edge", 2.0, 3), 12.44, None, "It: 12.4 % lost since 12:04 on 3 July; the limit is 2 %."),
        (
            Rule("loss", "edge", 0.5, 3), 12.44, us(2026, 7, 3, 22, 59),
            "It: 12.4 % lost from 12:04 on 3 July to 23:59; the limit is 0.5 %.",
        ),
        (
            Rule("loss", "edge", 0.5, 3), 12.44, us(2026, 7, 3, 23, 0),
            "It: 12.4 % lost from 12:04 on 3 July to 00:00 on 4 July; the limit is 0.5 %.",
        ),
        (
            Rule("delay", "edge", 150, 3), 180.6, None,
            "It: median round trip 181 ms since 12:04 on 3 July; the limit is 150 ms.",
        ),
        (
            Rule("above-normal", "edge", minutes=3), 180.6, None,
            "It: median round trip 181 ms since 12:04 on 3 July; normal for the hour is 22 ms.",
        ),
        (
            Rule("calls-below", limit=3.8, count=1, of=2), 3.456, None,
            "It: median 3.46 MOS over the tests below 3.8 MOS, since 12:04 on 3 July.",
        ),
        (Rule("no-samples", minutes=3), 5, None, "It: no samples since 12:04 on 3 July."),
        (
            Rule("offline", minutes=3), 5, us(2026, 7, 3, 11, 9), "It: offline from 12:04 on 3 July to 12:09.",
        ),
        (Rule("missed"), 0, JULY, "It: missed, due at 12:04 on 3 July."),
    ],
)  # fmt: skip
def test_an_alert_says_of_what_how_much_and_since_when(rule: Rule, value: float, until: int | None, words: str) -> None:
    assert says(rule, Spell(JULY, until, value, 21.7), "It", LONDON) == words
