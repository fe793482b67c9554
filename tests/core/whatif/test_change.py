"""What can be asked, and what is refused with a sentence."""

from __future__ import annotations

from typing import Any

import pytest

from tarnfell.core.whatif.change import Change, ChangeError, changed_fields, check_change


@pytest.mark.parametrize(
    ("asked", "words"),
    [
        ({}, "Nothing is changed"),
        ({"adaptive": True}, "the most an adaptive buffer"),
        ({"buffer_ms": 0.0}, "more than 0"),
        ({"buffer_ms": 1001.0}, "at most 1000 ms"),
        ({"line_up": 0.5}, "smaller line"),
        ({"line_down": 101.0}, "1 to 100 times"),
        ({"first_up": True}, "Enter the line’s rates"),
        ({"target_mos": 4.6}, "Quality of a call: choose 1 to 4.5 MOS"),
        ({"required_share_pct": 49.0}, "choose 50 to 99.9 %"),
        ({"needed_calls": 0}, "1 to 10,000"),
        ({"open_minute": 1441}, "times of a day"),
        ({"open_minute": 60, "close_minute": 60}, "end when they begin"),
        ({"open_days": ""}, "one weekday at least"),
        ({"open_days": "18"}, "one weekday at least"),
        ({"open_days": "11"}, "each once"),
        ({"from_day": "20 Nov"}, "is no day"),
        ({"from_day": "2026-11-21", "until_day": "2026-11-20"}, "lies before the first"),
    ],
)
def test_what_cannot_be_asked_is_refused_with_a_sentence(asked: dict[str, Any], words: str) -> None:
    with pytest.raises(ChangeError, match=words):
        check_change(Change(**asked), None, 20_000)


@pytest.mark.parametrize(
    "asked",
    [
        {"first_down": True}, {"line_up": 100.0}, {"buffer_ms": 1000.0}, {"open_days": "7"}, {"needed_calls": 10_000},
        {"from_day": "2026-11-20", "until_day": "2026-11-20"}, {"target_mos": 1.0}, {"close_minute": 1440},
    ],
)  # fmt: skip
def test_what_can_be_asked_is(asked: dict[str, Any]) -> None:
    check_change(Change(**asked), None, 20_000)
    assert changed_fields(Change(**asked)) == asked


def test_whether_packets_are_needed_follows_from_the_change() -> None:
    assert not Change(target_mos=3.6, needed_calls=3, open_days="6").replays
    assert Change(codec="g729").replays
    assert Change(buffer_ms=40).changes_listener
    assert not Change(codec="g729").touches_queues
    for asked in (Change(first_up=True), Change(first_down=True), Change(first_inside=True), Change(line_down=2)):
        assert asked.touches_queues
        assert not asked.changes_listener
    assert Change(line_up=1.5).mends_line("up")
    assert not Change(line_up=1.5, first_inside=True).mends_line("down")
    assert Change(first_down=True).mends_line("down")
