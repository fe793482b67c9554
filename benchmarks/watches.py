"""Samples taken in, packed, read and asked for: how fast, how large, and how that grows with days and sites."""

from __future__ import annotations

import os
import sqlite3
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from dataclasses import replace
from functools import partial
from pathlib import Path
from threading import Thread
from unittest.mock import patch
from zoneinfo import ZoneInfo

from flask.testing import FlaskClient
from waitress.server import BaseWSGIServer, create_server

from tarnfell.core.alerts.rules import Rule
from tarnfell.core.days.rounds import Rounds
from tarnfell.probe import delivery
from tarnfell.probe.http import ServerClient
from tarnfell.probe.spool import Spool
from tarnfell.server.http.app import create_app
from tarnfell.store import cells as cell_store
from tarnfell.store import places as place_store
from tarnfell.store import probes as probe_store
from tarnfell.store import sites as site_store
from tarnfell.store import watches as watch_store
from tarnfell.store.db import now_us, open_database, writing
from tarnfell.store.members import adopt
from tarnfell.store.people import add_user
from tarnfell.store.sites import Site
from tarnfell.store.watches import Batch
from tarnfell.wire.kinds.surroundings import Surroundings
from tarnfell.wire.kinds.watch import MOST_TOGETHER
from tarnfell.work.alerts.trial import try_on
from tarnfell.work.watch.bench import bench_of
from tarnfell.work.watch.packing import pack_next
from tarnfell.work.watch.reading import WatchReading, kept_reading, read_next
from tarnfell.work.watch.samples import read_batches
from tarnfell.work.watch.sheet import LegsShown, days_of, newest
from tests import rig
from tests.core.days.weeks import TROUBLES
from tests.server.conftest import EMAIL, PASSWORD, SITE, set_up
from tests.work.watched import batches_of

ZONE = ZoneInfo("Europe/London")
LATER = 4_000_000_000_000_000
DAY_US = 86_400_000_000
PLACES = 5
WAITING = 1000
"""Batches on a probe's disk: nearly three hours of a watch."""
TRIES = 5
SHORT_S, LONG_S = 5, 65
DAYS = (1, 7, 30, 90)
SITES = (1, 10, 100)


def report() -> str:
    with tempfile.TemporaryDirectory() as folder:
        lines = _taken_in(Path(folder) / "day")
        week, client = _week(Path(folder) / "week")
        lines += ["", *_asked(week, client), "", *_grown(week), "", *_fleet(week, client)]
        lines += ["", *_sampler(Path(folder))]
    return "\n".join(["## Watches", "", "Five places once a second, troubled by uploads.", "", *lines])


def _rounds(days: int) -> Rounds:
    """That end now."""
    week = next(iter(TROUBLES.values()))(1).rounds()
    count = min(len(week.at_us), days * 86_400)
    at_us = week.at_us[:count] + (now_us() // DAY_US * DAY_US - int(week.at_us[count - 1]))
    return replace(week, at_us=at_us, sent=week.sent[:, :count], rtt_ms=week.rtt_ms[:, :count])


def _watched(folder: Path) -> sqlite3.Connection:
    db = open_database(folder)
    probe, code = set_up(db, "192.0.2.10", 4870, "key")
    assert probe_store.enrol(db, code, Surroundings())
    watch_store.want(db, probe, 1, 1000, 46, None)
    return db


def _taken_in(folder: Path) -> list[str]:
    """A day of batches as a probe delivers them, against writing the same bytes and nothing else."""
    db = _watched(folder)
    empty = _on_disk(db)
    batches = batches_of(_rounds(1), each=10)
    samples = sum(one.answered + one.lost + one.not_sent for one in batches)
    bare_s = _seconds(lambda: _bare(folder / "bare.sqlite", batches), 1)
    read_s = _seconds(lambda: _read(batches), TRIES)
    keep_s = _seconds(lambda: _keep(db, batches), 1)
    pack_s = _seconds(lambda: _pack(db), 1)
    size = sum(len(one.rounds) + len(one.minutes) + len(one.tens) for one in cell_store.cells_between(db, 1, 0, LATER))
    taken_s = read_s + keep_s
    delivered = {
        most: max(_delivered(folder.with_name(f"delivered-{most}-{n}"), batches, most) for n in range(3))
        for most in (1, MOST_TOGETHER)
    }
    return [
        f"A day is {samples:,} samples in {len(batches):,} batches. Taken in: {samples / taken_s:,.0f} samples a "
        f"second ({read_s:.1f} s read and checked, {keep_s:.1f} s kept); packed by the clerk as well: "
        f"{samples / (taken_s + pack_s):,.0f} ({pack_s:.1f} s more). That is {taken_s / bare_s:.1f} and "
        f"{(taken_s + pack_s) / bare_s:.1f} times what writing the same batches to SQLite as blobs takes, a hundred to "
        f"a transaction. Packed they take {size / samples:.2f} bytes a sample, figures by the minute among them, and "
        f"{(_on_disk(db) - empty) / samples:.2f} in the file with all that finds them.",
        "",
        "A probe that comes back after an outage delivers over HTTP, on loopback and in one process with its server, "
        f"{delivered[MOST_TOGETHER]:,.0f} samples a second; {delivered[1]:,.0f} where each batch goes by itself. It "
        "deletes each from its disk as well, which can take the most of it.",
    ]


def _on_disk(db: sqlite3.Connection) -> int:
    """Bytes of the file that are in use."""
    size, pages, free = (
        db.execute(f"PRAGMA {what}").fetchone()[0] for what in ("page_size", "page_count", "freelist_count")
    )
    return int(size * (pages - free))


def _delivered(folder: Path, batches: list[Batch], most: int) -> float:
    """Samples a second from a probe's disk to the server's, so many batches to a request at most."""
    db = open_database(folder)
    probe, code = set_up(db, "192.0.2.10", 4870, "key")
    enrolled = probe_store.enrol(db, code, Surroundings())
    assert enrolled
    watch_store.want(db, probe, 1, 1000, 46, None)
    spool = Spool(folder / "spool")
    spool.folder.mkdir()
    waiting = batches[:WAITING]
    for one in waiting:
        spool.keep_samples(1, one.first_us, one.record)
    server = create_server(create_app(folder), host="127.0.0.1", port=0)
    assert isinstance(server, BaseWSGIServer)
    assert server.socket
    Thread(target=server.run, daemon=True).start()
    client = ServerClient(f"http://127.0.0.1:{server.socket.getsockname()[1]}", enrolled[1])
    with patch.object(delivery, "MOST_TOGETHER", most):
        took_s = _seconds(delivery.Delivery(spool, client, lambda _: True).deliver, 1)
    server.close()
    kept = db.execute("SELECT sum(answered + lost + not_sent) FROM sample_batch").fetchone()[0]
    assert kept == sum(one.answered + one.lost + one.not_sent for one in waiting)
    return float(kept / took_s)


def _bare(file: Path, batches: list[Batch]) -> None:
    db = sqlite3.connect(file, isolation_level=None)
    db.execute("PRAGMA journal_mode = WAL")
    db.execute("PRAGMA synchronous = FULL")
    db.execute("CREATE TABLE batch (at INTEGER PRIMARY KEY, record BLOB)")
    for together in _together(batches):
        with writing(db):
            db.executemany("INSERT INTO batch VALUES (?, ?)", [(one.first_us, one.record) for one in together])


def _read(batches: list[Batch]) -> None:
    for together in _together(batches):
        read_batches(together[0].watch_id, [one.record for one in together])


def _keep(db: sqlite3.Connection, batches: list[Batch]) -> None:
    for together in _together(batches):
        with writing(db):
            watch_store.keep(db, together)


def _together(batches: list[Batch]) -> Iterator[list[Batch]]:
    """As a probe delivers what has waited."""
    return (batches[first : first + MOST_TOGETHER] for first in range(0, len(batches), MOST_TOGETHER))


def _pack(db: sqlite3.Connection) -> None:
    while pack_next(db, LATER):
        pass


def _week(folder: Path) -> tuple[sqlite3.Connection, FlaskClient]:
    db = _watched(folder)
    _keep(db, batches_of(_rounds(7), each=10))
    _pack(db)
    assert read_next(db, LATER)
    adopt(db, add_user(db, EMAIL, "Tester", PASSWORD).id)
    return db, _signed_in(folder)


def _asked(db: sqlite3.Connection, client: FlaskClient) -> list[str]:
    newest = now_us()
    rule = Rule("loss", "far-end", 2.0, 3)
    sites = site_store.sites_of(db, 1)
    rows = [
        ("Page *Watch*, seven days", lambda: client.get("/api/sites/pier/watch?days=7")),
        ("Minute bench of 7 days", lambda: bench_of(db, 1, 1, newest - 7 * DAY_US, newest)),
        ("Minute bench of a day", lambda: bench_of(db, 1, 1, newest - DAY_US, newest)),
        ("Minute bench of 20 minutes", lambda: bench_of(db, 1, 1, newest - DAY_US, newest - DAY_US + 1_200_000_000)),
        ("A rule tried on the week", lambda: try_on(db, rule, sites, newest)),
    ]
    told = [f"| {name} | {1000 * _seconds(work):.0f} ms |" for name, work in rows]
    return ["| of one watched site-week | the fastest of five |", "|---|---:|", *told]


def _grown(db: sqlite3.Connection) -> list[str]:
    """The day sheet of a watch that is as old as that: its cells again and again, a week earlier each time."""
    reading = kept_reading(db, 1)
    assert reading is not None
    cells = cell_store.cells_between(db, 1, 0, LATER)
    week_us = 7 * DAY_US
    for back in range(1, 13):
        with writing(db):
            cell_store.keep_packed(
                db,
                [
                    replace(
                        one,
                        start_us=one.start_us - back * week_us,
                        first_us=one.first_us - back * week_us,
                        last_us=one.last_us - back * week_us,
                    )
                    for one in cells
                ],
                [],
            )
    (site,) = site_store.sites_of(db, 1)
    told = []
    for days in DAYS:
        span = replace(reading, from_us=reading.until_us - days * DAY_US)
        took = 1000 * _seconds(partial(_sheet, db, site, span, days))
        told.append(f"| {days} | {took:.0f} ms | {took / days:.2f} ms |")
    size = (
        db.execute("SELECT sum(length(rounds) + length(minutes) + length(tens)) FROM sample_cell").fetchone()[0] / 1e6
    )
    return [
        f"The cells of a watch of 91 days take {size:.0f} MB.",
        "",
        "| days on the sheet | took | a day |",
        "|---:|---:|---:|",
        *told,
    ]


def _sheet(db: sqlite3.Connection, site: Site, reading: WatchReading, days: int) -> None:
    days_of(db, newest(db, 1, reading, days, ZoneInfo(site.time_zone)), site, reading, days, LegsShown("mos"))


def _fleet(db: sqlite3.Connection, client: FlaskClient) -> list[str]:
    """The start page over so many watched sites: of some that were never asked for, after a restart, and again."""
    kept = cell_store.reading_of(db, 1)
    assert kept is not None
    told, have = [], 1
    folder = Path(db.execute("PRAGMA database_list").fetchone()[2]).parent
    for sites in SITES:
        with writing(db):
            for number in range(have, sites):
                site_id = site_store.add_site(db, 1, **SITE | {"slug": f"s{number}", "name": f"Site {number}"})
                probe = probe_store.add_probe(db, site_id, place_store.add_test_point(db, site_id, "desk", "desk"), "p")
                watch_store.want(db, probe, 1, 1000, 46, None)
                watch = watch_store.watch_of(db, probe)
                assert watch is not None
                cell_store.keep_reading(db, replace(kept, watch_id=watch.id))
        have = sites
        never, restarted, again = (
            _seconds(partial(asking.get, "/api/today"), tries)
            for asking, tries in ((_signed_in(folder), 1), (_signed_in(folder), 1), (client, TRIES))
        )
        told.append(f"| {sites} | {1000 * never:.0f} ms | {1000 * restarted:.0f} ms | {1000 * again:.0f} ms |")
    return [
        "A site never asked for is judged there and then, unless the clerk has done so; its judgement is kept.",
        "",
        "| watched sites | start page, most of them never asked for | first after a restart | again, fastest of five |",
        "|---:|---:|---:|---:|",
        *told,
    ]


def _signed_in(folder: Path) -> FlaskClient:
    """A server that has just started."""
    client = create_app(folder).test_client()
    client.post("/api/session", json={"email": EMAIL, "password": PASSWORD})
    return client


SAMPLER = """
import sys, time
from tarnfell.probe.sampler.sample import Orders, sample
from tarnfell.wire.kinds.watch import EchoTarget, Watch, WatchTarget

until = time.monotonic() + float(sys.argv[1])
echoes = tuple(EchoTarget("outside", f"127.0.0.{n}") for n in range(1, 5))
target = WatchTarget(1, "127.0.0.1", int(sys.argv[2]), sys.argv[3], 46)
watch = Watch(1, 1, 1000, (target,), echoes, large_every=5)
sample(watch, Orders(lambda: time.monotonic() < until, lambda: 0, lambda at, batch: None, lambda trouble: None))
print(next(line.split()[1] for line in open("/proc/self/status") if line.startswith("VmHWM")))
"""


def _sampler(folder: Path) -> list[str]:
    """What a probe's process does that samples four addresses and a far end once a second, without its start."""
    with rig.far_end(folder, "127.0.0.1"):
        short_s, _ = _sampled(SHORT_S)
        long_s, most_mb = _sampled(LONG_S)
    share = 100 * (long_s - short_s) / (LONG_S - SHORT_S)
    return [f"Sampling takes {share:.1f} % of one processor and {most_mb:.0f} MB at its most."]


def _sampled(seconds: int) -> tuple[float, float]:
    """Processor seconds, and the most memory it had."""
    command = [sys.executable, "-c", SAMPLER, str(seconds), str(rig.CONTROL_PORT), rig.KEY]
    with subprocess.Popen(command, stdout=subprocess.PIPE, text=True) as process:
        assert process.stdout is not None
        most_kb = int(process.stdout.read())
        _, status, used = os.wait4(process.pid, 0)
        process.returncode = status
    assert status == 0
    return used.ru_utime + used.ru_stime, most_kb / 1024


def _seconds(work: Callable[[], object], tries: int = TRIES) -> float:
    fastest = float("inf")
    for _ in range(tries):
        begun = time.perf_counter()
        work()
        fastest = min(fastest, time.perf_counter() - begun)
    return fastest
