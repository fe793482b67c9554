"""Ten minutes of samples packed side by side, and what they come to for each place; and both unpacked again.

A round trip is kept as a code on a logarithmic scale, half a percent a step: two bytes a sample before packing, about
one after it. Packing what is packed already changes nothing, so a batch that comes twice, late, or out of order does no
harm.
"""

from __future__ import annotations

import math
import zlib
from collections.abc import Sequence
from dataclasses import dataclass
from itertools import groupby

import numpy as np
from numpy.typing import NDArray

from tarnfell.core.columns import pack_planes, unpack_planes
from tarnfell.core.days.rounds import Floats, Ints
from tarnfell.store.cells import CELL_US, Cell, Minuted
from tarnfell.wire.record import PackedColumn, Record

NOT_ASKED, LOST, NOT_SENT, FIRST = 0, 1, 2, 3
"""Codes; an answer's are ``FIRST`` and above."""
LARGE_ECHOES, LARGE_ALL = 1, 2
STEP = 0.005
UP_UNIT_US = 20
MINUTES = 10
HOUR_US = 3_600_000_000
GAP_MS = 65_000
"""Longer than from one round to the next, however seldom they are: time without samples."""
FIGURES = ("sent", "lost", "min", "p50", "p95", "max")
"""Of a place over a span; delays as codes, 0 where nothing was answered."""


@dataclass(frozen=True)
class CellRounds:
    """``codes`` and ``up`` have shape (places, rounds); ``at_ms`` is Unix time."""

    at_ms: Ints
    codes: Ints
    up: Ints
    """One-way delay to a far end as its clock and the probe's have it, in units of 20 µs; 0 where it is not known."""
    large: Ints
    """0, or who was asked by large packets in that round: ``LARGE_ECHOES``, or ``LARGE_ALL``."""
    beside: Ints
    """The job that loaded the line just then; 0 for none."""
    one_in: Ints
    """Of so many rounds it is the one that a probe had room for."""


def is_large(large: Ints, echoed: Sequence[bool]) -> NDArray[np.bool_]:
    """Which samples were of large packets, shape (places, rounds): of far ends only where these were asked so too."""
    from_ = np.where(np.array(echoed), LARGE_ECHOES, LARGE_ALL)
    return np.asarray(large[None] >= from_[:, None])


def code_of(rtt_us: Floats) -> Ints:
    return FIRST + np.rint(np.log(np.maximum(rtt_us, 1.0)) / STEP).astype(np.int64)


def rtt_ms(codes: Ints) -> Floats:
    """NaN where there is no answer."""
    return np.where(codes >= FIRST, np.exp((codes - FIRST) * STEP) / 1000, np.nan)


def merged(one: CellRounds, other: CellRounds) -> CellRounds:
    """What was asked in either; where both have it, as ``other`` has it."""
    at, place = np.unique(np.concatenate([one.at_ms, other.at_ms]), return_inverse=True)
    first, second = place[: len(one.at_ms)], place[len(one.at_ms) :]
    places = max(len(one.codes), len(other.codes))

    def table(name: str) -> Ints:
        found = np.zeros((places, len(at)), np.int64)
        for part, where in ((one, first), (other, second)):
            values = getattr(part, name)
            asked = part.codes != NOT_ASKED
            for i in range(len(values)):
                found[i, where[asked[i]]] = values[i, asked[i]]
        return found

    def row(name: str) -> Ints:
        found = np.zeros(len(at), np.int64)
        found[first] = getattr(one, name)
        found[second] = getattr(other, name)
        return found

    return CellRounds(at, table("codes"), table("up"), row("large"), row("beside"), row("one_in"))


def packed(watch_id: int, start_us: int, rounds: CellRounds) -> Cell:
    places = len(rounds.codes)
    weight = rounds.one_in
    answered = int(((rounds.codes >= FIRST) * weight).sum())
    pauses = np.diff(rounds.at_ms)
    tens = _figures(rounds.codes)
    minutes = _figures(_by_minute(rounds, start_us))
    return Cell(
        watch_id,
        start_us,
        int(rounds.at_ms[0]) * 1000,
        int(rounds.at_ms[-1]) * 1000,
        answered,
        int(((rounds.codes == LOST) * weight).sum()),
        int(((rounds.codes == NOT_SENT) * weight).sum()),
        int(pauses[pauses > GAP_MS].sum()) * 1000,
        tens.astype("<u2").tobytes(),
        zlib.compress(minutes.astype("<u2").tobytes(), 6),
        _record(rounds, places),
        int((_came_to(rounds.codes) * weight * (rounds.beside > 0)).sum()),
    )


def _came_to(codes: Ints) -> NDArray[np.bool_]:
    """Which were answered or lost."""
    return np.asarray((codes >= FIRST) | (codes == LOST))


def _by_minute(rounds: CellRounds, start_us: int) -> Ints:
    """Codes, shape (places, 10, rounds of the fullest minute); what is left over was not asked."""
    minute = (rounds.at_ms - start_us // 1000) // 60_000
    begins = np.searchsorted(minute, np.arange(MINUTES + 1))
    found = np.full((len(rounds.codes), MINUTES, int(np.diff(begins).max())), NOT_ASKED, np.int64)
    found[:, minute, np.arange(len(minute)) - begins[minute]] = rounds.codes
    return found


def _figures(codes: Ints) -> Ints:
    """Over the last axis, shape (…, 6), in the order of ``FIGURES``."""
    ordered = np.sort(np.where(codes >= FIRST, codes, np.iinfo(np.int64).max), axis=-1)
    answered = (codes >= FIRST).sum(axis=-1)
    lost = (codes == LOST).sum(axis=-1)

    def at(share: float) -> Ints:
        place = np.rint(share * np.maximum(answered - 1, 0)).astype(np.int64)
        return np.where(answered > 0, np.take_along_axis(ordered, place[..., None], axis=-1)[..., 0], 0)

    return np.stack([answered + lost, lost, at(0.0), at(0.5), at(0.95), at(1.0)], axis=-1)


def _record(rounds: CellRounds, places: int) -> bytes:
    columns = {"at_ms": rounds.at_ms, "large": rounds.large, "beside": rounds.beside, "one_in": rounds.one_in}
    columns |= {f"c{i}": rounds.codes[i] for i in range(places) if rounds.codes[i].any()}
    columns |= {f"u{i}": _held(rounds.up[i]) for i in range(places) if rounds.up[i].any()}
    packed = {
        name: PackedColumn(name, len(values), zlib.compress(pack_planes(values), 6)) for name, values in columns.items()
    }
    return Record({"places": places}, packed).serialize()


def _held(values: Ints) -> Ints:
    """With the one before where there is none: differences of clocks that are seconds apart cost nothing."""
    known = np.nonzero(values)[0]
    return values[known[np.maximum(0, np.searchsorted(known, np.arange(len(values)), side="right") - 1)]]


def unpacked(cell: Cell) -> CellRounds:
    """No rounds where they were let go of."""
    if not cell.rounds:
        nothing = np.zeros(0, np.int64)
        return CellRounds(nothing, np.zeros((0, 0), np.int64), np.zeros((0, 0), np.int64), nothing, nothing, nothing)
    record = Record.parse(cell.rounds)
    columns = {name: unpack_planes(one.planes(), one.count) for name, one in record.columns.items()}
    count, places = len(columns["at_ms"]), int(record.meta["places"])
    nothing = np.zeros(count, np.int64)
    codes = np.stack([columns.get(f"c{i}", nothing) for i in range(places)])
    up = np.stack([np.where(codes[i] >= FIRST, columns.get(f"u{i}", nothing), 0) for i in range(places)])
    return CellRounds(columns["at_ms"], codes, up, columns["large"], columns["beside"], columns["one_in"])


def tens_table(tens: Sequence[bytes], places: int) -> Ints:
    """Shape (cells, places, 6); zeros for places that a cell did not know yet."""
    found = np.zeros((len(tens), places, len(FIGURES)), np.int64)
    done = 0
    # A watch learns of places seldom: whole stretches of its cells know the same.
    for _, group in groupby(tens, len):
        same = list(group)
        told = np.frombuffer(b"".join(same), "<u2").reshape(len(same), -1, len(FIGURES))
        found[done : done + len(same), : told.shape[1]] = told[:, :places]
        done += len(same)
    return found


def by_hour(start_us: Ints, tens: Ints) -> tuple[Ints, Ints]:
    """Stretches of ten minutes, shape (stretches,) and (stretches, places, 6), as the hours that they lie in: the low
    median of their medians, and the longest of their 95th percentiles."""
    hours, place = np.unique(start_us // HOUR_US, return_inverse=True)
    parts = np.zeros((len(hours), HOUR_US // CELL_US, *tens.shape[1:]), np.int64)
    parts[place, start_us % HOUR_US // CELL_US] = tens
    sent, lost, least, middle, high, most = np.moveaxis(parts, -1, 0)
    answered = (middle > 0).sum(axis=1)
    none = np.iinfo(np.int64).max
    ordered = np.sort(np.where(middle > 0, middle, none), axis=1)
    medians = np.take_along_axis(ordered, np.maximum(answered - 1, 0)[:, None] // 2, axis=1)[:, 0]
    found = np.stack(
        [
            sent.sum(axis=1),
            lost.sum(axis=1),
            np.where(answered > 0, np.where(least > 0, least, none).min(axis=1), 0),
            np.where(answered > 0, medians, 0),
            high.max(axis=1),
            most.max(axis=1),
        ],
        axis=-1,
    )
    return hours * HOUR_US, found


def minutes_table(cells: Sequence[Cell | Minuted], places: int) -> Ints:
    """Shape (cells, places, 10, 6)."""
    shape = (-1, MINUTES, len(FIGURES))
    found = np.zeros((len(cells), places, MINUTES, len(FIGURES)), np.int64)
    for own, one in zip(found, cells, strict=True):
        told = np.frombuffer(zlib.decompress(one.minutes), "<u2").reshape(shape)
        own[: len(told)] = told[:places]
    return found


def start_of(at_us: Ints) -> Ints:
    """Of the cell that each instant lies in."""
    return at_us // CELL_US * CELL_US


MOST_CODE = FIRST + math.ceil(math.log(6e8) / STEP)
"""Of ten minutes."""
