"""A batch of samples as a probe delivers it: read, held against what it claims, and counted."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from tarnfell.core.columns import unpack_table
from tarnfell.core.legs import ROLES
from tarnfell.store.watches import Batch
from tarnfell.wire import WireError
from tarnfell.wire.kinds.watch import (
    ANSWERED,
    BESIDE,
    COLUMNS,
    DUE,
    FATE,
    FATES,
    LARGE,
    LOST,
    MAX_BATCH,
    MAX_ECHOES,
    MAX_TARGETS,
    STAMPS,
    TARGET,
)
from tarnfell.wire.record import Record

MAX_BYTES = 1 << 20
MOST_THINNED = 1 << 20
LONGEST_US = 86_400_000_000
"""From the first to the last sample of a batch."""
MOST_ADDRESS = 100
NOT_ASKED = "The batch does not say whom it asked."

ALL = (*COLUMNS, LARGE)
PLANES = 8
"""Of a column, each of as many bytes as it has values."""

Columns = dict[str, NDArray[np.int64]]


def read_batch(watch_id: int, first_us: int, body: bytes) -> Batch:
    """Raises WireError for what is no batch of this watch."""
    record = Record.parse(body)
    rows = checked(record, columns_of(record))
    due, fates = rows[DUE], rows[FATE].tolist()
    last_us = int(due[-1])
    one_in = record.meta.get("one_in", 1)
    if record.meta.get("watch") != watch_id or not len(due) or due[0] != first_us:
        raise WireError("The batch is not what its address says.")
    if not isinstance(one_in, int) or isinstance(one_in, bool) or not 1 <= one_in <= MOST_THINNED:
        raise WireError("The batch does not say how far it is thinned.")
    if last_us - first_us > LONGEST_US:
        raise WireError("The samples of the batch lie too far apart.")
    answered, lost = fates.count(ANSWERED), fates.count(LOST)
    return Batch(watch_id, first_us, last_us, answered, lost, len(due) - answered - lost, one_in, body)


def columns_of(record: Record) -> Columns:
    """All columns, each a row a sample; of what came in, ``checked`` says whether it can be. Raises WireError."""
    planes = planes_of(record)
    return dict(zip(ALL, unpack_table(planes, len(planes[0]) // PLANES), strict=True))


def planes_of(record: Record) -> list[bytes]:
    """What the columns are unpacked from, in the order of ``ALL``, all of one length. Raises WireError."""
    if any(name not in record.columns for name in COLUMNS):
        raise WireError("The batch has not all columns of samples.")
    columns = [record.columns[name] for name in ALL if name in record.columns]
    counts = {column.count for column in columns}
    if any(not 1 <= count <= MAX_BATCH for count in counts):
        raise WireError(f"A batch holds 1 to {MAX_BATCH} samples.")
    if len(counts) != 1:
        raise WireError("The columns of the batch are not of one length.")
    planes = [column.planes() for column in columns]
    # Probes of before large packets do not tell of them.
    return planes if LARGE in record.columns else [*planes, bytes(PLANES * counts.pop())]


def checked(record: Record, rows: Columns) -> Columns:
    """Raises WireError for samples that cannot be."""
    # A request reads a batch, and batches are short: of a few dozen numbers a list tells the least sooner than NumPy.
    due, target, fate = rows[DUE], rows[TARGET], rows[FATE]
    targets = target.tolist()
    if due[0] < 0 or (due[1:] < due[:-1]).any():
        raise WireError("The samples of the batch are not in the order of time.")
    if not FATES.issuperset(fate.tolist()) or min(targets) < 0 or min(rows[BESIDE].tolist()) < 0:
        raise WireError("The batch holds what samples cannot be.")
    far_ends, echoes = _asked(record)
    if max(targets) >= far_ends + echoes:
        raise WireError(NOT_ASKED)
    t1, t2, t3, t4 = (rows[name] <= 0 for name in STAMPS)
    # Of an echo only when it was sent and when its answer came is known.
    without = t1 | t4 | ((t2 | t3) & (target < far_ends))
    if (without & (fate == ANSWERED)).any():
        raise WireError("The batch has answers without their times.")
    return rows


def _asked(record: Record) -> tuple[int, int]:
    """How many far ends and how many places on the way. Raises WireError."""
    far_ends, echoes = record.meta.get("targets"), record.meta.get("echoes", [])
    if not isinstance(far_ends, list) or not isinstance(echoes, list):
        raise WireError(NOT_ASKED)
    whole = all(isinstance(one, int) and not isinstance(one, bool) for one in far_ends)
    if not whole or not all(map(_is_echo, echoes)) or len(far_ends) > MAX_TARGETS or len(echoes) > MAX_ECHOES:
        raise WireError(NOT_ASKED)
    return len(far_ends), len(echoes)


def _is_echo(one: object) -> bool:
    """A role and an address."""
    if not isinstance(one, list) or len(one) != 2:
        return False
    role, address = one
    return role in ROLES and isinstance(address, str) and len(address) <= MOST_ADDRESS


def rtt_ms(rows: Columns) -> NDArray[np.float64]:
    """Round trips of those that far ends answered, without the time they took (RFC 8762 §4.2)."""
    t1, t2, t3, t4 = (rows[name][(rows[FATE] == ANSWERED) & (rows[STAMPS[1]] > 0)] for name in STAMPS)
    return np.asarray(((t4 - t1) - (t3 - t2)) / 1e6, dtype=np.float64)
