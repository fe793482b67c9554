"""Recurrences of RFC 5545 as people choose and read them."""

from __future__ import annotations

import pytest

from tests.charts.test_geometry import js

FILE = "../site/load/rule"


@pytest.mark.parametrize(
    ("rule", "words"),
    [
        ("FREQ=WEEKLY;BYDAY=MO,WE", "on Mondays, Wednesdays"),
        ("FREQ=WEEKLY;INTERVAL=2;BYDAY=FR;COUNT=3", "every 2 weeks, on Fridays, 3 times"),
        ("FREQ=DAILY", "every day"),
        ("FREQ=DAILY;BYHOUR=9", "every day, at 9:00"),
        ("FREQ=WEEKLY;BYDAY=TU;BYHOUR=14;BYMINUTE=5;COUNT=1", "on Tuesdays, at 14:05, once"),
        (
            "FREQ=WEEKLY;BYDAY=MO;BYHOUR=9,10,16;BYMINUTE=5,35;COUNT=12",
            "on Mondays, 6 times a day from 9:05 to 16:35, 12 times",
        ),
        ("FREQ=MONTHLY;BYMONTHDAY=1", "FREQ=MONTHLY;BYMONTHDAY=1"),
        ("FREQ=DAILY;BYHOUR=nine", "FREQ=DAILY;BYHOUR=nine"),
    ],
)
def test_a_rule_in_words(rule: str, words: str) -> None:
    assert js(FILE, "ruleWords", rule) == words


def test_changing_one_part_of_a_rule_keeps_the_others() -> None:
    rule = "FREQ=WEEKLY;INTERVAL=2;BYDAY=MO,SU;BYHOUR=9,16;BYMINUTE=5;COUNT=12"
    found = js(FILE, "recurrenceOf", rule)
    assert js(FILE, "ruleOf", found) == rule
    assert js(FILE, "ruleOf", found | {"times": None}) == rule.removesuffix(";COUNT=12")
