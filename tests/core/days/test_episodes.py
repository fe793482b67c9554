"""Which neighbouring troubles are one: near each other, of one leg, and no line that went away beside a full queue."""

from __future__ import annotations

from types import SimpleNamespace
from typing import Any

import pytest

from tarnfell.core.days.episodes import JOIN_US, _belong


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
