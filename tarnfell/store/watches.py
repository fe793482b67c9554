"""Watches: what each probe is to sample without end, and the samples that came in."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterable
from dataclasses import dataclass, fields
from operator import attrgetter

from tarnfell.store.db import now_us
from tarnfell.wire.kinds.fields import plain, read
from tarnfell.wire.kinds.watch import EchoTarget


@dataclass(frozen=True)
class Watch:
    id: int
    probe_id: int
    far_end_id: int
    interval_ms: int
    dscp: int
    wanted: int
    """0 once it was ended; what it brought stays."""
    version: int
    changed_us: int
    told_version: int | None
    """The one the probe said it runs; None while it runs none."""
    trouble: str | None
    """What is in the way of samples; None for nothing."""
    echoes: str
    """JSON: places on the way, as wire/kinds/watch.py has them."""
    large_every: int
    changes: int
    """How often its cells were packed anew."""

    @property
    def places(self) -> tuple[EchoTarget, ...]:
        return read(_Echoes, json.loads(self.echoes)).echoes


@dataclass(frozen=True)
class _Echoes:
    echoes: tuple[EchoTarget, ...] = ()


@dataclass(frozen=True)
class Batch:
    """Samples as they came in. Counts are of rows; a thinned batch stands for ``one_in`` times as many."""

    watch_id: int
    first_us: int
    last_us: int
    answered: int
    lost: int
    not_sent: int
    one_in: int
    record: bytes


@dataclass(frozen=True)
class Counts:
    first_us: int | None
    last_us: int | None
    answered: int
    lost: int
    not_sent: int
    without_us: int
    """Stretches between the first and the last of which no sample came in, together."""


LEAST_GAP_US = 65 * 1_000_000
"""Longer than from one sample to the next, however seldom they are taken. The database counts by it too
(schema/052_told_at_once.sql)."""

_WATCH = f"SELECT {', '.join(f.name for f in fields(Watch))} FROM watch"
_BATCH = tuple(f.name for f in fields(Batch))
_VALUES = attrgetter(*_BATCH)
_KEEP = f"INSERT INTO sample_batch ({', '.join(_BATCH)}) VALUES ({', '.join('?' * len(_BATCH))}) ON CONFLICT DO NOTHING"


def watch_of(db: sqlite3.Connection, probe_id: int) -> Watch | None:
    row = db.execute(f"{_WATCH} WHERE probe_id = ?", (probe_id,)).fetchone()
    return Watch(*row) if row else None


def watches_of(db: sqlite3.Connection, site_id: int) -> list[Watch]:
    """Those of probes that have left the site as well."""
    rows = db.execute(f"{_WATCH} WHERE probe_id IN (SELECT id FROM probe WHERE site_id = ?) ORDER BY id", (site_id,))
    return [Watch(*row) for row in rows]


def watch_by_id(db: sqlite3.Connection, watch_id: int) -> Watch | None:
    row = db.execute(f"{_WATCH} WHERE id = ?", (watch_id,)).fetchone()
    return Watch(*row) if row else None


def want(
    db: sqlite3.Connection,
    probe_id: int,
    far_end_id: int,
    interval_ms: int,
    dscp: int,
    asked_by: int | None,
    echoes: tuple[EchoTarget, ...] = (),
    large_every: int = 0,
) -> None:
    """Have the probe sample the way to this far end, and these places on it, from here on."""
    db.execute(
        "INSERT INTO watch (probe_id, far_end_id, interval_ms, dscp, wanted, version, asked_by, changed_us, echoes, "
        "large_every) VALUES (?1, ?2, ?3, ?4, 1, 1, ?5, ?6, ?7, ?8) ON CONFLICT (probe_id) DO UPDATE SET "
        "far_end_id = ?2, interval_ms = ?3, dscp = ?4, wanted = 1, version = version + 1, asked_by = ?5, "
        "changed_us = ?6, trouble = NULL, echoes = ?7, large_every = ?8",
        (
            probe_id, far_end_id, interval_ms, dscp, asked_by, now_us(), json.dumps(plain(_Echoes(echoes))),
            large_every,
        ),
    )  # fmt: skip


def end(db: sqlite3.Connection, probe_id: int) -> None:
    """What it brought stays."""
    db.execute(
        "UPDATE watch SET wanted = 0, version = version + 1, changed_us = ?, trouble = NULL "
        "WHERE probe_id = ? AND wanted = 1",
        (now_us(), probe_id),
    )


def note_running(db: sqlite3.Connection, probe_id: int, version: int | None, trouble: str | None) -> None:
    """What the probe says of it."""
    db.execute("UPDATE watch SET told_version = ?, trouble = ? WHERE probe_id = ?", (version, trouble, probe_id))


def keep(db: sqlite3.Connection, batches: Iterable[Batch]) -> None:
    """Sent again they change nothing."""
    db.executemany(_KEEP, map(_VALUES, batches))


def counts(db: sqlite3.Connection, watch_id: int) -> Counts:
    """Of all samples of a watch, packed or waiting for it, those that were thinned away as well. What waits and lies
    before the newest that is packed fills no gap until it is packed too."""
    row = db.execute(
        "WITH packed AS (SELECT * FROM watch_tally WHERE watch_id = ?1), waiting AS (SELECT *, first_us - max("
        "coalesce(lag(last_us) OVER (ORDER BY first_us), (SELECT last_us FROM packed), first_us), "
        "coalesce((SELECT last_us FROM packed), 0)) AS pause_us FROM sample_batch WHERE watch_id = ?1) "
        "SELECT min(first_us), max(last_us), coalesce(sum(answered), 0), coalesce(sum(lost), 0), "
        "coalesce(sum(not_sent), 0), coalesce(sum(without_us), 0) FROM ("
        "SELECT first_us, last_us, answered, lost, not_sent, without_us FROM packed UNION ALL "
        "SELECT first_us, last_us, answered * one_in, lost * one_in, not_sent * one_in, iif(pause_us > ?2, pause_us, 0)"
        " FROM waiting)",
        (watch_id, LEAST_GAP_US),
    ).fetchone()
    return Counts(*row)


def newest_us(db: sqlite3.Connection, watch_id: int) -> int | None:
    """The newest sample, packed or waiting for it."""
    row = db.execute(
        "SELECT max(last_us) FROM (SELECT max(last_us) AS last_us FROM sample_batch WHERE watch_id = ?1 UNION ALL "
        "SELECT last_us FROM (SELECT last_us FROM sample_cell WHERE watch_id = ?1 ORDER BY start_us DESC LIMIT 1))",
        (watch_id,),
    ).fetchone()
    return None if row[0] is None else int(row[0])


def batches_since(db: sqlite3.Connection, watch_id: int, since_us: int) -> list[Batch]:
    """In the order of time."""
    rows = db.execute(
        f"SELECT {', '.join(_BATCH)} FROM sample_batch WHERE watch_id = ? AND first_us >= ? ORDER BY first_us",
        (watch_id, since_us),
    )
    return [Batch(*row) for row in rows]
