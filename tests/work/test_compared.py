"""Two issued reports side by side: what is claimed of the difference, and what speaks against the comparison."""

from __future__ import annotations

import json
from typing import Any

import pytest

from tarnfell.work.issuing.compared import SMALLEST_PCT, Compared, compared

pytestmark = pytest.mark.usefixtures("told_as_before")


def figures(number: str, pct: float | None = 50.0, half: float = 5.0, **changes: Any) -> dict[str, Any]:
    share = {"good": 50, "calls": 100, "moments": 100, "days": 5, "pct": pct,
             "low_pct": (pct or 0.0) - half, "high_pct": (pct or 95.0) + half}  # fmt: skip
    verdict = {"word": "not ready", "provisional": True, "low": 20, "high": 30, "share": share,
               "capacity": {"sustained": None}, "requirements": []}  # fmt: skip
    verdict |= changes.pop("verdict", {})
    told = {"number": number, "site": {"name": "Pier"}, "made_local": "25 November 2026, 10:00 GMT",
            "verdict": verdict, "causes": [], "brief": {"needed_calls": 12, "required_share_pct": 97.0}}  # fmt: skip
    return told | changes


def of(a: dict[str, Any], b: dict[str, Any], calls: tuple[str | None, str | None] = ("", "")) -> Compared:
    head = "run,call,counts\n"
    first, second = (None if one is None else (head + one).encode() for one in calls)
    return compared(json.dumps(a).encode(), json.dumps(b).encode(), first, second)


@pytest.mark.parametrize(
    ("before", "after", "half", "says"),
    [
        (31.0, 99.2, 3.0, "rose from 31.0 % to 99.2 % (+68.2 points, 95 % interval +64.0 to +72.4): more than chance."),
        (99.2, 31.0, 3.0, "fell from 99.2 % to 31.0 % (−68.2 points, 95 % interval −72.4 to −64.0): more than chance."),
        (50.0, 54.0, 5.0, "rose from 50.0 % to 54.0 % (+4.0 points, 95 % interval −3.1 to +11.1): chance alone"),
        (50.0, 50.9, 0.1, "the same within 1 point: 50.0 % and 50.9 %."),
        (50.0, 51.0, 0.1, "more than chance."),
        (None, 50.0, 5.0, "cannot be compared"),
        (50.0, None, 5.0, "cannot be compared"),
    ],
)
def test_a_difference_is_claimed_only_beyond_chance_and_where_it_matters(
    before: float | None, after: float | None, half: float, says: str
) -> None:
    assert SMALLEST_PCT == 1.0
    assert says in of(figures("A", before, half), figures("B", after, half)).says


def cause(key: str, leg: str, direction: str, title: str, network: bool = True) -> dict[str, Any]:
    return {"key": key, "leg": leg, "direction": direction, "title": title, "network": network}


def test_causes_are_gone_new_or_still_there() -> None:
    queue = cause("uplink-queue", "line", "up", "Packets queue, upload")
    other_way = cause("uplink-queue", "line", "down", "Packets queue, download")
    loss = cause("line-loss", "line", "up", "Packets are lost")
    spoiled = cause("probe-spoiled", "unknown", "both", "The probe was spoiled", network=False)
    found = of(figures("A", causes=[queue, loss, spoiled]), figures("B", causes=[loss, other_way]))
    assert [(one.title, one.fate) for one in found.causes] == [
        ("Packets queue, upload", "gone"), ("Packets queue, download", "new"), ("Packets are lost", "still there"),
    ]  # fmt: skip


def test_requirements_that_changed_stand_first_and_one_that_is_missing_has_no_state() -> None:
    def requirements(**states: str) -> dict[str, Any]:
        return {"requirements": [{"key": key, "title": f"The {key}", "state": state} for key, state in states.items()]}

    found = of(
        figures("A", verdict=requirements(share="shown not", reach="shown", video="open")),
        figures("B", verdict=requirements(reach="shown", share="shown")),
    )
    assert [(one.title, one.first, one.second) for one in found.states] == [
        ("The share", "shown not", "shown"), ("The video", "open", ""), ("The reach", "shown", "shown"),
    ]  # fmt: skip


def test_what_speaks_against_the_comparison_is_told() -> None:
    a, b = figures("A"), figures("B", site={"name": "Quay"}, brief={"needed_calls": 8, "video": True})
    two_sites, briefs, calls = of(a, b, (None, "1,1,yes\n")).cautions
    assert "two sites" in two_sites
    assert briefs == (
        "The briefs differ: concurrent calls needed 12 → 8; required share, % 97 → none; video none → yes."
    )
    assert "was not kept with both" in calls
    a_gigabit = of(figures("A", brief={"up_kbps": 940_000}), figures("B", brief={"up_kbps": 1_000_000}), ("", ""))
    assert "upload, kbit/s 940000 → 1000000" in a_gigabit.cautions[0]
    same = of(a, figures("B"), ("1,1,yes\n1,2,yes\n2,1,no: shorter than 5 s\n", "1,2,yes\n2,1,yes\n3,1,yes\n"))
    assert (same.first.provisional, same.first.word) == (True, "not ready")
    (shared,) = same.cautions
    assert shared.startswith("They share 1 call of 2 and 3:")
    assert of(a, figures("B"), ("1,1,yes\n", "2,1,yes\n")).cautions == ()


@pytest.mark.parametrize("body", [b"", b"[]", b"{}", b'{"verdict": 1}'])
def test_figures_that_are_none_are_turned_away(body: bytes) -> None:
    with pytest.raises(ValueError, match=r"figures|Expecting"):
        compared(body, json.dumps(figures("B")).encode(), None, None)
