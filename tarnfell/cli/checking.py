"""Asking a network before loading it: the ladder of a check, and the path by itself."""

from __future__ import annotations

import argparse
import socket
import statistics
from collections.abc import Mapping
from dataclasses import asdict
from pathlib import Path
from typing import Any

from tarnfell.cli.common import DONE, FAILED, host_port, print_report
from tarnfell.core.check.judge import judge
from tarnfell.exchange.services import NotAList, read_services
from tarnfell.media.keys import read_key
from tarnfell.media.tracing.errors import CannotAsk
from tarnfell.media.tracing.tracer import path as trace
from tarnfell.probe.asking import ladder
from tarnfell.probe.asking.echo import echoes
from tarnfell.probe.surroundings import surroundings
from tarnfell.wire import WireError, dns, sip
from tarnfell.wire.kinds.check import CheckArguments, CheckResult, ServiceAsked
from tarnfell.wire.kinds.path import HopFacts
from tarnfell.wire.kinds.signalling import SipAccount

MARKS = {"passed": "passed  ", "failed": "FAILED  ", "unproven": "unproven"}


def check(options: argparse.Namespace) -> int:
    host, port = host_port(options.host)
    wanted = CheckArguments(
        far_host=host,
        far_port=port,
        far_key=read_key(options.key_file).decode() if options.key_file else "",
        media_port=options.media_port,
        gateway=options.gateway or "",
        edge=options.edge or "",
        outside=tuple(options.outside or ()),
        resolvers=tuple(options.resolver or ()),
        names=tuple(options.name or ()),
        services=services_of(Path(options.services)) if options.services else (),
        account=_account(options),
    )
    for name in wanted.names:
        try:
            dns.question(0, name)
        except WireError as error:
            raise ValueError(str(error)) from None
    try:
        result = ladder.check(wanted)
    except socket.gaierror:
        raise ValueError(f"The name {host} cannot be looked up. Check the spelling, or give the address.") from None
    judged = judge(result)
    print_report(options, {**asdict(judged), "calls": _sip_calls(result)}, _ladder_text)
    return FAILED if judged.causes or any(rung.state == "failed" for rung in judged.rungs) else DONE


def _account(options: argparse.Namespace) -> SipAccount | None:
    if not options.registrar:
        return None
    if not options.sip_user:
        raise ValueError("Say who registers there with --sip-user.")
    host, port = host_port(options.registrar, sip.TLS_PORT if options.sip_transport == "tls" else sip.PORT)
    password = ""
    if options.sip_password_file:
        try:
            password = Path(options.sip_password_file).read_text(encoding="utf-8").rstrip("\n")
        except (OSError, UnicodeDecodeError) as error:
            raise ValueError(f"{options.sip_password_file} cannot be read: {error}.") from None
    return SipAccount(host, options.sip_user, password, port, options.sip_transport, options.sip_domain or "")


def _sip_calls(result: CheckResult) -> list[dict[str, Any]]:
    if not result.signalling or not result.signalling.calls:
        return []
    from tarnfell.core.check.sip_calls import records_of  # numeric, which a check without calls need not wait for

    return [asdict(one) for one in records_of(result)]


def services_of(file: Path) -> tuple[ServiceAsked, ...]:
    """Raises ValueError with a sentence."""
    try:
        return read_services(file.read_text(encoding="utf-8"))
    except UnicodeDecodeError as error:
        raise ValueError(f"{file} is no text: {error}.") from None
    except NotAList as error:
        raise ValueError(f"{file}: {error}") from None


def _ladder_text(report: Mapping[str, Any]) -> str:
    lines = [f"{MARKS[rung['state']]}  {rung['title']}: {rung['says']}" for rung in report["rungs"]]
    for one in report["calls"]:
        mos = "no MOS" if one["mos"] is None else f"{one['mos']:.2f} MOS"
        jitter = "" if one["jitter_peak_ms"] is None else f", jitter at most {one['jitter_peak_ms']:.1f} ms"
        lines.append(
            f"          Call over {one['transport'].upper()}, {one['direction']}: {mos}, {one['arrived']} of "
            f"{one['sent']} packets{jitter}, SSRC {one['ssrc']:08x}"
        )
    for cause in report["causes"]:
        lines += ["", f"{cause['title']}. {cause['says']}", f"  What to do: {cause['remedy']} ({cause['who']})"]
    lines += [f"\nNo fault: {one['says']}" for one in report["not_faults"]]
    return "\n".join(lines)


def path(options: argparse.Namespace) -> int:
    if not 1 <= options.rounds <= 100:
        raise ValueError("Choose 1 to 100 packets to each hop.")
    if not 0 <= options.dscp <= 63:
        raise ValueError(f"DSCP {options.dscp} does not exist: choose 0 to 63.")
    if not 1 <= options.port <= 65535:
        raise ValueError(f"{options.port} is not a port: choose 1 to 65535.")
    try:
        address = str(socket.getaddrinfo(options.host, None)[0][4][0])
    except socket.gaierror:
        raise ValueError(f"The name {options.host} cannot be looked up. Check the spelling.") from None
    try:
        found = trace(address, options.port, options.rounds, options.dscp, method=options.method)
    except CannotAsk as error:
        raise ValueError(str(error)) from None
    gateway = surroundings().gateway
    report = {
        "method": found.method,
        "hops": [_hop(hop) for hop in found.hops],
        "reached": found.reached,
        "mtu": _mtu(address),
        "edge": ladder.edge_of(found, gateway),
    }
    print_report(options, report, _path_text)
    return DONE if found.reached else FAILED


def _hop(hop: HopFacts) -> dict[str, object]:
    rtt = sorted(hop.rtt_ms)
    return {
        "ttl": hop.ttl,
        "address": hop.address,
        "sent": hop.sent,
        "answered": len(rtt),
        "min_ms": rtt[0] if rtt else None,
        "p50_ms": statistics.median(rtt) if rtt else None,
        "max_ms": rtt[-1] if rtt else None,
        "dscp_seen": hop.dscp_seen,
    }


def _mtu(address: str) -> int | None:
    """The largest packet that comes through whole, or that a router says its link takes; None where nothing tells."""
    largest = surroundings().mtu or ladder.DEFAULT_MTU
    try:
        (found,) = echoes([("far-end", address)], 3, 0.1, largest)
    except CannotAsk:
        return None
    return largest if found.answered else found.next_mtu


def _path_text(report: Mapping[str, Any]) -> str:
    lines = []
    for hop in report["hops"]:
        took = "no answer" if hop["p50_ms"] is None else f"{hop['p50_ms']:.1f} ms"
        lines.append(f"{hop['ttl']:>3}  {hop['address'] or '–':<40} {hop['answered']} of {hop['sent']}  {took}")
    return "\n".join([*lines, "reached" if report["reached"] else "the address itself did not answer"])
