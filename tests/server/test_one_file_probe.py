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
from tarnfell.server import probe_file
from tarnfell.store import commands, probes
from tarnfell.store import runs as run_store
from tarnfell.store.db import connect, open_database, writing
from tests import rig
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

    def ask(self, kind: commands.Kind, arguments: dict[str, object] | None = None) -> int:
        db = connect(self.folder)
        with writing(db):
            return commands.ask(db, 1, kind, None, arguments)

    def await_command(self, number: int) -> commands.Command:
        def found() -> commands.Command:
            return commands.command_by_id(connect(self.folder), number)

        rig.eventually(lambda: found().ended_us is not None, "the command to end")
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
        assert site.probe().environment["program"] == probe_file.program_digest()
        number = site.ask("end")
        assert child.wait(30) == 0
        said = child.stdout.read() if child.stdout else ""
    assert site.await_command(number).state == "done"
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
        other = subprocess.run(command, capture_output=True, text=True, timeout=30, check=False)
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
        rig.eventually(lambda: site.probe().environment.get("program") == "an older one", "the older probe")
        wanted = {"sha256": probe_file.program_sha256(), "program": probe_file.program_digest()}
        done = site.await_command(site.ask("update", wanted))
        assert (done.state, done.failure) == ("done", None)
        rig.eventually(lambda: site.probe().environment["program"] == wanted["program"], "the newer probe")
    with zipfile.ZipFile(site.file) as inside:
        assert json.loads(inside.read("enrolment.json"))["code"] == site.code
