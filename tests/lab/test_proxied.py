"""A server behind a proxy that speaks TLS, set as the guide for operations says, and a probe that comes through it."""

from __future__ import annotations

import os
import re
import shutil
import subprocess
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest

from tarnfell.store import probes as probe_store
from tarnfell.store import runs as run_store
from tarnfell.store.db import open_database, writing
from tests import rig
from tests.lab.conftest import CERTIFICATE, NEEDS_ROOT, Row, nginx, row_of
from tests.server.conftest import set_up

pytestmark = [pytest.mark.lab, NEEDS_ROOT, pytest.mark.skipif(not shutil.which("nginx"), reason="needs Debian's nginx")]

OPERATIONS = Path(__file__).parents[2] / "docs" / "operations.md"


@contextmanager
def documented_proxy(row: Row, folder: Path) -> Iterator[None]:
    """nginx in front of the server at the far host, set as the guide for operations says."""
    told = re.search(r"```nginx\n(.*?)```", OPERATIONS.read_text(encoding="utf-8"), re.DOTALL)
    assert told is not None
    server = re.sub(r"ssl_certificate(_key)? [^;]+;", rf"ssl_certificate\1 {CERTIFICATE};", told[1])
    server = server.replace("listen 443", f"listen {row.address['far']}:443")
    with nginx(row, "far", folder, server):
        row.await_port("far", 443)
        yield


def test_a_probe_enrols_and_delivers_through_the_proxy(tmp_path: Path) -> None:
    with row_of("site", "edge", "line", "far") as row, documented_proxy(row, tmp_path):
        far = row.address["far"]  # the certificate names it
        db = open_database(tmp_path / "data")
        with writing(db):
            _, code = set_up(db, far, rig.CONTROL_PORT, rig.KEY)
            wanted = run_store.RunSpec(
                site_id=1, probe_id=1, far_end_id=1, codec="g711a", ptime_ms=20, calls=20, seconds=5, dscp=46
            )
            run = run_store.add_run(db, wanted, "Requested by a test.")
        serve = (
            "serve",
            "--data",
            str(tmp_path / "data"),
            "--bind",
            "127.0.0.1:8080",
            "--public-address",
            f"https://{far}",
        )
        state = ("--state", str(tmp_path / "state"))
        here, trusting = row.inside("site"), {**os.environ, "SSL_CERT_FILE": str(CERTIFICATE)}
        enrol = [*here, sys.executable, "-m", "tarnfell.cli", "probe", "enrol", *state, "--server", f"https://{far}"]
        with (
            rig.far_end(tmp_path, far, prefix=row.inside("far")),
            rig.process("-m", "tarnfell.cli", *serve, prefix=row.inside("far")),
        ):
            row.await_port("far", 8080)
            row.await_port("far", rig.CONTROL_PORT)

            def enrolled(**options: object) -> subprocess.CompletedProcess[str]:
                return subprocess.run(
                    [*enrol, "--token", code],
                    capture_output=True,
                    text=True,
                    timeout=rig.HANGS_S,
                    check=False,
                    **options,
                )  # type: ignore[call-overload]

            stranger = enrolled()
            assert stranger.returncode != 0
            assert (
                f"The server at https://{far} cannot be reached: its certificate is not trusted here" in stranger.stderr
            )
            assert "SSL_CERT_FILE" in stranger.stderr
            done = enrolled(env=trusting)
            assert done.returncode == 0, done.stderr
            with rig.process("-m", "tarnfell.cli", "probe", "run", *state, prefix=here, env=trusting):
                rig.eventually(lambda: run_store.run_by_id(db, run.id).state in ("done", "failed"), "the run's end")
        ended = run_store.run_by_id(db, run.id)
        assert (ended.state, ended.failure) == ("done", None)
        assert db.execute("SELECT count(*) FROM direction").fetchone()[0] == 40
        assert probe_store.probe_by_id(db, 1).contact_address == row.address["site"]
