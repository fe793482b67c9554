"""Tables of a report: concurrent calls load by load, and what else was measured, as they stand on the page."""

from __future__ import annotations

import re
from dataclasses import replace

import pytest

from tarnfell.core.verdict.facts import CallFact
from tarnfell.report.measured import CheckAnswer, CheckFound, Measured, RunsAlike, ServiceAnswer
from tarnfell.report.render import render_html
from tarnfell.report.tables import capacity_table
from tests.core.verdict.made_up import LOSS, QUEUE, cells, held, judged, run, week
from tests.report.test_report import SITES, Words, report


@pytest.mark.parametrize(
    ("facts", "says", "rows"),
    [
        (
            week() + held(),
            "4 concurrent calls are needed. Shown to be carried: up to 4.",
            [("1", "300 of 300", "300", "shown"), ("4", "600 of 600", "150", "shown")],
        ),
        (
            week(up=QUEUE) + held(up=LOSS),
            "4 concurrent calls are needed. It is shown that not even one is carried.",
            [("1", "0 of 300", "300", "not carried"), ("4", "0 of 600", "150", "not carried")],
        ),
        (
            week() + held(up=LOSS),
            "4 concurrent calls are needed. Shown to be carried: up to 1. From 4 on it is shown that they are not.",
            [("1", "300 of 300", "300", "shown"), ("4", "0 of 600", "150", "not carried")],
        ),
        (
            run(cells()[0], 2),
            "4 concurrent calls are needed. No number is shown yet, either way.",
            [("2", "2 of 2", "1", "open")],
        ),
    ],
)
def test_each_load_has_its_share_and_its_answer(
    facts: list[CallFact], says: str, rows: list[tuple[str, str, str, str]]
) -> None:
    table = capacity_table(judged(facts))
    assert table is not None
    assert table.says == says
    assert [(row[0], row[1], row[2], row[5]) for row in table.rows] == rows
    for row in table.rows:
        low, high = (float(value) for value in re.findall(r"[\d.]+", row[4]))
        assert low <= float(row[3].split()[0]) <= high


def test_of_no_call_there_is_no_table() -> None:
    assert capacity_table(judged([])) is None
    assert "Concurrent calls" not in render_html(report(SITES["nothing"]))


def test_tables_stand_where_they_belong_and_hostile_cells_are_harmless() -> None:
    asked = ServiceAnswer("<script>alert(1)</script>", "sip.example", 5061, "tcp", "answered", 12.4, "Says <b>so</b>.")
    check = CheckFound("2026-03-02T09:05", (CheckAnswer("Gateway", "passed", "9 & 9"),), (asked,))
    runs = tuple(
        RunsAlike(
            f"desk {n}", "far", 1, "both", False, "g711a", "G.711 A-law", 20, 60.0, 46, 1, "2026-03-02", "2026-03-02"
        )
        for n in range(15)
    )
    page = render_html(replace(report(SITES["good"]), measured=Measured(check=check, runs=runs)))
    titles = re.findall(r"<h2>([^<]+)</h2>", page)
    order = [titles.index(one) for one in ("Score", "Concurrent calls", "Evidence by day and hour", "Causes",
                                           "Services", "Runs and their settings", "Method")]  # fmt: skip
    assert order == sorted(order)
    assert "<script>" not in page
    words = " ".join(Words(page).text)
    assert "<script>alert(1)</script>" in words
    assert "Says <b>so</b>." in words
    # A short table is not torn apart; a long one may go over to the next page.
    assert re.search(r'<section class="whole">\s*<h2>Services', page)
    assert re.search(r"<section>\s*<h2>Runs and their settings", page)
