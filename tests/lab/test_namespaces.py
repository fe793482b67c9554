"""Two hosts with their own stacks: a call across network namespaces against recorded truth and a real rate limit."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import time
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import pytest

from tarnfell.store import jobs as job_store
from tarnfell.store import probes
from tarnfell.store import runs as run_store
from tarnfell.store import sites as site_store
from tarnfell.store.db import open_database, writing
from tarnfell.work.evidence.evaluations import evaluate_now
from tests import rig
from tests.server.conftest import set_up

pytestmark = [
    pytest.mark.lab,
    pytest.mark.skipif(os.geteuid() != 0 or not shutil.which("ip"), reason="needs root and iproute2"),
]


def sh(command: str) -> str:
    return subprocess.run(command.split(), check=True, capture_output=True, text=True, timeout=rig.HANGS_S).stdout


@dataclass(frozen=True)
class Lab:
    """site ─ middle ─ service, each a namespace; 192.0.2.0/24 on the left, 198.51.100.0/24 on the right."""

    site: str
    middle: str
    service: str

    def inside(self, host: str) -> tuple[str, ...]:
        return ("ip", "netns", "exec", host)

    def await_control(self, host: str, address: str) -> None:
        deadline = time.monotonic() + 60
        while time.monotonic() < deadline:
            if f"{address}:{rig.CONTROL_PORT}" in sh(f"ip netns exec {host} ss -ltn"):
                return
            time.sleep(0.1)
        raise AssertionError(f"nothing listens at {address}")


@pytest.fixture
def lab() -> Iterator[Lab]:
    names = [f"tf{os.getpid() % 10000}{letter}" for letter in "smf"]
    site, middle, service = names
    try:
        for name in names:
            sh(f"ip netns add {name}")
            sh(f"ip -n {name} link set lo up")
        for left, right, net in ((site, middle, "192.0.2"), (middle, service, "198.51.100")):
            one, two = f"{left}r", f"{right}l"
            sh(f"ip link add {one} netns {left} type veth peer name {two} netns {right}")
            for name, link, host in ((left, one, 1), (right, two, 2)):
                sh(f"ip -n {name} addr add {net}.{host}/24 dev {link}")
                sh(f"ip -n {name} link set {link} up")
        sh(f"ip -n {site} route add default via 192.0.2.2")
        sh(f"ip -n {service} route add default via 198.51.100.1")
        yield Lab(site, middle, service)
    finally:
        for name in names:
            subprocess.run(["ip", "netns", "del", name], check=False, capture_output=True, timeout=rig.HANGS_S)


def call(lab: Lab, folder: Path, host: str, *more: str) -> subprocess.CompletedProcess[str]:
    return rig.cli("call", host, "--json", "--key-file", str(folder / "key"), *more, prefix=lab.inside(lab.site))


def test_call_across_hosts_agrees_with_recorded_truth(lab: Lab, tmp_path: Path) -> None:
    script = {
        "seed": 3,
        "up": {"delay_ms": 25, "spread_ms": 3, "burst_enter_pct": 1, "rate_kbps": 3000, "queue_ms": 100},
        "down": {"delay_ms": 35, "loss_pct": 2, "dscp": 8},
    }
    with rig.far_end(tmp_path, "198.51.100.2", prefix=lab.inside(lab.service)):
        lab.await_control(lab.service, "198.51.100.2")
        # The middle host stands in at 192.0.2.2 for the far end at 198.51.100.2.
        with rig.path(tmp_path, "192.0.2.2", "198.51.100.2", script, prefix=lab.inside(lab.middle)) as truth_file:
            lab.await_control(lab.middle, "192.0.2.2")
            done = call(lab, tmp_path, "192.0.2.2", "--calls", "4", "--seconds", "6", "--dscp", "46")
        truth = rig.read_truth(truth_file)
    assert done.returncode == 0, done.stderr
    for row in json.loads(done.stdout)["calls"]:
        assert row["rtt_ms"]["min"] >= 60
        for direction, mark in (("up", "46"), ("down", "8")):
            found, told = row[direction], truth[direction, row[direction]["ssrc"]]
            assert found["sent"] == 300
            assert found["lost"] == told.fates["lost"] + told.fates["queue"]
            assert set(found["dscp_received"]) == {mark}
            held = sorted(told.hold_us.values())
            assert found["delay_min_ms"] == pytest.approx(held[0] / 1000, abs=3)
            assert found["delay_p50_ms"] == pytest.approx(held[len(held) // 2] / 1000, abs=3)


def test_real_rate_limit_shows_as_queue_and_loss(lab: Lab, tmp_path: Path) -> None:
    """Ten calls of 80 kbit/s into 500 kbit/s with a queue of 200 ms, by the kernel's own shaper, up only."""
    forwards(lab)
    sh(f"tc -n {lab.site} qdisc add dev {lab.site}r root tbf rate 500kbit burst 3000 latency 200ms")
    with rig.far_end(tmp_path, "198.51.100.2", prefix=lab.inside(lab.service)):
        lab.await_control(lab.service, "198.51.100.2")
        done = call(lab, tmp_path, "198.51.100.2", "--calls", "10", "--seconds", "6")
    calls = json.loads(done.stdout)["calls"]
    up = [c["up"] for c in calls]
    sent, received = sum(r["sent"] for r in up), sum(r["received"] for r in up)
    # 214 bytes a packet on the veth; the queue may still hold 200 ms at the end.
    fits = 500_000 * 6 / 8 / 214
    assert received == pytest.approx(fits, rel=0.15)
    assert sent == 3000
    # The shaper's queue, full most of the time. A stall of this machine lifts the slowest packets above it, so the
    # middle ones are held to both sides and the slow ones to the lower one.
    assert 100 <= sorted(r["pdv_p50_ms"] for r in up)[5] <= 300
    assert sorted(r["pdv_p95_ms"] for r in up)[5] >= 140
    assert sum(c["down"]["lost"] for c in calls) == 0
    assert max(c["down"]["pdv_p50_ms"] for c in calls) < 20


def forwards(lab: Lab, rules: str = "") -> None:
    """Let the middle host route, under the given nftables rules."""
    sh(f"ip netns exec {lab.middle} sysctl -qw net.ipv4.ip_forward=1")
    if rules:
        if not shutil.which("nft"):
            pytest.skip("needs nftables")
        subprocess.run(
            [*lab.inside(lab.middle), "nft", "-f", "-"], input=rules, text=True, check=True, timeout=rig.HANGS_S
        )


def test_call_from_behind_address_translation(lab: Lab, tmp_path: Path) -> None:
    """The far end has no way back to 192.0.2.1; media binding finds the translated address."""
    forwards(
        lab,
        "table ip nat {\n chain out {\n type nat hook postrouting priority 100;\n"
        f" oifname {lab.middle}r masquerade\n }}\n}}\n",
    )
    sh(f"ip -n {lab.service} route del default")
    with rig.far_end(tmp_path, "198.51.100.2", prefix=lab.inside(lab.service)):
        lab.await_control(lab.service, "198.51.100.2")
        done = call(lab, tmp_path, "198.51.100.2", "--calls", "3", "--seconds", "2")
    assert done.returncode == 0, done.stderr
    for row in json.loads(done.stdout)["calls"]:
        assert row["up"]["lost"] == row["down"]["lost"] == 0


def test_marking_stripped_by_a_real_router_one_way(lab: Lab, tmp_path: Path) -> None:
    forwards(
        lab,
        "table ip mangle {\n chain strip {\n type filter hook forward priority -150;\n"
        f" iifname {lab.middle}l ip dscp set cs0\n }}\n}}\n",
    )
    with rig.far_end(tmp_path, "198.51.100.2", prefix=lab.inside(lab.service)):
        lab.await_control(lab.service, "198.51.100.2")
        done = call(lab, tmp_path, "198.51.100.2", "--seconds", "2", "--dscp", "46")
    (row,) = json.loads(done.stdout)["calls"]
    assert row["up"]["dscp_received"] == {"0": 100}
    assert row["down"]["dscp_received"] == {"46": 100}


def test_call_over_ipv6(lab: Lab, tmp_path: Path) -> None:
    for name, link, host in ((lab.site, f"{lab.site}r", 1), (lab.middle, f"{lab.middle}l", 2)):
        sh(f"ip -n {name} addr add 2001:db8::{host}/64 dev {link} nodad")
    with rig.far_end(tmp_path, "2001:db8::2", prefix=lab.inside(lab.middle)):
        lab.await_control(lab.middle, "[2001:db8::2]")
        done = call(lab, tmp_path, "[2001:db8::2]", "--calls", "2", "--seconds", "2")
    assert done.returncode == 0, done.stderr
    for row in json.loads(done.stdout)["calls"]:
        assert row["up"]["lost"] == row["down"]["lost"] == 0
        assert row["up"]["dscp_received"] == row["down"]["dscp_received"] == {"46": 100}


def test_media_blocked_by_a_real_firewall(lab: Lab, tmp_path: Path) -> None:
    forwards(
        lab,
        "table ip guard {\n chain pass {\n type filter hook forward priority 0;\n udp dport 22000-22127 drop\n }\n}\n",
    )
    with rig.far_end(tmp_path, "198.51.100.2", prefix=lab.inside(lab.service)):
        lab.await_control(lab.service, "198.51.100.2")
        done = call(lab, tmp_path, "198.51.100.2", "--seconds", "2")
    assert done.returncode == 1
    (row,) = json.loads(done.stdout)["calls"]
    assert row["up"]["reason"] == "Nothing arrived."
    assert row["clock"]["kind"] == "shared"
    assert row["rtt_ms"] is None


def test_a_probe_file_joins_from_its_own_host(lab: Lab, tmp_path: Path) -> None:
    """Fetched by the link from the site's own namespace, run with nothing but Python, it enrols and places calls."""
    forwards(lab)
    db = open_database(tmp_path / "data")
    with writing(db):
        _, code = set_up(db, "198.51.100.2", rig.CONTROL_PORT, rig.KEY)
        run = run_store.add_run(
            db,
            run_store.RunSpec(
                site_id=1, probe_id=1, far_end_id=1, codec="g711a", ptime_ms=20, calls=2, seconds=2, dscp=46
            ),
            "Requested by a test.",
        )
    serve = ("-m", "tarnfell.cli", "serve", "--data", str(tmp_path / "data"), "--bind", "198.51.100.2:8080")
    inside, file = lab.inside(lab.site), tmp_path / "tarnfell-probe.pyz"
    with (
        rig.far_end(tmp_path, "198.51.100.2", prefix=lab.inside(lab.service)),
        rig.process(*serve, prefix=lab.inside(lab.service)),
    ):
        lab.await_control(lab.service, "198.51.100.2")
        rig.eventually(
            lambda: "198.51.100.2:8080" in sh(f"ip netns exec {lab.service} ss -ltn"), "the server to listen"
        )
        rig.fetch(f"http://198.51.100.2:8080/api/join/{code}/{file.name}", file, prefix=inside)
        with rig.process("-I", "-S", str(file), "--state", str(tmp_path / "state"), prefix=inside, cwd="/"):
            rig.eventually(lambda: run_store.run_by_id(db, run.id).state == "done", "the run to be done")
    told = probes.probe_by_id(db, 1)
    assert (told.contact_address, told.around.gateway) == ("192.0.2.1", "192.0.2.2")
    assert any(line.endswith("192.0.2.1/24") for line in told.around.addresses)
    assert db.execute("SELECT count(*), min(mos) > 4 FROM direction").fetchone()[:] == (4, 1)


def test_a_line_that_goes_down_in_the_middle_of_calls_is_evidence(lab: Lab, tmp_path: Path) -> None:
    """Nothing passes for longer than the probe bears; the server lies behind the same line, so the line is to blame."""
    forwards(lab)
    db = open_database(tmp_path / "data")
    with writing(db):
        _, code = set_up(db, "198.51.100.2", rig.CONTROL_PORT, rig.KEY)
        db.execute("UPDATE site SET open_minute = 0, close_minute = 1440, open_days = '1234567'")
        run = run_store.add_run(
            db,
            run_store.RunSpec(
                site_id=1, probe_id=1, far_end_id=1, codec="g711a", ptime_ms=20, calls=2, seconds=120, dscp=46
            ),
            "Requested by a test.",
        )
    serve = ("-m", "tarnfell.cli", "serve", "--data", str(tmp_path / "data"), "--bind", "198.51.100.2:8080")
    state = ("--state", str(tmp_path / "state"))
    with (
        rig.far_end(tmp_path, "198.51.100.2", prefix=lab.inside(lab.service)),
        rig.process(*serve, prefix=lab.inside(lab.service)),
    ):
        lab.await_control(lab.service, "198.51.100.2")
        rig.eventually(lambda: "198.51.100.2:8080" in sh(f"ip netns exec {lab.service} ss -ltn"), "the server")
        at = ("--server", "http://198.51.100.2:8080", "--token", code)
        enrolled = rig.cli("probe", "enrol", *state, *at, prefix=lab.inside(lab.site))
        assert enrolled.returncode == 0, enrolled.stderr
        with rig.process("-m", "tarnfell.cli", "probe", "run", *state, prefix=lab.inside(lab.site)):
            rig.eventually(lambda: len(job_store.newest_seconds(db, run.id, 3)) == 3, "calls to flow")
            forwards(
                lab, "table ip down {\n chain every {\n type filter hook forward priority 0; policy drop;\n }\n}\n"
            )
            # The probe gives up after half a minute of silence and then looks whether the server answers.
            rig.eventually(lambda: list((tmp_path / "state").rglob("*.record")), "the probe's half on its disk", 90)
            sh(f"ip netns exec {lab.middle} nft delete table ip down")
            rig.eventually(lambda: run_store.run_by_id(db, run.id).state == "done", "the half to be delivered", 60)
    cut = run_store.run_by_id(db, run.id)
    assert cut.failure_code in ("silent", "gone")
    assert cut.server_reachable == 0
    rows = {row["direction"]: row for row in db.execute("SELECT * FROM direction WHERE call_id = 1")}
    assert rows["down"]["received"] > 0
    # Most of what was due down the line until the probe gave up never came.
    assert rows["down"]["loss_pct"] > 50
    # The far end kept its half: what came up the line until then is known packet by packet.
    assert 0 < rows["up"]["received"] < rows["up"]["sent"]
    assert rows["up"]["loss_pct"] > 50
    assert rows["up"]["pdv_p95_ms"] is not None
    evaluation = evaluate_now(db, site_store.site_by_id(db, 1))
    assert (evaluation.verdict.share.good, evaluation.verdict.share.calls) == (0, 2)
    assert [(c.key, c.leg) for c in evaluation.faults] == [("line-down", "inside or line")]
