"""The ladder of a check in networks of four hosts, each with one thing wrong: that is named, and nothing else.

site ─ gateway ─ edge ─ service. All networks are there at once, because asking is mostly waiting.
"""

from __future__ import annotations

import json
import os
import shutil
import ssl
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import ExitStack
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import pytest

from tests import rig
from tests.lab.conftest import CERTIFICATE, NEEDS_ROOT, Row, far_end_in, row_of

pytestmark = [
    pytest.mark.lab,
    NEEDS_ROOT,
    pytest.mark.skipif(not shutil.which("nft"), reason="needs nftables"),
]

PARTS = ("site", "gateway", "edge", "service")
SERVICE = "203.0.113.2"
NAME = "farend.customer.example"


def chain(head: str, rule: str) -> str:
    return f"table ip lab {{\nchain c {{\ntype {head};\n{rule}\n}}\n}}\n"


def forward(rule: str) -> str:
    return chain("filter hook forward priority 0", rule)


def unmarking(towards: str) -> str:
    return chain("filter hook postrouting priority -150", f"oif {towards} ip dscp set cs0")


def mute_gateway(row: Row) -> None:
    row.nft("gateway", chain("filter hook input priority 0", "icmp type echo-request drop"))


def limited_edge(row: Row) -> None:
    rule = "icmp type time-exceeded limit rate over 1/minute burst 2 packets drop"
    row.nft("edge", chain("filter hook output priority 0", rule))


def translation(row: Row) -> None:
    row.nft("gateway", chain("nat hook postrouting priority 100", "oif r masquerade"))


def forgetful(row: Row) -> None:
    translation(row)
    for kind in ("udp_timeout", "udp_timeout_stream"):
        row.run("gateway", f"sysctl -qw net.netfilter.nf_conntrack_{kind}=12")


def by_destination(row: Row) -> None:
    row.nft("gateway", chain("nat hook postrouting priority 100", "oif r masquerade random,fully-random"))


def sip_rewritten(row: Row) -> None:
    translation(row)
    rule = "iif l udp dport 5060 redirect"
    row.nft("gateway", chain("nat hook prerouting priority -100", rule).replace("ip lab", "ip helper"))


def sip_tls_intercepted(row: Row) -> None:
    translation(row)
    rule = "iif l tcp dport 5061 redirect"
    row.nft("gateway", chain("nat hook prerouting priority -100", rule).replace("ip lab", "ip opener"))


def sip_blocked(row: Row) -> None:
    row.nft("gateway", forward("udp dport 5060 drop"))


def media_blocked(row: Row) -> None:
    row.nft("gateway", forward(f"udp dport {rig.MEDIA_PORTS} drop"))


def udp_blocked(row: Row) -> None:
    row.nft("gateway", forward("ip protocol udp drop"))


def unmarked_up_at_the_edge(row: Row) -> None:
    row.nft("edge", unmarking("r"))


def unmarked_down_at_the_gateway(row: Row) -> None:
    row.nft("gateway", unmarking("l"))


def hole(row: Row) -> None:
    """A link that takes 1 400 bytes, behind a router that says nothing of it."""
    row.run("gateway", "ip link set dev r mtu 1400")
    row.nft("gateway", chain("filter hook output priority 0", "icmp type destination-unreachable drop"))


def told_limit(row: Row) -> None:
    row.run("gateway", "ip link set dev r mtu 1400")


def one_way_down(row: Row) -> None:
    """Media comes back only as long as its port is being bound: two packets of each, and no more."""
    row.nft("edge", forward(f"iif r udp sport {rig.MEDIA_PORTS} ip length 172-220 drop"))


def nothing(_row: Row) -> None:
    pass


def part_of_the_ports_blocked(row: Row) -> None:
    row.nft("gateway", forward("udp dport 22064-22127 drop"))


def slow_to_answer(row: Row) -> None:
    row.nft("edge", chain("filter hook output priority 0", "meta mark != 7 icmp type time-exceeded drop"))


def line_cut(row: Row) -> None:
    row.run("edge", "ip link set dev l down")


@dataclass(frozen=True)
class Trouble:
    brings: Callable[[Row], None] = nothing
    causes: list[tuple[str, str, str]] = field(default_factory=list)
    """Key, leg, direction."""
    not_faults: set[str] = field(default_factory=set)
    options: tuple[str, ...] = ()
    far_end: bool = True
    beside: tuple[str, ...] = ()
    """What runs on the gateway."""
    beside_port: int = 5060
    beside_edge: tuple[str, ...] = ()
    digest: str = ""
    """That the service's certificate is expected to have; empty: the one it has."""


TROUBLES = {
    "healthy": Trouble(),
    "gateway mute": Trouble(mute_gateway, not_faults={"echo-muted"}),
    "errors limited at the edge": Trouble(limited_edge, not_faults={"hop-slow"}),
    "translation": Trouble(translation),
    "translation that forgets": Trouble(forgetful, [("translation-forgets", "unknown", "both")]),
    "translation by destination": Trouble(by_destination, [("translation-per-destination", "unknown", "both")]),
    "signalling rewritten": Trouble(
        sip_rewritten,
        [("signalling-rewritten", "unknown", "both")],
        beside=("-m", "tarnfell.standin.sip_helper", "--listen", "192.0.2.2", "--far", SERVICE),
    ),
    "SIP over TLS intercepted": Trouble(
        sip_tls_intercepted,
        [("service-tampered", "unknown", "both")],
        beside=(str(Path(__file__).parent / "tls_relay.py"), "192.0.2.2", "5061", SERVICE, str(CERTIFICATE)),
        beside_port=5061,
    ),
    "signalling blocked": Trouble(sip_blocked, [("port-blocked", "unknown", "both")]),
    "media ports blocked": Trouble(media_blocked, [("port-blocked", "inside or line", "both")]),
    "part of the media ports blocked": Trouble(part_of_the_ports_blocked, [("port-blocked", "unknown", "up")]),
    "all UDP blocked": Trouble(udp_blocked, [("udp-blocked", "inside or line", "both")]),
    "slow to answer for itself": Trouble(
        slow_to_answer, not_faults={"hop-slow"}, beside_edge=(str(Path(__file__).parent / "slow_router.py"), "l", "80")
    ),
    "marking removed up at the edge": Trouble(unmarked_up_at_the_edge, [("marking-changed", "beyond", "up")]),
    "marking removed down at the gateway": Trouble(
        unmarked_down_at_the_gateway, [("marking-changed", "inside", "down")]
    ),
    "a hole for large packets": Trouble(hole, [("mtu-hole", "line", "both")]),
    "a limit that is told": Trouble(told_limit),
    "a dead resolver": Trouble(
        causes=[("resolver-dead", "unknown", "both")], options=("--resolver", SERVICE, "--resolver", "198.51.100.2")
    ),
    "TLS intercepted": Trouble(causes=[("service-tampered", "unknown", "both")], digest="0" * 64),
    "nobody listens": Trouble(causes=[("service-silent", "beyond", "both")], far_end=False),
    "media one way": Trouble(one_way_down, [("one-way", "unknown", "down")]),
    "the line is down": Trouble(line_cut, [("line-down", "line", "both")]),
}


def _tls_server() -> str:
    """In a namespace: hands its certificate to whoever shakes hands."""
    return (
        "import socket, ssl, sys\n"
        "context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER); context.load_cert_chain(sys.argv[1])\n"
        "listener = socket.create_server((sys.argv[2], 443))\n"
        "while True:\n"
        "    connection, _ = listener.accept(); connection.settimeout(5)\n"
        "    try: context.wrap_socket(connection, server_side=True).close()\n"
        "    except OSError: pass\n"
    )


def _digest() -> str:
    import hashlib

    text = CERTIFICATE.read_text()
    return hashlib.sha256(ssl.PEM_cert_to_DER_cert(text[text.index("-----BEGIN CERTIFICATE") :])).hexdigest()


def looked_at(name: str, folder: Path) -> dict[str, Any]:
    trouble = TROUBLES[name]
    folder.mkdir()
    (folder / "key").write_text(rig.KEY)
    (folder / "services.toml").write_text(
        f'[[service]]\nname = "Meetings"\nhost = "{SERVICE}"\nport = 443\nprotocol = "tls"\n'
        f'sha256 = "{trouble.digest or _digest()}"\n'
        f'[[service]]\nname = "Names"\nhost = "{SERVICE}"\nport = 53\nprotocol = "tcp"\n'
    )
    with ExitStack() as stack:
        row = stack.enter_context(row_of(*PARTS))
        here = row.inside("service")
        names = ("-m", "tarnfell.standin.names", "--listen", SERVICE, "--name", f"{NAME}={SERVICE}")
        stack.enter_context(rig.process(*names, prefix=here))
        stack.enter_context(rig.process("-c", _tls_server(), str(CERTIFICATE), SERVICE, prefix=here))
        if trouble.far_end:
            stack.enter_context(far_end_in(row, "service", folder))
        for port in (53, 443):
            row.await_port("service", port)
        if trouble.beside:
            stack.enter_context(rig.process(*trouble.beside, prefix=row.inside("gateway")))
            row.await_port("gateway", trouble.beside_port)
        if trouble.beside_edge:
            stack.enter_context(rig.process(*trouble.beside_edge, prefix=row.inside("edge")))
        trouble.brings(row)
        options = trouble.options or ("--resolver", SERVICE)
        done = rig.cli(
            "check", SERVICE, "--json", "--key-file", str(folder / "key"), "--services", str(folder / "services.toml"),
            "--name", NAME, "--media-port", rig.MEDIA_PORTS.split("-")[0], *options,
            prefix=row.inside("site"), timeout=rig.HANGS_S,
        )  # fmt: skip
        assert done.returncode in (0, 1), done.stderr
        report: dict[str, Any] = json.loads(done.stdout)
        return {**report, "status": done.returncode}


@pytest.fixture(scope="module")
def reports(tmp_path_factory: pytest.TempPathFactory) -> Iterator[dict[str, Any]]:
    folder = tmp_path_factory.mktemp("check")
    with ThreadPoolExecutor(max_workers=9) as pool:
        found = {name: pool.submit(looked_at, name, folder / f"n{n}") for n, name in enumerate(TROUBLES)}
        yield found


@pytest.mark.parametrize("name", TROUBLES)
def test_the_trouble_is_named_and_nothing_else(name: str, reports: dict[str, Any]) -> None:
    report, trouble = reports[name].result(), TROUBLES[name]
    told = json.dumps(report, indent=1)
    assert [(c["key"], c["leg"], c["direction"]) for c in report["causes"]] == trouble.causes, told
    assert {one["key"] for one in report["not_faults"]} == trouble.not_faults, told
    assert report["status"] == (1 if trouble.causes else 0)
    failed = {rung["key"] for rung in report["rungs"] if rung["state"] == "failed"}
    assert bool(failed) == bool(trouble.causes), told
    for cause in report["causes"]:
        assert set(cause["rungs"]) <= failed
        assert cause["remedy"]
        assert cause["who"]


def test_a_healthy_network_raises_no_alarm_however_often(tmp_path: Path) -> None:
    """``HEALTHY=50`` for the long way round; the fixture's own is the short one."""
    runs = int(os.environ.get("HEALTHY", "1"))
    with ThreadPoolExecutor(max_workers=6) as pool:
        for report in pool.map(lambda n: looked_at("healthy", tmp_path / f"n{n}"), range(1, runs)):
            assert (report["causes"], report["not_faults"], report["status"]) == ([], [], 0), json.dumps(report)


def test_a_healthy_network_answers_every_question(reports: dict[str, Any]) -> None:
    report = reports["healthy"].result()
    states = {rung["key"]: rung["state"] for rung in report["rungs"]}
    assert {key for key, state in states.items() if state == "passed"} == {
        "own-stack", "gateway", "edge", "names", "services", "translation", "signalling", "path", "packet-size",
        "far-end", "marking",
    }, json.dumps(report, indent=1)  # fmt: skip
    assert states["outside"] == "unproven"
    figures = {rung["key"]: rung["figures"] for rung in report["rungs"]}
    assert figures["path"]["hops"] == 3
    assert figures["own-stack"]["gateway"] == "192.0.2.2"
    assert all(rung["took_ms"] > 0 for rung in report["rungs"] if rung["key"] != "own-stack")
    assert [rung["key"] for rung in report["rungs"]][:4] == ["own-stack", "gateway", "edge", "outside"]


def test_where_a_marking_was_changed_is_told_by_the_routers(reports: dict[str, Any]) -> None:
    (cause,) = reports["marking removed up at the edge"].result()["causes"]
    assert "198.51.100.2 still received it as sent; 203.0.113.2, hop 3, did not." in cause["says"]
    assert "46 to 0, 34 to 0, 24 to 0" in cause["says"]
