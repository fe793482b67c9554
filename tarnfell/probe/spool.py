"""What a probe has measured and the server has not said that it has: on this disk, whole, in order, and bounded.

Results of jobs are named by the job and never dropped. Samples of a watch come in batches, and where they take more
room than there is for them the oldest are thinned to every second one, and say so.
"""

from __future__ import annotations

import json
import os
import threading
from collections import Counter
from collections.abc import Mapping
from pathlib import Path

from tarnfell.probe.halves import Ticket
from tarnfell.wire import Unchecked, WireError
from tarnfell.wire.failures import Failure
from tarnfell.wire.kinds.watch import TARGET
from tarnfell.wire.record import Record, pack_column

RECORD, FAILURE, OUTCOME, SAMPLES = ".record", ".failure", ".outcome", ".samples"
RESULTS = (RECORD, FAILURE, OUTCOME)
MOST_SAMPLE_BYTES = 64 << 20
"""About a month of a sample a second, at a kilobyte a minute."""
SPARE = 64
"""Once it is full, such a part of it is made free at a time."""


class Spool:
    """The folder of results; several processes may write to it, one delivers from it."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self._thinning = threading.Lock()
        self._room = 0.0
        """Bytes of samples that may be added before the folder, which may hold tens of thousands, is looked through."""

    def keep_record(self, job: int, record: bytes) -> None:
        write_whole(self._place(job, RECORD), record)

    def keep_failure(self, job: int, failure: Failure) -> None:
        body = {"reason": failure.reason, "code": failure.code, "server_reachable": failure.server_reachable}
        write_whole(self._place(job, FAILURE), json.dumps(body).encode())

    def keep_outcome(self, job: int, result: Mapping[str, object]) -> None:
        write_whole(self._place(job, OUTCOME), json.dumps({"result": result}).encode())

    def keep_samples(self, watch: int, first_us: int, batch: bytes) -> None:
        """A batch of a watch, named by when its first sample was due."""
        write_whole(self.folder / f"{watch:09d}-{first_us:016d}{SAMPLES}", batch)
        with self._thinning:
            self._room -= len(batch)
            if self._room < 0:
                self._make_room()

    def keep_ticket(self, job: int, ticket: Ticket) -> None:
        """For the far end's half of a run; written before the record it belongs to."""
        write_whole(self._place(job, ".ticket"), json.dumps(ticket._asdict()).encode(), private=True)

    def ticket(self, job: int) -> Ticket | None:
        found = read_json(self._place(job, ".ticket"))
        try:
            return Ticket(**found) if found else None
        except TypeError:
            return None

    def drop_ticket(self, job: int) -> None:
        self._place(job, ".ticket").unlink(missing_ok=True)

    def record(self, job: int) -> bytes:
        """Raises OSError."""
        return self._place(job, RECORD).read_bytes()

    def has_result(self, job: int) -> bool:
        return any(self._place(job, kind).exists() for kind in RESULTS)

    def waiting(self) -> list[Path]:
        """Results by their jobs' numbers, which is the order they were asked for; then samples by their time."""
        found = [path for path in self.folder.glob("*") if path.suffix in (*RESULTS, SAMPLES)]
        return sorted(found, key=lambda path: (path.suffix == SAMPLES, path.name))

    def jobs(self) -> set[int]:
        """The jobs whose results wait here."""
        return {int(p.stem) for p in self.waiting() if p.suffix in RESULTS and p.stem.isdecimal()}

    def _place(self, job: int, suffix: str) -> Path:
        return self.folder / f"{job:09d}{suffix}"

    def _make_room(self) -> None:
        batches = [path for path in self.waiting() if path.suffix == SAMPLES]
        self._room = MOST_SAMPLE_BYTES - sum(size_of(path) for path in batches)
        if self._room >= 0:
            return
        for path in batches:
            if self._room >= MOST_SAMPLE_BYTES / SPARE:
                break
            before = size_of(path)
            try:
                write_whole(path, thinned(path.read_bytes()))
            except FileNotFoundError:
                pass  # delivered just now
            except (OSError, WireError):
                continue  # damaged: whoever delivers it sets it aside
            self._room += before - size_of(path)


def thinned(batch: bytes) -> bytes:
    """Every second sample of a batch, and how far it is thinned by now. Raises WireError."""
    record = Record.parse(batch)
    seen: Counter[int] = Counter()
    stay = []
    for row, target in enumerate(record.values(TARGET)):
        if seen[target] % 2 == 0:  # of each target by itself: they take turns in a batch
            stay.append(row)
        seen[target] += 1
    columns = {}
    for name in record.columns:
        values = record.values(name)
        columns[name] = pack_column(name, [values[row] for row in stay])
    return Record({**record.meta, "one_in": 2 * int(record.meta.get("one_in", 1))}, columns).serialize()


def write_whole(path: Path, data: bytes, private: bool = False) -> None:
    """All of it or nothing, and on the disk, with its name, before this returns."""
    aside = path.with_name(f"{path.name}.{os.getpid()}.part")
    descriptor = os.open(aside, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600 if private else 0o644)
    with os.fdopen(descriptor, "wb") as file:
        file.write(data)
        file.flush()
        os.fsync(file.fileno())
    os.replace(aside, path)
    if hasattr(os, "O_DIRECTORY"):  # elsewhere a folder cannot be opened, and the system sees to it itself
        folder = os.open(path.parent, os.O_RDONLY | os.O_DIRECTORY)
        try:
            os.fsync(folder)
        finally:
            os.close(folder)


def read_json(path: Path) -> Unchecked | None:
    """None where there is nothing, or nothing whole."""
    try:
        return dict(json.loads(path.read_text()))
    except (OSError, ValueError, TypeError):
        return None


def size_of(path: Path) -> int:
    try:
        return path.stat().st_size
    except OSError:
        return 0
