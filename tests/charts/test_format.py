"""Figures on the page behind a link, as the reader's country writes them."""

from __future__ import annotations

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
