"""Which neighbouring troubles are one: near each other, of one leg, and no line that went away beside a full queue."""

from __future__ import annotations

from dataclasses import replace
from types import SimpleNamespace
from typing import Any

import pytest

from tarnfell.core.codecs import find_codec
from tarnfell.core.days import episodes
from tarnfell.core.days.analysis import analyse
from tarnfell.core.days.episodes import JOIN_US, Episode, _belong
from tarnfell.core.days.rounds import Place
from tarnfell.core.quality import criterion_for
from tests.core.days.weeks import LONDON, Week


def spell(from_s: float, seconds: float, leg: str = "line", kind: str = "delay") -> Any:
    begin = round(from_s * 1e6)
    return SimpleNamespace(from_us=begin, until_us=begin + round(seconds * 1e6), seconds=seconds, leg=leg, kind=kind)


@pytest.mark.parametrize(
    ("one", "other", "belong"),
    [
        (spell(0, 10), spell(130, 5), True),
        (spell(0, 10), spell(130.000001, 5), False),
        (spell(0, 10), spell(20, 5, "inside"), False),
        (spell(0, 10), spell(20, 5, "unknown"), True),
        (spell(0, 10, "unknown"), spell(20, 5, "inside"), True),
        # Two outages are one, whatever they lasted; one beside trouble of another kind only where it is the small part.
        (spell(0, 10, kind="outage"), spell(20, 500, kind="outage"), True),
        (spell(0, 10, kind="outage"), spell(20, 30), False),
        (spell(0, 9.99, kind="outage"), spell(20, 30), True),
        (spell(0, 30), spell(40, 10, kind="outage"), False),
        (spell(0, 30), spell(40, 9.99, kind="outage"), True),
    ],
)
def test_neighbours_of_one_trouble(one: Any, other: Any, belong: bool) -> None:
    assert JOIN_US == 120_000_000
    assert _belong(one, other) is belong


@pytest.mark.parametrize(("seconds", "margin"), [(1200, 300), (60, 30)])
def test_the_direction_of_a_queue_is_told_with_a_quarter_of_it_before_and_after(
    monkeypatch: pytest.MonkeyPatch, seconds: int, margin: int
) -> None:
    looked_at: list[int] = []
    monkeypatch.setattr(episodes, "direction_of", lambda rtt_ms, up_ms: looked_at.append(len(rtt_ms)))
    week = Week(3, days=1)
    week.queues("line", 3 * 3600, seconds, 220)
    rounds = week.rounds()
    rounds = replace(rounds, up_ms=rounds.rtt_ms / 2)
    (told,) = analyse(rounds, criterion_for(find_codec("g711a"), 20), 4.0, LONDON).episodes
    assert abs(told.rounds - seconds) < 0.1 * seconds
    assert told.rounds + 2 * margin - 0.1 * seconds < looked_at[-1] < told.rounds + 2 * margin + 0.1 * seconds


NEAR, FAR = Place("outside", "203.0.113.53"), Place("far-end", "203.0.113.10")


def seen(from_s: float, until_s: float, end: Place, leg: str = "line") -> Episode:
    span = (round(from_s * 1e6), round(until_s * 1e6))
    return Episode(*span, leg, "loss", 0.9, {}, end, 9, 5.0, 0.0, None, None, 2.0, None, ())  # type: ignore[arg-type]


@pytest.mark.parametrize(
    ("other", "told"),
    [
        (seen(50, 200, FAR), [(0, 200, FAR)]),  # the longer one, from when either began
        (seen(50, 120, FAR), [(0, 100, NEAR)]),
        (seen(50, 150, FAR), [(0, 100, NEAR)]),
        (seen(100, 900, FAR), [(0, 100, NEAR), (100, 900, FAR)]),
        (seen(50, 200, NEAR), [(0, 100, NEAR), (50, 200, NEAR)]),
        (seen(50, 200, FAR, "inside"), [(0, 100, NEAR), (50, 200, FAR)]),
    ],
)
def test_what_two_ways_saw_of_a_leg_they_share_is_one_episode(
    other: Episode, told: list[tuple[int, int, Place]]
) -> None:
    found = episodes._once([seen(0, 100, NEAR), other])
    assert [(one.from_us // 10**6, one.until_us // 10**6, one.end) for one in found] == told


def test_beyond_the_line_each_way_has_its_own_trouble() -> None:
    assert len(episodes._once([seen(0, 100, NEAR, "beyond"), seen(50, 200, FAR, "beyond")])) == 2
