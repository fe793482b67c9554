"""Samples as a file that other programs read, and that an import takes back."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator
from datetime import UTC, datetime

import numpy as np

from tarnfell.core.days.rounds import Ints
from tarnfell.exchange.cells import guarded
from tarnfell.exchange.samples import HEADER, LABELS
from tarnfell.store import cells as cell_store
from tarnfell.store.cells import Cell
from tarnfell.work.watch import cells
from tarnfell.work.watch.reading import named

LONGEST_FILE_US = 86_400 * 1_000_000


def lines_of(db: sqlite3.Connection, watch_id: int, from_us: int, until_us: int) -> Iterator[str]:
    """The samples of a span as exchange/samples.py reads them, a cell at a time. Raises ValueError before the first."""
    if not 0 < until_us - from_us <= LONGEST_FILE_US:
        raise ValueError("Choose a span of up to a day that ends after it begins.")
    kept_us = cell_store.let_go_until(db, watch_id)
    if from_us < kept_us:
        kept = datetime.fromtimestamp(kept_us / 1e6, UTC)
        raise ValueError(f"Samples of before {kept:%d %B %Y %H:%M} UTC were let go of; their minutes are kept.")
    places = cell_store.places_of(db, watch_id)
    names = [f"{_quoted(place.name)},{place.role}" for place in named(db, places)]
    echoed = [place.far_end_id is None for place in places]
    found = cell_store.cells_between(db, watch_id, from_us, until_us)
    return _lines(found, names, echoed, from_us, until_us)


def _lines(found: list[Cell], names: list[str], echoed: list[bool], from_us: int, until_us: int) -> Iterator[str]:
    yield ",".join((*HEADER, *LABELS)) + "\n"
    for cell in found:
        part = cells.unpacked(cell)
        kept = (from_us <= part.at_ms * 1000) & (part.at_ms * 1000 < until_us)
        asked = ((part.codes == cells.LOST) | (part.codes >= cells.FIRST)) & kept
        rounds, places = np.nonzero(asked.T)  # round by round, as they were asked
        at = np.datetime_as_string(part.at_ms.astype("datetime64[ms]")).tolist()
        codes = part.codes[places, rounds]
        trips = _trips(codes)
        large = cells.is_large(part.large, echoed[: len(part.codes)])[places, rounds].astype(int)
        columns = (rounds.tolist(), places.tolist(), codes.tolist(), large.tolist(), part.beside[rounds].tolist())
        yield "".join(
            f"{at[i]}Z,{names[place]},{trips[code]},{is_large},{beside}\n"
            for i, place, code, is_large, beside in zip(*columns, strict=True)
        )


def _trips(codes: Ints) -> dict[int, str]:
    """Milliseconds as they are written, by code; blank for what was lost."""
    found = np.unique(codes)
    trips = np.round(cells.rtt_ms(found), 3).tolist()
    return {code: "" if trip != trip else f"{trip:g}" for code, trip in zip(found.tolist(), trips, strict=True)}


def _quoted(name: str) -> str:
    text = guarded(name)
    return '"' + text.replace('"', '""') + '"' if any(mark in text for mark in ',"\n') else text
