"""A check against servers as Debian ships them: names, web, STUN with two addresses, SIP."""

from __future__ import annotations

import json
import shutil
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import ExitStack, contextmanager
from pathlib import Path
from typing import Any

import pytest

from tests import rig
from tests.lab.conftest import CERTIFICATE, NEEDS_ROOT, Row, far_end_in, nginx, row_of, running
from tests.lab.test_check import NAME, PARTS, SERVICE, by_destination, chain, translation
from tests.lab.test_check import _digest as digest

SERVERS = ("kamailio", "turnserver", "unbound", "nginx")
pytestmark = [
    pytest.mark.lab,
    NEEDS_ROOT,
    pytest.mark.skipif(not all(map(shutil.which, SERVERS)), reason="needs kamailio, coturn, unbound and nginx"),
]
SECOND = "203.0.113.3"

UNBOUND = f"""
server:
  interface: {SERVICE}
  access-control: 0.0.0.0/0 allow
  do-daemonize: no
  username: ""
  chroot: ""
  pidfile: ""
  use-syslog: no
  local-zone: "customer.example." static
  local-data: "{NAME}. A {SERVICE}"
remote-control:
  control-enable: no
"""
NGINX = """
  server {{
    listen {address}:80; listen {address}:443 ssl;
    ssl_certificate {certificate}; ssl_certificate_key {certificate};
    location /health {{ return 200 "well\\n"; }}
    location /broken {{ return 503; }}
  }}
"""
KAMAILIO = f"""
#!KAMAILIO
children=1
log_stderror=yes
tcp_children=1
listen=udp:{SECOND}:5060
listen=tcp:{SECOND}:5060
mpath="/usr/lib/x86_64-linux-gnu/kamailio/modules/:/usr/lib/aarch64-linux-gnu/kamailio/modules/"
loadmodule "sl.so"
loadmodule "pv.so"
loadmodule "tm.so"
loadmodule "rr.so"
loadmodule "siputils.so"
loadmodule "usrloc.so"
loadmodule "registrar.so"
loadmodule "auth.so"
loadmodule "nathelper.so"
modparam("nathelper", "received_avp", "$avp(received)")
modparam("registrar", "received_avp", "$avp(received)")
request_route {{
  if (method == "OPTIONS" && uri == myself && $rU == $null) {{ sl_send_reply("200", "Alive"); exit; }}
  force_rport();
  if (has_totag()) {{
    if (method == "ACK" && !loose_route()) {{ t_relay(); exit; }}
    loose_route();
    t_relay();
    exit;
  }}
  if (method == "REGISTER" || method == "INVITE") {{
    if (!pv_auth_check("customer.example", "s3cret", "0", "0")) {{
      if (method == "INVITE") {{ proxy_challenge("customer.example", "1"); }}
      else {{ www_challenge("customer.example", "1"); }}
      exit;
    }}
  }}
  if (method == "REGISTER") {{ fix_nated_register(); save("location"); exit; }}
  if (method == "INVITE") {{
    record_route();
    if (!lookup("location")) {{ sl_send_reply("404", "Not Found"); exit; }}
    t_relay();
    exit;
  }}
  sl_send_reply("403", "Not here");
}}
"""


@contextmanager
def servers(row: Row, folder: Path) -> Iterator[None]:
    row.run("service", f"ip addr add {SECOND}/24 dev l")
    (folder / "unbound.conf").write_text(UNBOUND)
    (folder / "kamailio.cfg").write_text(KAMAILIO)
    stun = (
        "turnserver", "-n", "--stun-only", "-L", SERVICE, "-L", SECOND, "--no-cli", "--no-tls", "--no-dtls",
        "--pidfile", str(folder / "turn.pid"), "--log-file", "stdout", "--userdb", str(folder / "turn.db"),
    )  # fmt: skip
    with ExitStack() as stack:
        stack.enter_context(running(row, "service", "unbound", "-c", str(folder / "unbound.conf")))
        stack.enter_context(nginx(row, "service", folder, NGINX.format(address=SERVICE, certificate=CERTIFICATE)))
        stack.enter_context(running(row, "service", "kamailio", "-DD", "-E", "-f", str(folder / "kamailio.cfg")))
        stack.enter_context(running(row, "service", *stun))
        for port in (53, 80, 443, 3478, 5060):
            row.await_port("service", port)
        yield


def checked(row: Row, folder: Path, services: str, *options: str) -> dict[str, Any]:
    (folder / "services.csv").write_text(services)
    (folder / "key").write_text(rig.KEY)
    done = rig.cli(
        "check", SERVICE, "--json", "--key-file", str(folder / "key"), "--services", str(folder / "services.csv"),
        "--resolver", SERVICE, "--name", NAME, "--media-port", rig.MEDIA_PORTS.split("-")[0],
        *options, prefix=row.inside("site"), timeout=rig.HANGS_S,
    )  # fmt: skip
    assert done.returncode in (0, 1), done.stderr
    return dict(json.loads(done.stdout))


def services(**changes: str) -> str:
    rows = {
        "web": f"Meetings,{SERVICE},443,https,{digest()},/health",
        "plain": f"Lists,{SERVICE},80,http,,/health",
        "names": f"Names,{SERVICE},53,dns,,/",
        "stun": f"STUN,{SERVICE},3478,stun,,/",
        "sip": f"Calls,{SECOND},5060,sip,,/",
        **changes,
    }
    return "\n".join(["name,host,port,protocol,sha256,path", *rows.values()])


def rung(report: dict[str, Any], key: str) -> dict[str, Any]:
    return next(one for one in report["rungs"] if one["key"] == key)


def test_servers_as_they_are_shipped_are_found_well(tmp_path: Path) -> None:
    with row_of(*PARTS) as row, servers(row, tmp_path), far_end_in(row, "service", tmp_path):
        translation(row)
        report = checked(row, tmp_path, services())
    told = json.dumps(report, indent=1)
    assert report["causes"] == [], told
    assert rung(report, "names")["state"] == "passed", told
    found = rung(report, "services")
    assert (found["state"], found["figures"]) == ("passed", {"asked": 5, "open": 5}), told
    # The kernel keeps a mapping for every destination alike where the port is free, and lets in who was sent to.
    assert "By STUN, only addresses and ports that were sent to are let in." in rung(report, "translation")["says"]


def test_a_broken_page_another_certificate_and_a_mapping_for_each_address_are_named(tmp_path: Path) -> None:
    broken = {"plain": f"Lists,{SERVICE},80,http,,/broken", "web": f"Meetings,{SERVICE},443,https,{'0' * 64},/health"}
    with row_of(*PARTS) as row, servers(row, tmp_path):
        by_destination(row)
        report = checked(row, tmp_path, services(**broken))
    told = {
        key: [c["says"] for c in report["causes"] if c["key"] == key] for key in (c["key"] for c in report["causes"])
    }
    assert set(told) == {"service-silent", "service-tampered", "translation-per-destination"}, told
    assert any("503 Service Temporarily Unavailable" in one for one in told["service-silent"])
    assert any("control port" in one for one in told["service-silent"])  # nor is there a far end
    assert "another certificate" in told["service-tampered"][0]
    (mapping,) = told["translation-per-destination"]
    assert "STUN at 203.0.113.2 sees another mapping of the same socket at its second address" in mapping


def at_registrar(row: Row, folder: Path, transport: str, password: str, user: str = "200") -> dict[str, Any]:
    folder.mkdir(exist_ok=True)
    (folder / "password").write_text(password + "\n")
    (folder / "key").write_text(rig.KEY)
    account = ("--registrar", SECOND, "--sip-user", user, "--sip-password-file", str(folder / "password"))
    return checked(
        row, folder, services(), *account, "--sip-domain", "customer.example", "--sip-transport", transport
    )  # fmt: skip


def test_registering_at_a_real_registrar_and_calling_oneself_through_it(tmp_path: Path) -> None:
    with row_of(*PARTS) as row, servers(row, tmp_path), far_end_in(row, "service", tmp_path):
        translation(row)
        with ThreadPoolExecutor() as pool:
            # Beside the one that registers by UDP: it never does, so that a call to itself rings at no other.
            wrong = pool.submit(at_registrar, row, tmp_path / "wrong", "udp", "wrong")
            by_udp = at_registrar(row, tmp_path / "udp", "udp", "s3cret")
            refused = wrong.result()
        for transport, report in (("udp", by_udp), ("tcp", at_registrar(row, tmp_path / "tcp", "tcp", "s3cret"))):
            found = rung(report, "signalling")
            assert (report["causes"], found["state"]) == ([], "passed"), json.dumps(report, indent=1)
            assert f"Registering 200 at {SECOND}, {transport.upper()} port 5060 goes through" in found["says"]
            assert "A call to itself through it is set up in" in found["says"]
            assert 0 < found["figures"]["registrar_ms"] < 10_000
            assert 0 < found["figures"]["registrar_call_ms"] < 10_000
            assert "s3cret" not in json.dumps(report)
        assert refused["causes"] == []
        assert (
            "does not register 200 (401 Unauthorized). Check user and password." in rung(refused, "signalling")["says"]
        )
        row.nft(
            "gateway",
            chain("filter hook forward priority 0", f"ip daddr {SECOND} tcp dport 5060 drop").replace("lab", "closed"),
        )
        report = at_registrar(row, tmp_path, "tcp", "s3cret")
        assert [(c["key"], c["rungs"]) for c in report["causes"]] == [("port-blocked", ["signalling"])]
