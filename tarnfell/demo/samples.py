"""A week of a watch at a demo site: samples of all places on the way, as its probe would have brought them."""

from __future__ import annotations

import sqlite3
import zlib
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime

import numpy as np
from numpy.typing import NDArray

from tarnfell.core.columns import pack_planes
from tarnfell.demo.calls import Ids
from tarnfell.demo.simulate import Floats, Ints, Way
from tarnfell.demo.truth import DemoSite, Weather, share_busy
from tarnfell.store import watches as watch_store
from tarnfell.store.db import now_us, writing
from tarnfell.wire.kinds.watch import ANSWERED, COLUMNS, LARGE, LOST, EchoTarget
from tarnfell.wire.record import PackedColumn, Record
from tarnfell.work.watch.packing import pack_next
from tarnfell.work.watch.proposal import LARGE_BYTES, LARGE_EVERY, SMALL_BYTES
from tarnfell.work.watch.reading import read_next
from tarnfell.work.watch.samples import read_batches

INTERVAL_MS = 5000
"""More seldom than a probe does it unless it is asked otherwise: the demo is made in seconds."""
ROUNDS_A_BATCH = 600
OUTSIDE = ("203.0.113.53", "203.0.113.99")
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


def gateway_of(number: int) -> str:
    """The address that a site's router has inside, by the site's number."""
    return f"192.0.2.{number * 16 + 1}"


def edge_of(number: int) -> str:
    """That of the router at the other end of its line."""
    return f"198.51.100.{200 + number}"


def places_of(number: int) -> tuple[EchoTarget, ...]:
    return (
        EchoTarget("gateway", gateway_of(number)),
        EchoTarget("edge", edge_of(number)),
        *(EchoTarget("outside", address) for address in OUTSIDE),
    )


def write_samples(
    db: sqlite3.Connection, site: DemoSite, ids: Ids, begin: datetime, end: datetime, rng: np.random.Generator
) -> None:
    """All of it, taken in as a probe's deliveries are, packed and read."""
    echoes = places_of(ids.site)
    with writing(db):
        watch_store.want(db, ids.probe, ids.far_end, INTERVAL_MS, 46, None, echoes, LARGE_EVERY)
        watch = watch_store.watch_of(db, ids.probe)
    assert watch is not None
    due_us = np.arange(int(begin.timestamp()), int(end.timestamp()), INTERVAL_MS // 1000, dtype=np.int64) * 1_000_000
    head = {
        "watch": watch.id,
        "version": watch.version,
        "interval_ms": INTERVAL_MS,
        "targets": [ids.far_end],
        "echoes": [[one.role, one.address] for one in echoes],
        "large_bytes": LARGE_BYTES,
    }
    large = np.arange(len(due_us)) % LARGE_EVERY == LARGE_EVERY - 1
    bodies = list(_batches(head, due_us, large, *_samples(site, Weather(site, end), due_us, large, rng)))
    batches = [batch for body in bodies for batch in read_batches(watch.id, [body])]
    with writing(db):
        watch_store.keep(db, batches)
    while pack_next(db, now_us(), watch.id):
        pass
    read_next(db, now_us(), watch.id)


def _samples(
    site: DemoSite, weather: Weather, due_us: Ints, large: NDArray[np.bool_], rng: np.random.Generator
) -> tuple[Floats, Floats, NDArray[np.bool_]]:
    """Way up and round trip in milliseconds, and what was lost; shape (places, rounds), the far end first."""
    assert site.up is not None
    assert site.down is not None
    up = _line(site.up, share_busy(site.up_load, due_us, site.zone, site.weekend_share), rng)
    down = _line(site.down, share_busy(site.down_load, due_us, site.zone, site.weekend_share), rng)
    inside = _inside(site, due_us, rng)
    count = len(due_us)
    ups, trips, lost = [], [], []
    for place in range(-1, len(OUTSIDE) + 2):
        is_far_end = place == -1
        there, back = (way.wait_ms + 0.25 + rng.gamma(1.0, 0.12, count) for way in inside)
        gone = (rng.random(count) < 0.0002) | inside[0].dropped | inside[1].dropped
        if is_far_end or place >= _BEFORE_LINE:
            beyond = 0.55 if is_far_end else _BEYOND_MS[place] / 2
            share = 1.0 if place != 1 else 0.45
            there += share * site.up.base_ms + beyond + rng.exponential(site.up.jitter_ms, count) + up.wait_ms
            back += share * site.down.base_ms + beyond + rng.exponential(site.down.jitter_ms, count) + down.wait_ms
            gone |= up.dropped | down.dropped
            kept = (1 - site.up.loss_pct / 100) * (1 - site.down.loss_pct / 100)
            size = np.where(large & (not is_far_end), LARGE_BYTES, SMALL_BYTES)
            gone |= rng.random(count) > kept * (1 - weather.share_lost(due_us, size)) ** 2
        if place == 1 and site.slow_edge:
            back += np.where(rng.random(count) < 0.3, rng.exponential(40.0, count), 0.0)
        ups.append(there)
        trips.append(there + back)
        lost.append(gone)
    return np.array(ups), np.array(trips), np.array(lost)


def _inside(site: DemoSite, due_us: Ints, rng: np.random.Generator) -> tuple[_Line, _Line]:
    """Up and down."""
    if site.inside is None:
        nothing = _Line(np.zeros(len(due_us)), np.zeros(len(due_us), bool))
        return nothing, nothing
    busy = share_busy(site.inside.load, due_us, site.zone, site.weekend_share)
    return _line(site.inside.up, busy, rng), _line(site.inside.down, busy, rng)


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
    head: dict[str, object], due_us: Ints, large: NDArray[np.bool_], up_ms: Floats, trip_ms: Floats,
    lost: NDArray[np.bool_],
) -> Iterator[bytes]:  # fmt: skip
    """As a probe packs them."""
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
        is_large = np.repeat(large[own], places) & (target > 0)
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
            is_large.astype(np.int64),
        )
        packed = {
            name: PackedColumn(name, len(due), zlib.compress(pack_planes(values.astype(np.int64)), 1))
            for name, values in zip((*COLUMNS, LARGE), columns, strict=True)
        }
        yield Record(head, packed).serialize()
