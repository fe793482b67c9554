"""Over which families of addresses a far end was tried, by what a browser tells of its candidates and pairs."""

from __future__ import annotations

from typing import Any

import pytest

from tests.charts.test_geometry import js

FILE = "../desk/far-link"
V4 = {"id": "r4", "type": "remote-candidate", "address": "198.51.100.2"}
V6 = {"id": "r6", "type": "remote-candidate", "address": "2001:db8::2"}
OWN = {"id": "l6", "type": "local-candidate", "address": "2001:db8::1"}


def pair(to: str, state: str, **more: Any) -> dict[str, Any]:
    return {"id": f"{to}{state}", "type": "candidate-pair", "remoteCandidateId": to, "state": state, **more}


@pytest.mark.parametrize(
    ("all_told", "state"),
    [
        ([V6, pair("r6", "succeeded")], "answered"),
        ([V6, pair("r6", "failed"), pair("r6", "in-progress", responsesReceived=1)], "answered"),
        ([V6, pair("r6", "failed")], "silent"),
        ([V6, pair("r6", "in-progress", responsesReceived=0)], "silent"),
        ([V6, pair("r6", "waiting"), pair("r6", "frozen")], "untried"),
        ([V6], "untried"),
        # Pairs of the other family, and the browser's own addresses, say nothing of this one.
        ([V6, V4, OWN, pair("r4", "succeeded")], "untried"),
    ],
)
def test_what_came_of_the_checks_of_one_family(all_told: list[dict[str, Any]], state: str) -> None:
    assert js(FILE, "tried", "IPv6", all_told) == [{"family": "IPv6", "state": state}]


def test_a_family_that_the_far_end_has_not_is_not_told() -> None:
    assert js(FILE, "tried", "IPv6", [V4, OWN, pair("r4", "succeeded")]) == []
    assert js(FILE, "tried", "IPv4", [V4, pair("r4", "succeeded")]) == [{"family": "IPv4", "state": "answered"}]


def test_what_a_browser_forgets_until_the_end_is_kept_from_the_beginning() -> None:
    def reach(*states: tuple[str, str]) -> dict[str, Any]:
        return {"own": "host", "families": [{"family": family, "state": state} for family, state in states]}

    before = reach(("IPv4", "untried"), ("IPv6", "answered"))
    after = reach(("IPv4", "silent"), ("IPv6", "untried"))
    assert js(FILE, "together", before, after) == reach(("IPv4", "silent"), ("IPv6", "answered"))
    assert js(FILE, "together", before, None) == before
    assert js(FILE, "together", None, after) == after
