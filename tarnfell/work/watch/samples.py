"""A batch of samples as a probe delivers it: read, held against what it claims, and counted."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from tarnfell.store.watches import Batch
from tarnfell.wire import WireError
from tarnfell.wire.kinds.watch import (
    ANSWERED,
    BESIDE,
    COLUMNS,
    DUE,
    FATE,
    FATES,
    LOST,
    MAX_BATCH,
    MAX_TARGETS,
    STAMPS,
    TARGET,
)
from tarnfell.wire.record import Record

MAX_BYTES = 1 << 20
MOST_THINNED = 1 << 20
ENDS = (STAMPS[0], STAMPS[3])
"""Of an echo only when it was sent and when its answer came is known."""

Columns = dict[str, NDArray[np.int64]]


def read_batch(watch_id: int, first_us: int, body: bytes) -> Batch:
    """Raises WireError for what is no batch of this watch."""
    record = Record.parse(body)
    rows = columns_of(record)
    due, fate = rows[DUE], rows[FATE]
    one_in = record.meta.get("one_in", 1)
    if record.meta.get("watch") != watch_id or not len(due) or due[0] != first_us:
        raise WireError("The batch is not what its address says.")
    if not isinstance(one_in, int) or isinstance(one_in, bool) or not 1 <= one_in <= MOST_THINNED:
        raise WireError("The batch does not say how far it is thinned.")
    answered, lost = int(np.sum(fate == ANSWERED)), int(np.sum(fate == LOST))
    last_us = int(due.max())
    return Batch(watch_id, first_us, last_us, answered, lost, len(due) - answered - lost, one_in, body)


def columns_of(record: Record) -> Columns:
    """All columns, each a row a sample. Raises WireError."""
    if any(name not in record.columns for name in COLUMNS):
        raise WireError("The batch has not all columns of samples.")
    if {record.columns[name].count for name in COLUMNS} - set(range(1, MAX_BATCH + 1)):
        raise WireError(f"A batch holds 1 to {MAX_BATCH} samples.")
    rows = {name: np.array(record.values(name), dtype=np.int64) for name in COLUMNS}
    if len({len(values) for values in rows.values()}) != 1:
        raise WireError("The columns of the batch are not of one length.")
    if np.any(np.diff(rows[DUE]) < 0) or rows[DUE][0] < 0:
        raise WireError("The samples of the batch are not in the order of time.")
    if not np.all(np.isin(rows[FATE], FATES)) or np.any(rows[TARGET] < 0) or np.any(rows[BESIDE] < 0):
        raise WireError("The batch holds what samples cannot be.")
    far_ends = record.meta.get("targets")
    if not isinstance(far_ends, list) or len(far_ends) > MAX_TARGETS:
        raise WireError("The batch does not say whom it asked.")
    answered = rows[FATE] == ANSWERED
    stamped = answered & (rows[TARGET] < len(far_ends))
    if any(np.any(rows[name][answered] <= 0) for name in ENDS) or any(
        np.any(rows[name][stamped] <= 0) for name in STAMPS
    ):
        raise WireError("The batch has answers without their times.")
    return rows


def rtt_ms(rows: Columns) -> NDArray[np.float64]:
    """Round trips of those that far ends answered, without the time they took (RFC 8762 §4.2)."""
    t1, t2, t3, t4 = (rows[name][(rows[FATE] == ANSWERED) & (rows[STAMPS[1]] > 0)] for name in STAMPS)
    return np.asarray(((t4 - t1) - (t3 - t2)) / 1e6, dtype=np.float64)
