"""The probe's one file as somebody at a site starts it, against the real server: joins, measures, updates, ends."""

from __future__ import annotations

import io
import json
import subprocess
import sys
import zipfile
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

import pytest

from tarnfell.probe.program import DIGEST
from tarnfell.server.place import probe_file
from tarnfell.store import jobs, probes, watches
from tarnfell.store import runs as run_store
from tarnfell.store.db import connect, open_database, writing
from tarnfell.store.runs import RunSpec
from tarnfell.wire.kinds import Name
from tests import rig
from tests.media.test_other_pythons import interpreter
from tests.server.conftest import set_up


@dataclass
class Site:
    folder: Path
    address: str
    code: str
    file: Path
    state: Path

    @contextmanager
    def started(self) -> Iterator[subprocess.Popen[str]]:
        """The file, isolated and without site packages, from a folder that is not ours."""
        command = [sys.executable, "-I", "-S", str(self.file), "--state", str(self.state)]
        with subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, cwd="/") as child:
            try:
                yield child
            finally:
                child.kill()

    def probe(self) -> probes.Probe:
        return probes.probe_by_id(connect(self.folder), 1)

    def ask(self, kind: Name, arguments: dict[str, object] | None = None) -> int:
        db = connect(self.folder)
        with writing(db):
            return jobs.ask(db, 1, 1, kind, None, arguments)

    def await_job(self, number: int) -> jobs.Job:
        def found() -> jobs.Job:
            return jobs.job_by_id(connect(self.folder), number)

        rig.eventually(lambda: found().ended_us is not None, "the job to end")
        return found()


@pytest.fixture
def site(tmp_path: Path) -> Iterator[Site]:
    port = rig.free_port()
    folder, far = tmp_path / "data", rig.own_address()
    db = open_database(folder)
    with writing(db):
        _, code = set_up(db, far, rig.CONTROL_PORT, rig.KEY)
    db.close()
    address = f"http://127.0.0.1:{port}"
    with (
        rig.far_end(tmp_path, far),
        rig.process("-m", "tarnfell.cli", "serve", "--data", str(folder), "--bind", f"127.0.0.1:{port}"),
    ):
        rig.await_port("127.0.0.1", port)
        file = tmp_path / "fetched" / "tarnfell-probe.pyz"
        file.parent.mkdir()
        rig.fetch(f"{address}/api/join/{code}/{file.name}", file)
        yield Site(folder, address, code, file, tmp_path / "state")


def test_from_the_link_to_a_run_and_the_end(site: Site) -> None:
    with site.started() as child:
        rig.eventually(lambda: site.probe().enrolled_us, "the probe to enrol")
        db = connect(site.folder)
        with writing(db):
            run = run_store.add_run(
                db,
                run_store.RunSpec(
                    site_id=1, probe_id=1, far_end_id=1, codec="g711a", ptime_ms=20, calls=3, seconds=2, dscp=46
                ),
                "Requested by a test.",
            )
        rig.eventually(lambda: run_store.run_by_id(connect(site.folder), run.id).state == "done", "the run to be done")
        assert connect(site.folder).execute("SELECT count(*) FROM call").fetchone()[0] == 3
        assert site.probe().around.program == probe_file.program_digest()
        number = site.ask("end")
        assert child.wait(rig.HANGS_S) == 0
        said = child.stdout.read() if child.stdout else ""
    assert site.await_job(number).state == "done"
    assert "This machine is the probe “pier-probe” at Pier office." in said
    assert "You can delete it." in said
    assert not site.state.exists()
    assert site.probe().retired_us is not None


def test_started_again_it_goes_on_and_does_not_enrol_again(site: Site) -> None:
    with site.started():
        rig.eventually(lambda: (site.state / "enrolment.json").exists(), "the probe to keep its enrolment")
    first = site.probe()
    with site.started():
        rig.eventually(lambda: site.probe().last_contact_us != first.last_contact_us, "the probe to be heard again")
    assert site.probe().enrolled_us == first.enrolled_us


def test_the_file_on_a_second_machine_is_turned_down(site: Site, tmp_path: Path) -> None:
    with site.started():
        rig.eventually(lambda: site.probe().enrolled_us, "the probe to enrol")
        command = [sys.executable, "-I", "-S", str(site.file), "--state", str(tmp_path / "other")]
        other = subprocess.run(command, capture_output=True, text=True, timeout=rig.HANGS_S, check=False)
    assert other.returncode == 1
    assert "Ask for a new link" in other.stderr


def test_it_updates_itself_when_told(site: Site) -> None:
    """An older program becomes the server's, goes on as the same probe, and says so."""
    with zipfile.ZipFile(site.file) as inside:
        entries = {name: inside.read(name) for name in inside.namelist()}
    older = io.BytesIO()
    with zipfile.ZipFile(older, "w") as packed:
        for name, text in {**entries, DIGEST: b"an older one"}.items():
            packed.writestr(name, text)
    site.file.write_bytes(older.getvalue())
    with site.started():
        rig.eventually(lambda: site.probe().around.program == "an older one", "the older probe")
        wanted = {"sha256": probe_file.program_sha256(), "program": probe_file.program_digest()}
        done = site.await_job(site.ask("update", wanted))
        assert (done.state, done.failure) == ("done", None)
        rig.eventually(lambda: site.probe().around.program == wanted["program"], "the newer probe")
    with zipfile.ZipFile(site.file) as inside:
        assert json.loads(inside.read("enrolment.json"))["code"] == site.code


OLDER = Path(__file__).parents[1] / "reference" / "probe-of-before.pyz"
"""As it was given out before probes did several things at once, and before jobs were of one table."""


def test_an_older_probe_goes_on_working_and_becomes_a_newer_one(site: Site) -> None:
    """It does one thing at a time, as it always did, and is told nothing that it would not understand."""
    with zipfile.ZipFile(site.file) as inside:
        enrolment = inside.read("enrolment.json")
    site.file.write_bytes(OLDER.read_bytes())
    with zipfile.ZipFile(site.file, "a") as inside:
        inside.writestr("enrolment.json", enrolment)
    db = connect(site.folder)
    with site.started():
        rig.eventually(lambda: site.probe().enrolled_us, "the older probe to enrol")
        assert site.probe().around.program != probe_file.program_digest()
        with writing(db):
            watches.want(db, 1, 1, 1000, 46, None)
            spec = RunSpec(site_id=1, probe_id=1, far_end_id=1, codec="g711a", ptime_ms=20, calls=2, seconds=1, dscp=46)
            run = run_store.add_run(db, spec, "Requested by a test.")
        reach = site.ask("distances", {"far_ends": [{"id": 1, "host": "192.0.2.1", "port": 1}]})
        rig.eventually(lambda: run_store.run_by_id(db, run.id).state == "done", "the run to be done")
        assert db.execute("SELECT count(*) FROM call").fetchone()[0] == 2
        told = site.await_job(reach)
        assert (told.state, told.result["distances"][0]["id"]) == ("done", 1)  # type: ignore[index]
        wanted = {"sha256": probe_file.program_sha256(), "program": probe_file.program_digest()}
        updated = site.await_job(site.ask("update", wanted))
        assert (updated.state, updated.failure) == ("done", None)
        rig.eventually(lambda: site.probe().around.program == wanted["program"], "the newer probe")
        rig.eventually(lambda: watches.counts(db, 1).answered > 0, "the newer one to take samples")


def test_everything_it_does_on_the_oldest_python(site: Site, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(sys, "executable", interpreter("3.9"))
    db = connect(site.folder)
    with site.started() as child:
        rig.eventually(lambda: site.probe().enrolled_us, "the probe to enrol")
        assert str(site.probe().around.python).startswith("3.9")
        with writing(db):
            watches.want(db, 1, 1, 1000, 46, None)
            spec = RunSpec(site_id=1, probe_id=1, far_end_id=1, codec="g711a", ptime_ms=20, calls=2, seconds=1, dscp=46)
            run = run_store.add_run(db, spec, "Requested by a test.")
        reach = site.ask("distances", {"far_ends": [{"id": 1, "host": "192.0.2.1", "port": 1}]})
        rig.eventually(lambda: run_store.run_by_id(db, run.id).state == "done", "the run to be done")
        assert site.await_job(reach).state == "done"
        rig.eventually(lambda: watches.counts(db, 1).answered > 0, "samples to come in")
        ended = site.ask("end")
        assert child.wait(rig.HANGS_S) == 0
    assert site.await_job(ended).state == "done"
    assert not site.state.exists()
