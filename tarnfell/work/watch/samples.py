"""Batches of samples as a probe delivers them: read, held against what they claim, and counted."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

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
    MOST_TOGETHER,
    STAMPS,
    TARGET,
)
from tarnfell.wire.record import Record

ALL = (*COLUMNS, LARGE)
NEEDED = frozenset(COLUMNS)
PLANES = 8
"""Of a column, each of as many bytes as it has values."""

MAX_BYTES = 1 << 20
"""Of a batch, and of as many as come together."""
MOST_VALUES = 16 * MAX_BATCH * len(ALL)
"""Of batches that come together: 65 536 samples."""
MOST_THINNED = 1 << 20
LONGEST_US = 86_400_000_000
"""From the first to the last sample of a batch."""
MOST_ADDRESS = 100
NOT_ADDRESSED = "The batch is not what its address says."
NOT_ASKED = "The batch does not say whom it asked."

Ints = NDArray[np.int64]
Columns = dict[str, Ints]


def read_batch(watch_id: int, first_us: int, body: bytes) -> Batch:
    """Raises WireError for what is no batch of this watch that begins then."""
    (batch,) = read_batches(watch_id, [body])
    if batch.first_us != first_us:
        raise WireError(NOT_ADDRESSED)
    return batch


def read_batches(watch_id: int, bodies: Sequence[bytes]) -> list[Batch]:
    """All of them, in their order; most are short and of one length, and those are read together. Raises WireError
    where one is no batch of this watch."""
    if not 1 <= len(bodies) <= MOST_TOGETHER:
        raise WireError(f"1 to {MOST_TOGETHER} batches come together.")
    records = [Record.parse(body) for body in bodies]
    if sum(column.count for record in records for column in record.columns.values()) > MOST_VALUES:
        raise WireError("The batches hold more samples than come together.")
    if any(record.meta.get("watch") != watch_id for record in records):
        raise WireError(NOT_ADDRESSED)
    asked = np.array([_asked(record) for record in records])
    one_in = [_one_in(record) for record in records]
    found: dict[int, Batch] = {}
    for places, rows in same_length([planes_of(record) for record in records]):
        _check(rows, *asked[places].T[:, :, np.newaxis])
        first_us, last_us = rows[DUE][:, 0].tolist(), rows[DUE][:, -1].tolist()
        answered, lost = ((rows[FATE] == fate).sum(axis=1).tolist() for fate in (ANSWERED, LOST))
        samples = rows[FATE].shape[1]
        for row, place in enumerate(places):
            counted = (answered[row], lost[row], samples - answered[row] - lost[row])
            found[place] = Batch(watch_id, first_us[row], last_us[row], *counted, one_in[place], bodies[place])
    return [found[place] for place in range(len(bodies))]


def columns_of(record: Record) -> Columns:
    """Of a batch that is kept: all columns, each a row a sample. Raises WireError."""
    ((_, rows),) = same_length([planes_of(record)])
    return {name: column[0] for name, column in rows.items()}


def same_length(batches: Sequence[list[bytes]]) -> Iterator[tuple[list[int], Columns]]:
    """Those of one length unpacked together: which they are, and all their columns, shape (batches, samples). What each
    batch gives are its planes."""
    places: dict[int, list[int]] = {}
    for place, planes in enumerate(batches):
        places.setdefault(len(planes[0]) // PLANES, []).append(place)
    for samples, own in places.items():
        table = unpack_table([plane for place in own for plane in batches[place]], samples)
        yield own, dict(zip(ALL, table.reshape(len(own), len(ALL), samples).swapaxes(0, 1), strict=True))


def planes_of(record: Record) -> list[bytes]:
    """What the columns are unpacked from, in the order of ``ALL``, all of one length. Raises WireError."""
    if not record.columns.keys() >= NEEDED:
        raise WireError("The batch has not all columns of samples.")
    columns = [record.columns[name] for name in ALL if name in record.columns]
    count = columns[0].count
    if not 1 <= count <= MAX_BATCH:
        raise WireError(f"A batch holds 1 to {MAX_BATCH} samples.")
    if any(column.count != count for column in columns):
        raise WireError("The columns of the batch are not of one length.")
    planes = [column.planes() for column in columns]
    # Probes of before large packets do not tell of them.
    return planes if LARGE in record.columns else [*planes, bytes(PLANES * count)]


def _check(rows: Columns, far_ends: Ints, echoes: Ints) -> None:
    """``far_ends`` and ``echoes``: how many each batch asked, shape (batches, 1). Raises WireError for samples that
    cannot be."""
    due, target, fate = rows[DUE], rows[TARGET], rows[FATE]
    if (due[:, 0] < 0).any() or (due[:, 1:] < due[:, :-1]).any():
        raise WireError("The samples of the batch are not in the order of time.")
    if (due[:, -1] - due[:, 0] > LONGEST_US).any():
        raise WireError("The samples of the batch lie too far apart.")
    if fate.min() < min(FATES) or fate.max() > max(FATES) or target.min() < 0 or rows[BESIDE].min() < 0:
        raise WireError("The batch holds what samples cannot be.")
    if (target >= far_ends + echoes).any():
        raise WireError(NOT_ASKED)
    t1, t2, t3, t4 = (rows[name] <= 0 for name in STAMPS)
    # Of an echo only when it was sent and when its answer came is known.
    without = t1 | t4 | ((t2 | t3) & (target < far_ends))
    if (without & (fate == ANSWERED)).any():
        raise WireError("The batch has answers without their times.")


def _one_in(record: Record) -> int:
    """How far the batch is thinned. Raises WireError."""
    one_in = record.meta.get("one_in", 1)
    if not isinstance(one_in, int) or isinstance(one_in, bool) or not 1 <= one_in <= MOST_THINNED:
        raise WireError("The batch does not say how far it is thinned.")
    return one_in


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
