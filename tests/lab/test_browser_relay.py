"""A real browser where UDP is blocked, and a real relay that takes TCP."""

from __future__ import annotations

import shutil
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest

from tarnfell.store import browsers as browser_store
from tarnfell.store import calls as call_store
from tarnfell.store import jobs as job_store
from tarnfell.store import relays as relay_store
from tarnfell.store import runs as run_store
from tarnfell.store.db import connect, writing
from tarnfell.store.relays import Relay
from tests import rig
from tests.lab.conftest import CERTIFICATE, NEEDS_ROOT, Row, row_of, running
from tests.lab.test_browser import LONG_S, PLANNED, desk

pytestmark = [
    pytest.mark.lab,
    NEEDS_ROOT,
    pytest.mark.skipif(not shutil.which("chromedriver"), reason="needs Debian's chromium and chromium-driver"),
    pytest.mark.skipif(not shutil.which("turnserver"), reason="needs Debian's coturn"),
]

SECRET = "north gate"
PORT, TLS_PORT = 3478, 5349
FILL_S = 5
NO_UDP = "table inet t {\n chain out {\n type filter hook output priority 0\n meta l4proto udp drop\n }\n}\n"
ONLY_TLS = (
    "table inet t {\n chain out {\n type filter hook output priority 0\n meta l4proto udp drop\n "
    f"tcp dport {PORT} drop\n }}\n}}\n"
)
RELAY, RELAYED = "192.0.2.2", "198.51.100.1"


@contextmanager
def relay(row: Row, folder: Path, tls: bool) -> Iterator[None]:
    """Without TLS where ``tls`` is not said."""
    shown = ("--tls-listening-port", str(TLS_PORT), "--cert", str(CERTIFICATE), "--pkey", str(CERTIFICATE))
    by_tls = shown if tls else ("--no-tls",)
    command = (
        "turnserver", "-n", "--no-cli", "--no-dtls", *by_tls, "--listening-ip", RELAY, "--relay-ip", RELAYED,
        "--listening-port", str(PORT), "--realm", "relay.example.net", "--use-auth-secret", "--static-auth-secret",
        SECRET, "--pidfile", str(folder / "turn.pid"), "--log-file", "stdout", "--userdb", str(folder / "turn.db"),
    )  # fmt: skip
    with running(row, "line", *command):
        row.await_port("line", PORT)
        yield


@pytest.mark.parametrize("tls", [False, True])
def test_where_udp_is_blocked_calls_go_through_the_relay_and_both_is_told(tls: bool, tmp_path: Path) -> None:
    with (
        row_of("site", "line", "far") as row,
        rig.far_end(tmp_path, row.address["far"], prefix=row.inside("far"), more=("--browser",)),
        relay(row, tmp_path, tls),
        desk(row, tmp_path, row.address["far"], fill_s=FILL_S if tls else 0.0) as at,
    ):
        row.await_port("far", rig.CONTROL_PORT)
        row.nft("site", ONLY_TLS if tls else NO_UDP)
        with connect(tmp_path / "data") as db, writing(db):
            engagement_id = db.execute("SELECT id FROM engagement").fetchone()[0]
            relay_store.keep_relay(db, engagement_id, Relay(RELAY, PORT, TLS_PORT, "", SECRET))
        at.open()
        at.page.press("Start the test")

        def runs() -> list[run_store.Run]:
            return [run_store.run_by_id(at.db, one) for one in browser_store.newest_runs(at.db, at.browser, 9)]

        rig.eventually(lambda: [run.state for run in runs()] in (["done", "failed"], ["failed"] * 2), "both", LONG_S)
        through, straight = runs()
        assert through.state == "done", through.failure
        at.page.see("through a relay", LONG_S)
        reach, _ = browser_store.reach_of(at.db, through.id)
        tried, _ = browser_store.reach_of(at.db, straight.id)
        received = {one.direction: one.figures.received for one in call_store.directions_of_run(at.db, through.id)}
        if tls:
            at.page.see("with a call to far, through a relay", LONG_S)
            at.page.see("MOS, idle and full", LONG_S)
        fills = job_store.newest_with(at.db, at.browser, "fill", 9)
        by = [browser_store.way_of(at.db, one.id) for one in fills]
    assert straight.failure_code == "no-media"
    assert [(one.by, one.took_ms is not None) for one in tried.relays] == [
        ("udp", False),
        ("tcp", not tls),
        ("tls", tls),
    ]
    assert tried.relays == reach.relays
    assert reach.page is not None
    assert (reach.page.own, reach.page.relay) == ("relay", "tls" if tls else "tcp")
    assert reach.far is not None
    assert reach.far.address == RELAYED
    # TCP brings everything, and beyond the relay nothing is in the way; what a machine that stands still brings after
    # the end is not waited for.
    assert set(received) == {"up", "down"}
    assert all(0.8 * PLANNED <= count <= PLANNED for count in received.values()), received
    assert [(one.state, way) for one, way in zip(fills, by, strict=True)] == ([("done", "relay")] if tls else [])
