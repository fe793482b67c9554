"""A hundred real calls of five minutes: how soon after their end the result is on the screen, and where the time goes.

Probe, far end and server share this machine. Yardstick: compressing the bytes the record holds, once, with nothing
else to do.
"""

from __future__ import annotations

import subprocess
import tempfile
import time
import zlib
from pathlib import Path

from benchmarks.fleet import Person, ask
from tarnfell.core.codecs import find_codec
from tarnfell.probe.call import place_calls
from tarnfell.probe.works.calls import pack_run
from tarnfell.store import jobs, places, probes, runs, sites
from tarnfell.store.db import open_database, writing
from tarnfell.store.engagements import add_engagement
from tarnfell.store.members import adopt
from tarnfell.store.people import add_user
from tarnfell.wire.kinds.calls import LiveSecond
from tarnfell.wire.kinds.surroundings import Surroundings
from tarnfell.wire.record import Record, split_parts
from tarnfell.work.placing.call_plan import call_plan
from tests import rig
from tests.server.conftest import SITE

CALLS, SECONDS = 100, 300


def report(calls: int = CALLS, seconds: int = SECONDS) -> str:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        secret, run_id = _set_up(folder, calls, seconds)
        far, port = rig.own_address(), 18_000 + (hash(name) % 2000)
        serve = ("-m", "tarnfell.cli", "serve", "--data", name, "--bind", f"127.0.0.1:{port}")
        with rig.far_end(folder, far), rig.process(*serve, stdout=subprocess.DEVNULL):
            rig.await_port("127.0.0.1", port)
            person = Person(port)
            plan = call_plan(find_codec("g711a"), 20, calls, seconds, 46)
            marks = [("begun", time.monotonic())]
            sent_at: list[float] = []

            def watch(live: LiveSecond) -> bool:
                if not sent_at and all(d.sent == plan.packets for d in live.up + live.down):
                    sent_at.append(time.monotonic())
                return True

            result = place_calls(far, 0, rig.KEY.encode(), plan, watch)
            marks.append(("recorded at both ends and fetched", time.monotonic()))
            body = pack_run(result)
            marks.append(("packed", time.monotonic()))
            ask(port, "PUT", f"/api/probe/jobs/{run_id}/record", secret, body)
            marks.append(("uploaded and on the server's disk", time.monotonic()))
            while person.get(f"/api/runs/{run_id}")["state"] != "done":
                time.sleep(0.1)
            marks.append(("judged, written and shown", time.monotonic()))
            db = open_database(folder)
            kept = db.execute("SELECT sum(length(record)) FROM call").fetchone()[0]
            db.close()
    ended = min(sent_at[0], marks[0][1] + seconds + 0.5) if sent_at else marks[0][1] + seconds + 0.5
    raw = b"".join(c.planes() for part in split_parts(body)[1:3] for c in Record.parse(part).columns.values())
    begun = time.perf_counter()
    zlib.compress(raw, 6)
    yardstick = (time.perf_counter() - begun) * calls / 2
    total = marks[-1][1] - ended
    packets = sum(r.columns[f"{d}.sent_us"].count for r in result.calls for d in ("up", "down"))
    lines = [
        "## From the end of a run to its result",
        "",
        f"{calls} real calls of {seconds} s each way on loopback, {packets:,} packets. The two seconds in which late "
        "packets may still come are part of the first line. Yardstick: compressing the same columns once, at one "
        f"processor, {yardstick:.1f} s.",
        "",
        "| step | s after the last packet was sent |",
        "|---|---:|",
    ]
    lines += [f"| {what} | {at - ended:.1f} |" for what, at in marks[1:]]
    lines += ["", f"In all {total:.1f} s, {total / yardstick:.1f} × the yardstick. The records take "
              f"{kept / packets:.2f} bytes a packet in the database. The probe's verdict on itself: "
              f"{' '.join(result.self_check.reasons) or 'nothing disturbed it'}."]  # fmt: skip
    return "\n".join(lines)


def _set_up(folder: Path, calls: int, seconds: int) -> tuple[str, int]:
    db = open_database(folder)
    with writing(db):
        site = sites.add_site(db, add_engagement(db, "bench", "Bench"), **SITE)
        adopt(db, add_user(db, Person.EMAIL, "Bench", Person.PASSWORD).id)
        far = places.add_far_end(db, "far", "", "192.0.2.1", 4870, "a-key-that-nobody-uses")
        probe = probes.add_probe(db, site, places.add_test_point(db, site, "desk", "desk"), "probe")
        enrolled = probes.enrol(db, probes.invite(db, probe), Surroundings(system="here"))
        assert enrolled is not None
        run = runs.add_run(
            db,
            runs.RunSpec(
                site_id=site,
                probe_id=probe,
                far_end_id=far,
                codec="g711a",
                ptime_ms=20,
                calls=calls,
                seconds=seconds,
                dscp=46,
            ),
            "",
        )
        jobs.move(db, run.id, "taken", "")
    db.close()
    return enrolled[1], run.id
