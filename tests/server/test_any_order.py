"""Runs through every order of things: told twice, told late, the server started anew, the probe gone in between."""

from __future__ import annotations

import itertools
import os
import shutil
import tempfile
from pathlib import Path
from typing import Any

from hypothesis import HealthCheck, settings
from hypothesis import strategies as st
from hypothesis.stateful import Bundle, RuleBasedStateMachine, initialize, invariant, multiple, precondition, rule

from tarnfell.store import jobs as job_store
from tarnfell.store import runs as run_store
from tarnfell.store.db import connect
from tests.server.conftest import built_house, over, record_file
from tests.server.test_runs import deliver, progress

NEXT = {
    "waiting": {"waiting", "taken", "running", "failed", "done"},
    "taken": {"taken", "running", "failed", "done"},
    "running": {"running", "failed", "done"},
    "failed": {"failed", "done"},
    "done": {"done"},
}
"""Which state may follow which; a run given up may still turn out to have been measured."""
RECORD, CUT = record_file(), record_file()[:-7]


class Life(RuleBasedStateMachine):
    """One site with one probe. What the server keeps is compared with what was said to it."""

    runs = Bundle("runs")

    def __init__(self) -> None:
        super().__init__()
        self.folder = Path(tempfile.mkdtemp(prefix="tarnfell-life-"))
        self.house = built_house(self.folder)
        self.restart()
        self.delivered: set[int] = set()
        self.seconds: dict[int, int] = {}

    def teardown(self) -> None:
        shutil.rmtree(self.folder)

    @rule()
    def restart(self) -> None:
        """The server is started anew over the same data; who was signed in still is."""
        cookie = self.house.person.get_cookie("tarnfell")
        assert cookie is not None
        self.house.app = over(self.folder, self.house.app)
        self.house.person = self.house.app.test_client()
        self.house.person.set_cookie("tarnfell", cookie.value)

    @initialize()
    def the_probe_is_heard(self) -> None:
        self.house.heartbeat()

    @rule(target=runs, calls=st.just(2))
    def place(self, calls: int) -> Any:
        """Refused with a sentence while another run is on or the probe is silent."""
        answer = self.house.place(calls=calls)
        if answer.status_code == 200:
            return int(answer.json["id"])
        assert answer.status_code == 409, answer.text
        return multiple()

    @rule()
    def heartbeat(self) -> None:
        waiting = self._ids("waiting")
        job = self.house.heartbeat()
        assert (job and job["id"]) == (waiting[0] if waiting else None)

    @rule(run=runs, ahead=st.integers(-1, 3))
    def tell_a_second(self, run: int, ahead: int) -> None:
        """The next, one told before, or one after some that were never told."""
        state = self._state(run)
        second = max(1, self.seconds.get(run, 0) + ahead)
        answer = self.house.probe("POST", f"/api/probe/jobs/{run}/progress", json=progress(second, 50 * second))
        assert answer.status_code == 200, answer.text
        if state in ("taken", "running"):
            self.seconds[run] = max(second, self.seconds.get(run, 0))
            assert self._state(run) == "running"
        else:
            assert self._state(run) == state

    @rule(run=runs)
    def deliver(self, run: int) -> None:
        assert deliver(self.house, run, RECORD).json == {"state": "done"}
        self.delivered.add(run)

    @rule(run=runs)
    def deliver_cut_short(self, run: int) -> None:
        before = self._state(run)
        answer = deliver(self.house, run, CUT)
        assert answer.status_code == (200 if before == "done" else 422)
        assert self._state(run) == before

    @rule(run=runs)
    def fail(self, run: int) -> None:
        answer = self.house.probe("POST", f"/api/probe/jobs/{run}/failure", json={"reason": "The line is down."})
        assert answer.json == {"state": "done" if run in self.delivered else "failed"}

    @rule(run=runs)
    def stop(self, run: int) -> None:
        before = self._state(run)
        answer = self.house.post(f"/api/runs/{run}/stop", {})
        assert answer.status_code in (200, 409), answer.text
        after = self._state(run)
        assert after == "failed" if before == "waiting" else after in (before, "failed")

    @rule()
    def the_probe_falls_silent(self) -> None:
        db = connect(self.folder)
        db.execute("UPDATE probe SET last_contact_us = last_contact_us - ?", (7_200 * 1_000_000,))
        db.close()
        self.house.person.get("/api/sites/pier")

    @precondition(lambda self: self.delivered)
    @rule()
    def the_pages_tell_it(self) -> None:
        for run in sorted(self.delivered):
            page = self.house.person.get(f"/api/runs/{run}").json
            assert (page["state"], page["failure"], page["up"]["sent"]) == ("done", None, 200)
        evidence = self.house.person.get("/api/sites/pier").json["evidence"]
        assert evidence["calls"] == 2 * len(self.delivered)

    @invariant()
    def nothing_is_lost_or_doubled(self) -> None:
        assert set(self._ids("done")) == self.delivered
        assert self._count("call") == 2 * len(self.delivered)
        assert self._count("direction") == 4 * len(self.delivered)

    @invariant()
    def every_life_is_told_whole(self) -> None:
        db = connect(self.folder)
        for number, state in db.execute("SELECT id, state FROM job").fetchall():
            told = [event.state for event in job_store.events(db, number)]
            assert told[0] == "waiting"
            assert told[-1] == state
            assert all(after in NEXT[before] for before, after in itertools.pairwise(told)), told
        db.close()

    def _state(self, run: int) -> str:
        db = connect(self.folder)
        try:
            return run_store.run_by_id(db, run).state
        finally:
            db.close()

    def _ids(self, state: str) -> list[int]:
        return [row[0] for row in self._rows("SELECT id FROM job WHERE state = ? ORDER BY id", state)]

    def _count(self, table: str) -> int:
        return int(self._rows(f"SELECT count(*) FROM {table}")[0][0])

    def _rows(self, query: str, *values: Any) -> list[Any]:
        db = connect(self.folder)
        try:
            return db.execute(query, values).fetchall()
        finally:
            db.close()


TestLife = Life.TestCase
# The same ones at every run: more of them find something only where they are new.
TestLife.settings = settings(
    max_examples=100 if "EXPLORE" in os.environ else 12, stateful_step_count=25, suppress_health_check=list(HealthCheck)
)
