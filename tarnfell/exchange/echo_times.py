"""When the answers of a log of ping came: stamps that go on over midnight, and rows that have none."""

from __future__ import annotations

from datetime import UTC

import numpy as np

from tarnfell.exchange.lines import Stamp


class Clock:
    """Stamps in the order of the log as seconds that go on: over midnight, and over the hour that autumn repeats."""

    def __init__(self) -> None:
        self._last: float | None = None
        self._shift = 0.0

    def seconds(self, stamp: Stamp) -> float:
        at = stamp.at
        if at is None:
            now = stamp.clock_s
        elif at.tzinfo is None:
            now = at.replace(tzinfo=UTC).timestamp()
        else:
            now = at.timestamp()
        now += self._shift
        back = (self._last or now) - now
        if at is None and back > 43_200:
            self._shift, now = self._shift + 86_400, now + 86_400
        elif at is not None and at.tzinfo is None and 3000 < back <= 3600:
            self._shift, now = self._shift + 3600, now + 3600
        self._last = now
        return now


def between(count: int, known: list[tuple[int, float]]) -> list[float]:
    """Times of all rows from those that have one: between two evenly, outside them as fast as the log went."""
    place, at = (np.array(column, dtype=float) for column in zip(*known, strict=True))
    if len(known) == 1:
        return [float(at[0] + i - place[0]) for i in range(count)]
    pace = float(np.median(np.diff(at) / np.maximum(np.diff(place), 1)))
    rows = np.arange(count)
    times = np.interp(rows, place, at)
    times = np.where(rows < place[0], at[0] + (rows - place[0]) * pace, times)
    times = np.where(rows > place[-1], at[-1] + (rows - place[-1]) * pace, times)
    return [float(t) for t in times]
