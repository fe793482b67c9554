"""A week of a watch at a demo site: samples of all places on the way, as its probe would have brought them."""

from __future__ import annotations

import sqlite3
import zlib
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import UTC, datetime
from zoneinfo import ZoneInfo

import numpy as np
from numpy.typing import NDArray

from tarnfell.core.columns import pack_planes
from tarnfell.demo.scenario import DemoSite
from tarnfell.demo.simulate import Floats, Ints, Way
from tarnfell.store import watches as watch_store
from tarnfell.store.db import now_us, writing
from tarnfell.wire.kinds.watch import ANSWERED, COLUMNS, LARGE, LOST, EchoTarget
from tarnfell.wire.record import PackedColumn, Record
from tarnfell.work.watch.packing import pack_next
from tarnfell.work.watch.proposal import LARGE_BYTES, LARGE_EVERY
from tarnfell.work.watch.reading import read_next
from tarnfell.work.watch.samples import read_batch

INTERVAL_MS = 5000
"""More seldom than a probe does it unless it is asked otherwise: the demo is made in seconds."""
ROUNDS_A_BATCH = 600
PLACES = (
    EchoTarget("gateway", "192.0.2.1"),
    EchoTarget("edge", "198.51.100.1"),
    EchoTarget("outside", "203.0.113.53"),
    EchoTarget("outside", "203.0.113.99"),
)
_BEFORE_LINE = 1
"""Places that a packet reaches before it has crossed the line."""
_BEYOND_MS = (0.0, 0.0, 4.0, 7.0)
_FAR_MS = 0.08
"""What the far end takes to answer."""
_IDLE = 0.12
"""What other people's traffic offers between its bursts, as a share of the rate."""


@dataclass(frozen=True)
class _Line:
    """Waiting time at each round, and whether it would have been dropped."""

    wait_ms: Floats
    dropped: NDArray[np.bool_]


def write_samples(
    db: sqlite3.Connection, site: DemoSite, probe_id: int, far_end_id: int, start: datetime, end: datetime,
    rng: np.random.Generator,
) -> None:  # fmt: skip
    """All of it from ``start`` to ``end``, taken in as a probe's deliveries are."""
    with writing(db):
        watch_store.want(db, probe_id, far_end_id, INTERVAL_MS, 46, None, PLACES, LARGE_EVERY)
        watch = watch_store.watch_of(db, probe_id)
    assert watch is not None
    due_us = np.arange(int(start.timestamp()), int(end.timestamp()), INTERVAL_MS // 1000, dtype=np.int64) * 1_000_000
    head = {
        "watch": watch.id,
        "version": watch.version,
        "interval_ms": INTERVAL_MS,
        "targets": [far_end_id],
        "echoes": [[one.role, one.address] for one in PLACES],
        "large_bytes": LARGE_BYTES,
    }
    for body, first_us in _batches(head, due_us, *_samples(site, due_us, rng)):
        with writing(db):
            watch_store.keep(db, read_batch(watch.id, first_us, body))
    while pack_next(db, now_us()):
        pass
    read_next(db, now_us())


def _samples(site: DemoSite, due_us: Ints, rng: np.random.Generator) -> tuple[Floats, Floats, NDArray[np.bool_]]:
    """Way up and round trip in milliseconds, and what was lost; shape (places, rounds), the far end first."""
    assert site.up is not None
    assert site.down is not None
    hour, working = _local(due_us, ZoneInfo(site.values["time_zone"]))
    up = _line(site.up, _load(site.up_load, hour, working, site.weekend_share), rng)
    down = _line(site.down, _load(site.down_load, hour, working, site.weekend_share), rng)
    count = len(due_us)
    ups, trips, lost = [], [], []
    for place in (-1, *range(len(PLACES))):
        crosses = place == -1 or place >= _BEFORE_LINE
        beyond = 0.55 if place == -1 else _BEYOND_MS[place] / 2
        there = 0.25 + rng.gamma(1.0, 0.12, count)
        back = 0.25 + rng.gamma(1.0, 0.12, count)
        gone = rng.random(count) < 0.0002
        if crosses:
            share = 1.0 if place != 1 else 0.45
            there += share * site.up.base_ms + beyond + rng.exponential(site.up.jitter_ms, count) + up.wait_ms
            back += share * site.down.base_ms + beyond + rng.exponential(site.down.jitter_ms, count) + down.wait_ms
            gone |= up.dropped | down.dropped
            gone |= rng.random(count) < (site.up.loss_pct + site.down.loss_pct) / 100
        if place == 1:  # a router that lets its own answers wait
            back += np.where(rng.random(count) < 0.3, rng.exponential(40.0, count), 0.0)
        ups.append(there)
        trips.append(there + back)
        lost.append(gone)
    return np.array(ups), np.array(trips), np.array(lost)


def _local(due_us: Ints, zone: ZoneInfo) -> tuple[Ints, NDArray[np.bool_]]:
    """The hour at the site and whether it is a working day, of each round."""
    hours, place = np.unique(due_us // 3_600_000_000, return_inverse=True)
    local = [datetime.fromtimestamp(int(one) * 3600, UTC).astimezone(zone) for one in hours]
    return np.array([one.hour for one in local])[place], np.array([one.isoweekday() < 6 for one in local])[place]


def _load(by_hour: tuple[float, ...], hour: Ints, working: NDArray[np.bool_], weekend: float) -> Floats:
    return np.array(by_hour)[hour] * np.where(working, 1.0, weekend)


def _line(way: Way, load: Floats, rng: np.random.Generator) -> _Line:
    """The same queue as calls meet (demo/simulate.py), looked at once a round: bursts fill it, pauses drain it."""
    share = np.clip(load * 2 * way.burst_on_s / (way.burst_on_s + way.burst_off_s), 0, 0.95)
    step_ms = float(INTERVAL_MS)
    leave = step_ms / 1000 / way.burst_on_s
    enter = leave * share / (1 - share)
    flips = rng.random(len(load)).tolist()
    noise = rng.normal(1.0, 0.06, len(load)).tolist()
    waits, over = [], []
    wait, on = 0.0, False
    for chance, flip, scatter in zip(enter.tolist(), flips, noise, strict=True):
        on = flip >= leave if on else flip < chance
        offered = way.burst_rate if on else _IDLE
        wait = max(0.0, wait + step_ms * (offered * scatter - 1))
        dropped = max(0.0, wait - way.queue_ms)
        wait -= dropped
        waits.append(wait)
        over.append(dropped / (step_ms * offered))
    return _Line(np.array(waits), rng.random(len(load)) < np.array(over))


def _batches(
    head: dict[str, object], due_us: Ints, up_ms: Floats, trip_ms: Floats, lost: NDArray[np.bool_]
) -> Iterator[tuple[bytes, int]]:
    """As a probe packs them, with the time of their first sample."""
    places = len(up_ms)
    for first in range(0, len(due_us), ROUNDS_A_BATCH):
        own = slice(first, min(first + ROUNDS_A_BATCH, len(due_us)))
        due = np.repeat(due_us[own], places)
        target = np.tile(np.arange(places), own.stop - own.start)
        gone = lost[:, own].T.ravel()
        far_us = np.where(target == 0, _FAR_MS, 0.0) * 1e6
        t1 = due * 1000
        t2 = t1 + np.rint(up_ms[:, own].T.ravel() * 1e6).astype(np.int64)
        t4 = t1 + np.rint(trip_ms[:, own].T.ravel() * 1e6 + far_us).astype(np.int64)
        stamped = (target == 0) & ~gone
        large = (np.repeat(np.arange(own.start, own.stop), places) % LARGE_EVERY == LARGE_EVERY - 1) & (target > 0)
        nothing = np.zeros(len(due), np.int64)
        columns = (
            due,
            target,
            np.where(gone, LOST, ANSWERED),
            nothing,
            t1,
            np.where(stamped, t2, 0),
            np.where(stamped, t2 + far_us.astype(np.int64), 0),
            np.where(gone, 0, t4),
            large.astype(np.int64),
        )
        packed = {
            name: PackedColumn(name, len(due), zlib.compress(pack_planes(values.astype(np.int64)), 1))
            for name, values in zip((*COLUMNS, LARGE), columns, strict=True)
        }
        yield Record(head, packed).serialize(), int(due_us[own.start])
