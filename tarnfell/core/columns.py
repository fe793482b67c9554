"""Packing and unpacking the byte planes of a packet record's column (docs/protocol.md) with NumPy."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from tarnfell.core.trace import Ints

FEW = 2048
"""Values up to which a column is quicker turned over whole than plane by plane."""


def unpack_planes(planes: bytes, count: int) -> Ints:
    """The ``count`` numbers held by ``8 * count`` bytes of planes: lowest bytes first, zigzag, differences."""
    if count == 0:
        return np.empty(0, np.int64)
    if count <= FEW:
        return np.asarray(unpack_table([planes], count)[0])
    table = np.frombuffer(planes, np.uint8).reshape(8, count)
    # Most upper planes are empty; only the others are worth spreading out.
    folded = np.zeros(count, np.uint64)
    for place in np.nonzero(table.any(axis=1))[0].tolist():
        folded |= table[place].astype(np.uint64) << np.uint64(8 * place)
    difference = (folded >> np.uint64(1)).astype(np.int64) ^ -(folded & np.uint64(1)).astype(np.int64)
    return np.cumsum(difference, dtype=np.int64)


def unpack_table(planes: Sequence[bytes], count: int) -> Ints:
    """Columns of equal length at once, shape (columns, count); the way for many short ones."""
    table = np.frombuffer(b"".join(planes), np.uint8).reshape(len(planes), 8, count)
    folded = table.transpose(0, 2, 1).copy().view("<u8")[:, :, 0]
    difference = (folded >> 1).view(np.int64) ^ -(folded & 1).view(np.int64)
    return np.asarray(difference.cumsum(axis=1))


def pack_planes(values: Ints) -> bytes:
    """The planes that ``unpack_planes`` reads, for whoever holds many numbers at once."""
    # np.diff with what stands before it takes three times as long for a call's few hundred.
    difference = np.array(values, np.int64)
    difference[1:] -= values[:-1]
    folded = ((difference << 1) ^ (difference >> 63)).astype("<u8")
    return folded.view(np.uint8).reshape(-1, 8).T.tobytes()
