"""A browser's test held against what a probe found at the same desk."""

from __future__ import annotations

import sqlite3
from dataclasses import replace
from statistics import median
from typing import Any

from tarnfell.store import places as place_store
from tarnfell.store import probes as probe_store
from tarnfell.store.db import writing
from tests.core.check.test_judge import HEALTHY
from tests.server.conftest import House, record_file
from tests.server.test_checks import done, heartbeat
from tests.server.test_desk import LINKS, add, asked, carried_out, code_of, db
from tests.server.test_runs import taken

__all__ = ["asked", "db"]


def test_the_run_of_a_probe_at_the_same_desk_stands_beside(house: House, db: sqlite3.Connection) -> None:
    probe = probe_store.probes_of(db, 1)[0]

    def beside() -> Any:
        return house.person.get(LINKS).json["links"][0]["beside"]

    runs = []
    for _ in range(2):
        runs.append(taken(house))
        assert house.deliver(runs[-1], record_file()).json == {"state": "done"}
    code = code_of(add(house, test_point_id=probe.test_point_id))
    assert beside() is None  # nothing of the browser's to stand beside
    browser_run = carried_out(house, db, code)
    with writing(db):
        for run_id, at_us in ((runs[0], 100), (runs[1], 900), (browser_run, 400)):
            db.execute("UPDATE job SET begun_us = ? WHERE id = ?", (at_us * 1_000_000, run_id))
    told = beside()
    assert (told["run_id"], told["probe"], told["apart_s"], told["at_us"]) == (runs[0], probe.name, -300.0, 100_000_000)
    assert told["up"]["mos"] is not None
    with writing(db):
        db.execute("UPDATE job SET begun_us = 650000000 WHERE id = ?", (runs[1],))
    assert (beside()["run_id"], beside()["apart_s"]) == (runs[1], 250.0)
    with writing(db):
        other = place_store.add_test_point(db, 1, "Store", "desk")
        db.execute("UPDATE probe SET test_point_id = ? WHERE id = ?", (other, probe.id))
    assert beside() is None  # it stands elsewhere


def test_the_way_from_a_probe_at_the_same_desk_stands_beside(house: House, db: sqlite3.Connection) -> None:
    probe = probe_store.probes_of(db, 1)[0]
    add(house, test_point_id=probe.test_point_id)

    def way() -> Any:
        return house.person.get(LINKS).json["links"][0]["way"]

    assert way() is None
    heartbeat(house, [])
    first = done(house)
    assert HEALTHY.path is not None
    told = way()
    assert (told["probe"], told["address"], told["reached"]) == (probe.name, HEALTHY.path.address, HEALTHY.path.reached)
    assert [one["address"] for one in told["hops"]] == [hop.address for hop in HEALTHY.path.hops]
    assert [one["rtt_ms"] for one in told["hops"]] == [
        median(hop.rtt_ms) if hop.rtt_ms else None for hop in HEALTHY.path.hops
    ]
    # A newer check that found no way leaves the one that did; a newer one with a way takes its place.
    done(house, replace(HEALTHY, path=None))
    with writing(db):
        db.execute("UPDATE job SET begun_us = 7000000 WHERE id = ?", (first,))
    assert way()["at_us"] == 7_000_000
    done(house, replace(HEALTHY, path=replace(HEALTHY.path, reached=False)))
    assert way()["reached"] is False
    with writing(db):
        other = place_store.add_test_point(db, 1, "Store", "desk")
        db.execute("UPDATE probe SET test_point_id = ? WHERE id = ?", (other, probe.id))
    assert way() is None
