"""Figures on the page behind a link, as the reader's country writes them."""

from __future__ import annotations

import re
from collections.abc import Iterator

import pytest

from tests.charts.test_geometry import js

FORMAT = "../ui/format"
AT_US = 1_795_788_300_000_000
"""27 November 2026, 14:05 in UTC, a Friday."""


@pytest.fixture(autouse=True)
def own_way_again() -> Iterator[None]:
    yield
    js(FORMAT, "writeAsIn", "en-GB")


def told() -> list[str]:
    return [
        js(FORMAT, name, *given).replace("\N{NARROW NO-BREAK SPACE}", " ").replace("\N{NO-BREAK SPACE}", " ")
        for name, given in (
            ("fixed", (3.84, 1)),
            ("fixed", (None, 1)),
            ("ms", (1234.5, 1)),
            ("pct", (0.25,)),
            ("throughput", (2456,)),
            ("throughput", (12_345,)),
            ("count", (12_345,)),
            ("dateTime", (AT_US, "UTC")),
            ("clock", (AT_US, "Europe/Helsinki")),
        )
    ]


@pytest.mark.parametrize(
    ("tag", "written"),
    [
        (None, ["3.8", "–", "1234.5 ms", "0.3 %", "2.46 Mbit/s", "12 Mbit/s", "12 345", "Fri 27 Nov, 14:05",
                "16:05:00"]),
        ("de-DE", ["3,8", "–", "1234,5 ms", "0,3 %", "2,46 Mbit/s", "12 Mbit/s", "12.345", "Fr., 27. Nov., 14:05",
                   "16:05:00"]),
        ("en-US", ["3.8", "–", "1234.5 ms", "0.3 %", "2.46 Mbit/s", "12 Mbit/s", "12,345", "Fri, Nov 27, 02:05 PM",
                   "4:05:00 PM"]),
    ],
)  # fmt: skip
def test_figures_are_written_as_there(tag: str | None, written: list[str]) -> None:
    if tag:
        js(FORMAT, "writeAsIn", tag)
    assert told() == written


@pytest.mark.parametrize(
    ("name", "given", "written"),
    [
        ("ms", (12.34, 1), "12.3 ms"), ("pct", (0.25, 2), "0.25 %"), ("megabits", (1500,), "1.5 Mbit/s"),
        ("throughput", (9999,), "10.00 Mbit/s"), ("duration", (89,), "89 s"), ("duration", (90,), "2 min"),
        ("duration", (3599,), "1 h 00 min"), ("duration", (3900,), "1 h 05 min"),
        ("ago", (0, 59_000), "59 s ago"), ("ago", (0, 60_000), "1 min ago"), ("ago", (0, 3_600_000), "1 h ago"),
        ("ago", (0, 86_400_000), "1 day ago"),
    ],
)  # fmt: skip
def test_no_line_ends_between_a_figure_and_its_unit(name: str, given: tuple[float, ...], written: str) -> None:
    told = js(FORMAT, name, *given)
    assert told.replace("\N{NO-BREAK SPACE}", " ") == written
    assert not re.search(r"\d (ms|%|Mbit/s|s|min|h)(?!\w)", told)


def test_no_line_ends_between_a_figure_and_its_unit_in_sentences_of_the_server() -> None:
    nb = "\N{NO-BREAK SPACE}"
    answer = {
        "says": ["Up to 87.0 % were lost, 2 h 05 min in all; 12 % more.", "In 3 steps of 4 s."],
        "cause": {"gain": "10 Mbit/s", "remedy": "Shape to 90 % of it.", "title": "5 ms"},
        "rows": [{"why": "64 kbit/s and 3 hosts"}, {"note": "5 %"}],
        "figures": [1, 2, 3],
        "reasons": [],
        "failure": None,
    }
    assert js("../api/sentences", "unbroken", answer) == answer | {
        "says": [f"Up to 87.0{nb}% were lost, 2{nb}h 05{nb}min in all; 12{nb}% more.", f"In 3 steps of 4{nb}s."],
        "cause": {"gain": f"10{nb}Mbit/s", "remedy": "Shape to 90 % of it.", "title": "5 ms"},
        "rows": [{"why": f"64{nb}kbit/s and 3 hosts"}, {"note": "5 %"}],
    }
