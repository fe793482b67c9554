"""Which streams are the two directions of one call: by ports, by hosts, by media and by time."""

from __future__ import annotations

from types import SimpleNamespace
from typing import Any

import numpy as np
import pytest

from tarnfell.exchange.pairs import pairs_of

PHONE, DESK, TRUNK = "192.0.2.10", "192.0.2.11", "198.51.100.5"


def stream(source: str, destination: str, from_s: float = 0, until_s: float = 10, media: str = "audio") -> Any:
    sent = np.array([7_000_000, 7_000_000 + round((until_s - from_s) * 1e6)], np.int64)
    return SimpleNamespace(
        source=source,
        destination=destination,
        media=media,
        first_us=round(from_s * 1e6),
        trace=SimpleNamespace(sent_us=sent),
    )


@pytest.mark.parametrize(
    ("streams", "pairs"),
    [
        ([stream(f"{PHONE}:4000", f"{TRUNK}:5000"), stream(f"{TRUNK}:5000", f"{PHONE}:4000")], [(0, 1)]),
        # Other ports than it is sent to: only one stream of that host fits.
        ([stream(f"{PHONE}:4000", f"{TRUNK}:5000"), stream(f"{TRUNK}:5002", f"{PHONE}:4010")], [(0, 1)]),
        ([stream(f"{PHONE}:4000", f"{TRUNK}:5000"), stream(f"{TRUNK}:5000", f"{DESK}:4000")], []),
        ([stream(f"{PHONE}:4000", f"{TRUNK}:5000"), stream(f"{PHONE}:4000", f"{TRUNK}:5000")], []),
        (
            [stream(f"{PHONE}:4000", f"{TRUNK}:5000"), stream(f"{TRUNK}:5000", f"{PHONE}:4000", media="video")],
            [],
        ),
        # Two calls between the same hosts: by their ports, whatever their order; by hosts alone nobody knows.
        (
            [
                stream(f"{TRUNK}:5002", f"{PHONE}:4002"),
                stream(f"{PHONE}:4000", f"{TRUNK}:5000"),
                stream(f"{PHONE}:4002", f"{TRUNK}:5002"),
                stream(f"{TRUNK}:5000", f"{PHONE}:4000"),
            ],
            [(0, 2), (1, 3)],
        ),
        (
            [
                stream(f"{PHONE}:4000", f"{TRUNK}:5000"),
                stream(f"{TRUNK}:5002", f"{PHONE}:4002"),
                stream(f"{TRUNK}:5004", f"{PHONE}:4004"),
            ],
            [],
        ),
    ],
)
def test_directions_of_one_call(streams: list[Any], pairs: list[tuple[int, int]]) -> None:
    assert pairs_of(streams) == pairs


@pytest.mark.parametrize(
    ("from_s", "until_s", "paired"),
    [
        (5, 15, True),
        (5.1, 15, False),
        (-5, 5, True),
        (-5.1, 4.9, False),
        (9, 11, True),
        (9.1, 11.1, False),
        (4, 5, True),
    ],
)
def test_at_the_same_time_for_half_of_the_shorter(from_s: float, until_s: float, paired: bool) -> None:
    there = stream(f"{PHONE}:4000", f"{TRUNK}:5000")
    back = stream(f"{TRUNK}:5000", f"{PHONE}:4000", from_s, until_s)
    assert bool(pairs_of([there, back])) is paired
    assert bool(pairs_of([back, there])) is paired
