"""Samples of a watch as a file of our own, an open one: CSV with ``at,target,role,rtt_ms``.

``at`` is a time with its zone (RFC 3339), ``role`` gateway, edge, outside or far-end, and a blank ``rtt_ms`` a sample
that was not answered. One line a sample; samples of one round have nearly the same time. Two columns may stand beside
them: ``large``, 1 for a large packet, and ``beside``, the run or fill that loaded the line just then, 0 for none. Lines
of either tell of that size or load, and are passed over where the way itself is judged.
"""

from __future__ import annotations

import csv
import math
from collections.abc import Iterator
from datetime import datetime
from itertools import islice
from typing import Protocol, TextIO, cast

import numpy as np

from tarnfell.core.days.rounds import Floats, Ints, Place, Rounds, rounds_of
from tarnfell.core.legs import ROLES, Role

HEADER = ("at", "target", "role", "rtt_ms")
LABELS = ("large", "beside")
MOST_PLACES = 64
MOST_RTT_MS = 600_000.0
BATCH = 5_000
NO_TIME = -(1 << 62)


class _Lines(Protocol):
    """What csv.reader gives."""

    line_num: int

    def __iter__(self) -> Iterator[list[str]]: ...


class NotSamples(ValueError):
    """The file is no table of samples; the text says what is wrong, and in which line."""


def has_samples_header(line: str) -> bool:
    return _names(line) >= set(HEADER)


def read_samples(file: TextIO) -> Rounds:
    """Raises NotSamples. Columns may stand in any order, and others beside them are passed over."""
    lines = csv.reader(file)
    try:
        names = [name.strip().lower() for name in next(lines, [])]
        if not set(HEADER) <= set(names):
            raise NotSamples(f"A first line with {','.join(HEADER)} was expected.")
        labels = [names.index(name) for name in LABELS if name in names]
        return _rounds(lines, labels, *(names.index(name) for name in HEADER))
    except csv.Error as error:
        raise NotSamples(f"Line {lines.line_num} is not CSV: {error}.") from None
    except UnicodeDecodeError:
        raise NotSamples("The file is not text in UTF-8.") from None


def _rounds(lines: _Lines, labels: list[int], at: int, target: int, role: int, rtt: int) -> Rounds:
    numbers: dict[tuple[str, str], int] = {}
    whens: list[Ints] = []
    places: list[Ints] = []
    trips: list[Floats] = []
    numbered = ((lines.line_num, row) for row in lines if row and not _is_labelled(row, labels))
    while batch := list(islice(numbered, BATCH)):
        columns = _columns(batch, at, target, role, rtt)
        keys = list(zip(columns[2], columns[1], strict=True))
        for key in dict.fromkeys(keys):
            if key not in numbers:
                numbers[key] = _new_place(key, numbers, batch[keys.index(key)][0])
        # The samples of a round share their time.
        instants = {text: _instant(text) for text in dict.fromkeys(columns[0])}
        whens.append(np.array([instants[text] for text in columns[0]], np.int64))
        places.append(np.array([numbers[key] for key in keys], np.int64))
        trips.append(np.array([_trip(text) for text in columns[3]]))
        for i in np.nonzero((whens[-1] == NO_TIME) | (trips[-1] < 0))[0].tolist():
            _refuse(batch[i][0], columns[0][i], columns[3][i])
    if not numbers:
        raise NotSamples("There are no samples in the file.")
    known = [Place(cast(Role, role.strip()), target.strip()) for role, target in numbers]
    order = sorted(range(len(known)), key=lambda i: ROLES.index(known[i].role))
    rank = np.empty(len(order), np.int64)
    rank[order] = np.arange(len(order))
    chosen = [known[i] for i in order]
    return rounds_of(chosen, np.concatenate(whens), rank[np.concatenate(places)], np.concatenate(trips))


def _is_labelled(row: list[str], labels: list[int]) -> bool:
    return any(place < len(row) and row[place].strip() not in ("", "0") for place in labels)


def _columns(batch: list[tuple[int, list[str]]], *wanted: int) -> list[tuple[str, ...]]:
    columns = list(zip(*(row for _, row in batch), strict=False))  # as many as the shortest line has
    if len(columns) <= max(wanted):
        short = next(line for line, row in batch if len(row) <= max(wanted))
        raise NotSamples(f"Line {short} has not all columns.")
    return [columns[column] for column in wanted]


def _new_place(key: tuple[str, str], known: dict[tuple[str, str], int], line: int) -> int:
    role, target = key
    if role.strip() not in ROLES:
        raise NotSamples(f"Line {line}: “{role}” is no role; one of {', '.join(ROLES)} was expected.")
    if not target.strip():
        raise NotSamples(f"Line {line} does not name its target.")
    if len(known) >= MOST_PLACES:
        raise NotSamples(f"Line {line}: there are more than {MOST_PLACES} targets.")
    return len(known)


def _instant(text: str) -> int:
    """Unix time in microseconds; ``NO_TIME`` where it is none, or has no zone."""
    try:
        when = datetime.fromisoformat(text.strip())
    except ValueError:
        return NO_TIME
    return NO_TIME if when.tzinfo is None else round(when.timestamp() * 1e6)


def _trip(text: str) -> float:
    """Milliseconds; NaN where it is blank, less than nothing where it is no round trip."""
    try:
        value = float(text)
    except ValueError:
        return math.nan if not text.strip() else -1.0
    return value if 0 <= value <= MOST_RTT_MS else -1.0


def _refuse(line: int, when: str, trip: str) -> None:
    if _instant(when) == NO_TIME:
        raise NotSamples(f"Line {line}: “{when[:40]}” is no time with a zone, such as 2026-03-02T09:00:00Z.")
    raise NotSamples(f"Line {line}: “{trip[:40]}” is no round trip in milliseconds.")


def _names(line: str) -> set[str]:
    return {name.strip().lower() for name in line.split(",")}
