"""A real probe that samples while it places calls."""

from __future__ import annotations

import subprocess
import sys
import time
from pathlib import Path

from tarnfell.probe.state import Enrolment, State
from tarnfell.store import cells, runs, watches
from tarnfell.store.db import connect, writing
from tarnfell.work.watch.cells import unpacked
from tarnfell.work.watch.packing import pack_next
from tests import rig
from tests.server.conftest import built_house

LATER = 4_000_000_000_000_000


def test_a_hundred_calls_lose_no_packet_beside_the_samples(tmp_path: Path) -> None:
    """A real probe samples while it places as many calls as a run may hold; the samples of then are labelled so."""
    house, port, far = built_house(tmp_path / "data"), rig.free_port(), rig.own_address()
    state = tmp_path / "probe"
    State(state).keep_enrolment(Enrolment(f"http://127.0.0.1:{port}", house.secret, "pier-probe", "Pier office"))
    db = connect(tmp_path / "data")
    db.execute("UPDATE far_end SET host = ?, port = ?, key = ?", (far, rig.CONTROL_PORT, rig.KEY))
    with writing(db):
        watches.want(db, 1, 1, 200, 46, None)
    serve = ("-m", "tarnfell.cli", "serve", "--data", str(tmp_path / "data"), "--bind", f"127.0.0.1:{port}")
    command = [sys.executable, "-m", "tarnfell.cli", "probe", "run", "--state", str(state)]
    with rig.far_end(tmp_path, far), rig.process(*serve):
        rig.await_port("127.0.0.1", port)
        probe = subprocess.Popen(command)
        try:
            rig.eventually(lambda: watches.counts(db, 1).answered > 0, "samples to come in")
            with writing(db):
                run = runs.add_run(db, runs.RunSpec(site_id=1, probe_id=1, far_end_id=1, codec="g711a", ptime_ms=20,
                                                    calls=100, seconds=2, dscp=46), "")  # fmt: skip
            rig.eventually(lambda: runs.run_by_id(db, run.id).state == "done", "the run to be done", within_s=90)
            over_us = time.time_ns() // 1000
            rig.eventually(lambda: (watches.counts(db, 1).last_us or 0) > over_us, "samples of after the run")
        finally:
            probe.terminate()
            probe.wait()
    sent, received = db.execute("SELECT sum(sent), sum(received) FROM direction").fetchone()
    assert sent == received == 100 * 2 * 100
    # The clerk may have packed what came first, on a slow machine all of it.
    while pack_next(db, LATER):
        pass
    beside = [value for cell in cells.cells_between(db, 1, 0, LATER) for value in unpacked(cell).beside.tolist()]
    assert set(beside) == {0, run.id}
    assert beside.count(run.id) >= 5
    assert watches.counts(db, 1).lost == 0
