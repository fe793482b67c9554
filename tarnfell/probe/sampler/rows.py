"""Samples until they are settled, and the batches they are kept in."""

from __future__ import annotations

from collections import deque
from collections.abc import Hashable, Mapping
from dataclasses import dataclass

from tarnfell.wire.kinds.watch import ANSWERED, COLUMNS, LARGE, LOST, MAX_BATCH, STOOD_STILL
from tarnfell.wire.record import Record

PENDING = -1
SETTLE_US = 3_000_000
"""An answer that takes longer helps no call, and counts as none."""


@dataclass
class Row:
    """One sample of one target, in the order of ``COLUMNS`` and ``LARGE``."""

    due_us: int
    target: int
    fate: int
    beside: int
    t1_ns: int = 0
    t2_ns: int = 0
    t3_ns: int = 0
    t4_ns: int = 0
    large: int = 0

    def values(self) -> tuple[int, ...]:
        stamps = (self.t1_ns, self.t2_ns, self.t3_ns, self.t4_ns)
        return (self.due_us, self.target, self.fate, self.beside, *stamps, self.large)


class Rows:
    """In the order they were due. A sample waits for its answer by its number, which is never used twice."""

    def __init__(self) -> None:
        self._rows: deque[Row] = deque()
        self._pending: dict[Hashable, Row] = {}
        self._gaps: list[tuple[int, int]] = []

    def add(self, row: Row, number: Hashable) -> None:
        self._rows.append(row)
        if row.fate == PENDING:
            self._pending[number] = row

    def answer(self, number: Hashable, t2_ns: int, t3_ns: int, t4_ns: int) -> None:
        """A second answer, and one that comes after the sample has settled, changes nothing."""
        row = self._pending.pop(number, None)
        if row is not None:
            row.fate, row.t2_ns, row.t3_ns, row.t4_ns = ANSWERED, t2_ns, t3_ns, t4_ns

    def answer_echo(self, number: Hashable, took_ns: int) -> None:
        row = self._pending.get(number)
        if row is not None:
            self.answer(number, 0, 0, row.t1_ns + took_ns)

    def stood_still(self, from_us: int, until_us: int) -> None:
        """Nothing was sent between, and what was under way could not be answered: no evidence of the way."""
        self._gaps.append((from_us, until_us))
        self.give_up()

    def give_up(self) -> None:
        """On what is under way: the clock was set, and its times are of two clocks."""
        for row in self._pending.values():
            row.fate = STOOD_STILL
        self._pending.clear()

    def waits(self) -> bool:
        return bool(self._pending)

    def settle(self, now_us: int) -> None:
        """Call what has waited long enough lost."""
        for number, row in list(self._pending.items()):
            if now_us - row.due_us < SETTLE_US:
                break
            row.fate = LOST
            del self._pending[number]

    def oldest_us(self) -> int | None:
        return self._rows[0].due_us if self._rows else None

    def batch(self, meta: Mapping[str, object]) -> tuple[int, bytes] | None:
        """What is settled, named by its first row's time; None where nothing is."""
        settled: list[Row] = []
        while self._rows and self._rows[0].fate != PENDING and len(settled) < MAX_BATCH:
            settled.append(self._rows.popleft())
        if not settled:
            return None
        gaps, self._gaps = self._gaps, []
        columns = dict(zip((*COLUMNS, LARGE), map(list, zip(*(row.values() for row in settled)))))
        return settled[0].due_us, Record.of({**meta, "stood_still": gaps}, columns).serialize()
