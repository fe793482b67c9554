"""Batches of samples as a probe delivers them, from rounds whose answers are known."""

from __future__ import annotations

import numpy as np

from tarnfell.core.days.rounds import Rounds
from tarnfell.store.watches import Batch
from tarnfell.wire.kinds.watch import ANSWERED, COLUMNS, LARGE, LOST, NOT_SENT
from tarnfell.wire.record import Record
from tarnfell.work.watch.samples import read_batch

FAR_MS = 3
"""What the far end takes to answer, and is no part of the round trip."""


def batches_of(
    rounds: Rounds, watch: int = 1, each: int = 10, large_every: int = 0, large_far: bool = False, **meta: object
) -> list[Batch]:
    """The last place is a far end that is asked by time stamps, with the id 1; all others are asked by echoes."""
    least = 0 if large_far else 1
    echoes = [[place.role, place.name] for place in rounds.places[:-1]]
    told = {"watch": watch, "version": 1, "targets": [1], "echoes": echoes, **meta}
    found = []
    for first in range(0, len(rounds.at_us), each):
        rows: list[list[int]] = []
        for at in range(first, min(first + each, len(rounds.at_us))):
            due = int(rounds.at_us[at])
            for number in range(len(rounds.places)):
                rows.append(
                    [
                        due,
                        number,
                        *_sample(rounds, number - 1, at, due),
                        int(number >= least and _is_large(at, large_every)),
                    ]
                )
        columns = dict(zip((*COLUMNS, LARGE), map(list, zip(*rows, strict=True)), strict=True))
        body = Record.of(told, columns).serialize()
        found.append(read_batch(watch, rows[0][0], body))
    return found


def _is_large(at: int, every: int) -> bool:
    return every > 0 and at % every == every - 1


def _sample(rounds: Rounds, place: int, at: int, due: int) -> list[int]:
    """Fate, beside and stamps. Place -1, the last one, is the far end, and numbered first."""
    if not rounds.sent[place, at]:
        return [NOT_SENT, 0, 0, 0, 0, 0]
    rtt = rounds.rtt_ms[place, at]
    t1 = due * 1000 + 20_000
    if np.isnan(rtt):
        return [LOST, 0, t1, 0, 0, 0]
    took = round(rtt * 1e6)
    if place != -1:
        return [ANSWERED, 0, t1, 0, 0, t1 + took]
    t2 = t1 + 5_000_000_000 + took // 3  # a clock that is five seconds ahead, and a way up that is half the way down
    t3 = t2 + FAR_MS * 1_000_000
    return [ANSWERED, 0, t1, t2, t3, t1 + took + FAR_MS * 1_000_000]
