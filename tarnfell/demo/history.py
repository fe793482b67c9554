"""The scenario's week in a new database: each site's calls, samples, checks and fills, taken in as a probe's are."""

from __future__ import annotations

import multiprocessing
import os
import sqlite3
from collections.abc import Callable, Sequence
from concurrent.futures import ProcessPoolExecutor, as_completed
from datetime import datetime, timedelta
from pathlib import Path

import numpy as np

from tarnfell.demo import scenario
from tarnfell.demo.alerts import keep_rules
from tarnfell.demo.calls import Ids, write_calls
from tarnfell.demo.checks import write_check
from tarnfell.demo.fills import write_fill
from tarnfell.demo.samples import OUTSIDE, gateway_of, write_samples
from tarnfell.demo.scenario import NAMES, PASSWORD, PEOPLE, SEED, SERVICES, SITES
from tarnfell.demo.truth import DemoSite
from tarnfell.store import checks as check_store
from tarnfell.store import places as place_store
from tarnfell.store import sites as site_store
from tarnfell.store.checks import Wish
from tarnfell.store.db import connect, open_database, writing
from tarnfell.store.engagements import add_engagement
from tarnfell.store.members import join
from tarnfell.store.people import add_user
from tarnfell.store.probes import add_probe, enrol, invite
from tarnfell.wire.kinds.surroundings import Surroundings
from tarnfell.work.evidence.evaluations import EVALUATIONS
from tarnfell.work.issuing.measured import MEASURED

DAYS = 7
CHECKED_AFTER = timedelta(minutes=20)
"""The probe was enrolled; and so long before the end it was checked again."""

Progress = Callable[[str], None]


def make_history(
    folder: Path,
    end: datetime,
    tell: Progress = lambda _: None,
    days: int = DAYS,
    sites: Sequence[DemoSite] = SITES,
) -> None:
    """The scenario in ``folder``, its ``days`` ending at ``end`` (with a zone); each site in a process of its own."""
    db = open_database(folder)
    try:
        with writing(db):
            engagement = add_engagement(db, scenario.SLUG, scenario.NAME, scenario.SUMMARY)
            for email, name, role in PEOPLE:
                join(db, engagement, add_user(db, email, name, PASSWORD, outside=role == "customer").id, role)
            check_store.keep_services(db, engagement, SERVICES)
            placed = [(number, site, _set_up(db, engagement, site, end, days)) for number, site in enumerate(SITES)]
        told = [one for one in placed if one[1].up and one[1] in sites]
        own = multiprocessing.get_context("spawn")
        with ProcessPoolExecutor(min(len(told), os.cpu_count() or 1), own) as pool:
            under_way = {
                pool.submit(_write_site, folder, site, ids, end, days, number): site for number, site, ids in told
            }
            for one in as_completed(under_way):
                one.result()
                tell(f"{under_way[one].values['name']}: calls, samples and checks")
        _quickly(db)
        keep_rules(db, engagement, end - timedelta(days=days))
    finally:
        db.close()


def _quickly(db: sqlite3.Connection) -> None:
    """A demo that the machine loses half made is made again: nothing waits for the disk. Sites wait for one another
    however long it takes: on a machine that has much else to do one may write for half a minute."""
    db.execute("PRAGMA synchronous = OFF")
    db.execute("PRAGMA busy_timeout = 600000")


def _write_site(folder: Path, site: DemoSite, ids: Ids, end: datetime, days: int, number: int) -> None:
    begin = site.begin(end, days)
    db = connect(folder)
    _quickly(db)
    try:
        rng = np.random.default_rng([SEED, number])
        for at in dict.fromkeys((begin + CHECKED_AFTER, end - CHECKED_AFTER)):
            write_check(db, site, ids, at, end, rng)
        for days_before, hour in site.filled:
            at = (end.astimezone(site.zone) - timedelta(days=days_before)).replace(hour=hour, minute=20)
            if at > begin:
                write_fill(db, site, ids, at, rng)
        write_calls(db, site, ids, begin, end, rng)
        write_samples(db, site, ids, begin, end, rng)
        # As a clerk would have by now: else its first pages say that all of it is being judged.
        kept = site_store.site_by_id(db, ids.site)
        EVALUATIONS.now(db, kept)
        MEASURED.now(db, kept)
    finally:
        db.close()


def _set_up(db: sqlite3.Connection, engagement: int, site: DemoSite, end: datetime, days: int) -> Ids:
    site_id = site_store.add_site(db, engagement, **site.values)
    name, place, address = site.far_end
    shared = {f.name: f.id for f in place_store.far_ends(db)}
    far_end = shared.get(name) or place_store.add_far_end(db, name, place, address, 4870, "demo-key-of-no-real-far-end")
    place_store.choose_far_end(db, site_id, far_end)
    probe = add_probe(db, site_id, place_store.add_test_point(db, site_id, site.test_point, "desk"), site.probe)
    if site.up:
        check_store.keep_wish(db, site_id, Wish(outside=OUTSIDE, names=NAMES))
        around = Surroundings(
            "Debian GNU/Linux 12 (bookworm)", "3.11.7", medium=site.medium, gateway=gateway_of(site_id)
        )
        _enrolled(db, probe, around, site.begin(end, days), end)
    return Ids(site_id, probe, far_end)


def _enrolled(db: sqlite3.Connection, probe_id: int, around: Surroundings, since: datetime, until: datetime) -> None:
    """The probe as one that was there for all of the history, and has been switched off since."""
    enrol(db, invite(db, probe_id), around)
    db.execute(
        "UPDATE probe SET enrolled_us = ?, last_contact_us = ? WHERE id = ?",
        (int(since.timestamp() * 1e6), int(until.timestamp() * 1e6), probe_id),
    )
