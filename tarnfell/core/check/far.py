"""The far end: its control port, media both ways, and the marking that media arrives with."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from tarnfell.core.causes import DIRECTIONS, FAR_END, FIREWALL, NETWORK, PROVIDER, Direction, LegName, Way
from tarnfell.core.check.asked import UDP
from tarnfell.core.check.case import Case, private
from tarnfell.core.check.values import Figure, Rung
from tarnfell.wire.kinds.check import MarkCount, MediaFacts, PortsFacts
from tarnfell.wire.kinds.path import HopFacts


def far_end(case: Case) -> Rung:
    title, reach = "Far end", case.result.reach
    if reach is None:
        return Rung("far-end", title, "unproven", "It was not asked.")
    if reach.took_ms is None:
        return _unreached(case, title, reach.failure or "no answer")
    figures: dict[str, Figure] = {"connect_ms": reach.took_ms}
    if reach.key_fits is False:
        words = "It answers, but holds another key: no call can be placed with it."
        return Rung("far-end", title, "failed", words, figures)
    call = next(iter(case.result.media), None)
    if call is None:
        words = f"It answers in {reach.took_ms:.0f} ms. No call was placed: it was not shown to hold the key."
        return Rung("far-end", title, "unproven", words, figures)
    if call.failure:
        return Rung("far-end", title, "failed", call.failure, figures)
    return _called(case, title, call, {**figures, "rtt_ms": call.rtt_ms})


def _unreached(case: Case, title: str, why: str) -> Rung:
    words = f"Its control port does not answer ({why})."
    if case.answers("far-end") or (case.result.path and case.result.path.reached):
        if "refused" in why.lower():
            remedy = "Start the far end, or check its port."
            case.cause("service-silent", "beyond", "No far end listens", words, remedy, FAR_END, "far-end")
        else:
            remedy = "Let TCP to the far end’s control port out."
            case.cause("port-blocked", "unknown", "A port is closed", words, remedy, FIREWALL, "far-end")
    elif case.answers("outside") or (case.answers("edge") and "refused" not in why.lower()):
        remedy = "Check the far end’s address, and that it is up; then ask the provider about the way to it."
        case.cause("beyond-down", "beyond", "The far end cannot be reached", words, remedy, FAR_END, "far-end")
    return Rung("far-end", title, "failed", words)


def _called(case: Case, title: str, call: MediaFacts, figures: dict[str, Figure]) -> Rung:
    if not call.bound:
        return _no_media(case, title, figures)
    ways: tuple[tuple[int, int, Direction, str], ...] = (
        (call.sent_up, call.received_up, "up", "Nothing of what the probe sent arrived at the far end."),
        (call.sent_down, call.received_down, "down", "Nothing of what the far end sent arrived here."),
    )
    for sent, received, way, words in ways:
        if sent and not received:
            remedy = "Let UDP of the far end’s media ports through in that direction."
            case.cause("one-way", "unknown", "Media flows one way only", words, remedy, FIREWALL, "far-end", way=way)
            return Rung("far-end", title, "failed", words, figures)
    rtt = f", {call.rtt_ms:.1f} ms away" if call.rtt_ms is not None else ""
    words = f"A call of a second came through both ways{rtt}."
    ports = case.result.ports
    if ports is None or not ports.asked:
        return Rung("far-end", title, "passed", words, figures)
    figures = {**figures, "ports_asked": len(ports.asked), "ports_answered": len(ports.answered)}
    closed = [port for port in ports.asked if port not in ports.answered]
    if not closed:
        words += f" {len(ports.asked)} ports from {ports.asked[0]} to {ports.asked[-1]} answer."
        return Rung("far-end", title, "passed", words, figures)
    return Rung("far-end", title, "failed", f"{words} {_closed_ports(case, ports, closed)}", figures)


def _closed_ports(case: Case, ports: PortsFacts, closed: list[int]) -> str:
    """Up or down by what the far end heard of them."""
    up = [port for port in closed if port not in ports.heard]
    way: Way = "up" if len(up) == len(closed) else "down" if not up else "both"
    words = (
        f"Of its media ports {_ranges(closed, ports.asked)} do not answer; {_ranges(ports.answered, ports.asked)} do "
        f"({len(ports.asked)} of the range were asked)."
    )
    words += {
        "up": " The far end received nothing on them.",
        "down": " The far end received what was sent to them; its answers did not come back.",
        "both": f" The far end received nothing on {len(up)} of them.",
    }[way]
    remedy = (
        "Let UDP to the whole range of the far end’s media ports out and back in: calls that get one of the closed "
        "ports are silent."
    )
    case.cause(
        "port-blocked", "unknown", "Part of the media ports is closed", words, remedy, FIREWALL, "far-end", way=way
    )
    return words


def _ranges(some: Sequence[int], asked: Sequence[int]) -> str:
    """Neighbours among those asked are told as a range."""
    told: list[list[int]] = []
    for port in asked:
        if port not in some:
            told.append([])
        elif told and told[-1]:
            told[-1].append(port)
        else:
            told.append([port])
    return ", ".join(str(one[0]) if len(one) == 1 else f"{one[0]}–{one[-1]}" for one in told if one) or "none"


def _no_media(case: Case, title: str, figures: dict[str, Figure]) -> Rung:
    """All UDP, or the media ports alone? Told by what else was asked over UDP, if anything was."""
    udp = [n.rcode is not None for n in case.result.names if n.transport == "udp" and not private(n.resolver)]
    udp += [s.state == "open" for s in case.result.services if s.asked.protocol in UDP]
    answered = any(udp) or bool(case.result.path and case.result.path.reached)
    leg, where = case.udp_ends()
    words = f"Its media ports do not answer, while its control port does.{where}"
    if udp and not answered:
        words += f" None of {len(udp)} other questions over UDP was answered either."
        remedy = "Let UDP out: calls over TCP suffer from every loss."
        case.cause("udp-blocked", leg, "UDP is blocked", words, remedy, FIREWALL, "far-end")
    else:
        words += " Other UDP is answered." if answered else " Nothing else was asked over UDP."
        remedy = "Let UDP to the far end’s media ports out and back in."
        case.cause("port-blocked", leg, "Media ports are closed", words, remedy, FIREWALL, "far-end")
    return Rung("far-end", title, "failed", words, figures)


def marking(case: Case) -> Rung:
    title, calls = "Marking", [call for call in case.result.media if call.bound and not call.failure]
    if not calls:
        return Rung("marking", title, "unproven", "No call came through to read its marking from.")
    faults, told = [], 0
    for way in DIRECTIONS:
        marked = [(call, call.marks_up if way == "up" else call.marks_down) for call in calls if call.dscp]
        seen = [(call, marks) for call, marks in marked if marks]
        told += len(seen)
        changed = [(call, marks) for call, marks in seen if _changed_pct(call.dscp, marks) >= case.limits.changed_pct]
        if changed:
            faults.append(_changed(case, way, changed))
    if faults:
        return Rung("marking", title, "failed", " ".join(faults))
    if not told:
        return Rung("marking", title, "unproven", "Neither end’s system tells how packets arrive marked.")
    kept = ", ".join(str(call.dscp) for call in calls if call.dscp)
    return Rung("marking", title, "passed", f"DSCP {kept} arrive as they were sent, as far as the systems tell.")


def _changed(case: Case, way: Way, changed: list[tuple[MediaFacts, tuple[MarkCount, ...]]]) -> str:
    each = ", ".join(f"{call.dscp} to {max(marks, key=lambda m: m.packets).dscp}" for call, marks in changed)
    words = f"{'Up' if way == 'up' else 'Down'}, DSCP changes on the way: {each}."
    leg: LegName = "unknown"
    found = _where_changed_up(case) if way == "up" else _where_changed_down(case)
    if found:
        leg, where = found
        words += where
    remedy = "Trust the marking on the switch ports of phones, and have the router and the provider keep it."
    who = {"inside": NETWORK, "line": PROVIDER, "beyond": PROVIDER}.get(leg, f"{NETWORK}, then {PROVIDER}")
    case.cause("marking-changed", leg, "Marking is removed or changed", words, remedy, who, "marking", way=way)
    return words


def _where_changed_up(case: Case) -> tuple[LegName, str] | None:
    """By what routers' errors quote of the marking, of the path's own packets, which are marked EF."""
    path = case.result.path
    if path is None or not path.dscp:
        return None
    kept, changed = _around_change(path.hops, path.dscp)
    if changed is None:
        return _still(kept, "") if kept else None
    if kept is None:
        leg: LegName = "inside" if changed.ttl == 1 else "inside or line" if changed.ttl == 2 else "unknown"
        return leg, f" It was changed before {changed.address}, hop {changed.ttl}."
    leg = "beyond" if kept.ttl > 1 else "inside or line" if changed.ttl == 2 else "unknown"
    return leg, f" {kept.address} still received it as sent; {changed.address}, hop {changed.ttl}, did not."


def _where_changed_down(case: Case) -> tuple[LegName, str] | None:
    """As up, by the way back: its last hop is this machine, the one before it the gateway, and the edge before that."""
    path = case.result.way_back
    if path is None or not path.dscp or not path.reached:
        return None
    kept, changed = _around_change(path.hops[:-1], path.dscp)
    gateway = len(path.hops) - 1
    if changed is None:
        return _still(kept, " of the way back", gateway) if kept else None
    leg: LegName = "beyond" if changed.ttl < gateway else "unknown"
    if kept is None:
        return leg, f" It was changed before {changed.address}, hop {changed.ttl} of the way back."
    if kept.ttl == gateway - 1:
        leg = "inside or line"
    return leg, f" {kept.address} still received it as sent; {changed.address}, closer to here, did not."


def _around_change(hops: Sequence[HopFacts], dscp: int) -> tuple[HopFacts | None, HopFacts | None]:
    """The last hop that received it as sent, and the first that did not."""
    kept: HopFacts | None = None
    for hop in hops:
        if hop.dscp_seen is not None and hop.dscp_seen != dscp:
            return kept, hop
        kept = hop if hop.dscp_seen is not None else kept
    return kept, None


def _still(kept: HopFacts, way: str, gateway: int | None = None) -> tuple[LegName, str]:
    """No hop received it otherwise: it was changed after the last that tells."""
    leg: LegName = "beyond" if gateway is None and kept.ttl > 1 else "unknown"
    if gateway is not None and kept.ttl >= gateway - 1:
        leg = "inside" if kept.ttl == gateway else "inside or line"
    return leg, f" {kept.address}, hop {kept.ttl}{way}, still received it as sent."


def _changed_pct(dscp: int, marks: Iterable[MarkCount]) -> float:
    seen = list(marks)
    return 100 * sum(m.packets for m in seen if m.dscp != dscp) / max(1, sum(m.packets for m in seen))
