"""The way itself: its hops, and how large a packet it carries."""

from __future__ import annotations

import statistics
from collections.abc import Iterable

from tarnfell.core.causes import FIREWALL, LegName
from tarnfell.core.check.case import METHODS, Case
from tarnfell.core.check.values import Figure, Rung
from tarnfell.wire.kinds.path import HopFacts, PathFacts


def path(case: Case) -> Rung:
    title, path = "Path", case.result.path
    if path is None:
        return Rung("path", title, "unproven", case.why_not("The path could not be looked for."))
    heard = [hop for hop in path.hops if hop.rtt_ms]
    figures: dict[str, Figure] = {
        "hops": len(path.hops),
        "answering": len(heard),
        "reached": str(path.reached).lower(),
        "back_hops": len(back.hops) if (back := case.result.way_back) and back.reached else None,
    }
    _slow_hops(case, path.hops)
    if not heard:
        return Rung("path", title, "unproven", "No router on the way says anything.", figures)
    if path.reached:
        hops = _hops(len(path.hops))
        silent = len(path.hops) - len(heard)
        said = f"{silent} on the way say nothing" if silent else "each answers"
        words = f"{path.address} is {hops} away; {said}."
        return Rung("path", title, "passed", f"{words}{_other_ways(case)}", figures)
    last = heard[-1]
    sort = f"to UDP port {path.port}" if path.method == "udp" else f"of {METHODS[path.method]}"
    words = f"Packets {sort} were last heard of at hop {last.ttl}, {last.address}."
    if case.far_heard:
        words += " The far end itself is reached by other means."
    return Rung("path", title, "unproven", f"{words}{_other_ways(case)}", figures)


def _other_ways(case: Case) -> str:
    """By other means where that is otherwise, and back from the far end."""
    path, words = case.result.path, ""
    for other in case.result.other_paths:
        name = METHODS[other.method]
        if other.reached and path and not path.reached:
            words += f" By {name} it is {_hops(len(other.hops))} away."
        elif other.reached and path and len(other.hops) != len(path.hops):
            words += f" By {name} it is {_hops(len(other.hops))}."
        elif not other.reached:
            last = next((hop for hop in reversed(other.hops) if hop.address), None)
            words += f" {name} is last heard of at {last.address}, hop {last.ttl}." if last else ""
    back = case.result.way_back
    if back and back.reached:
        words += f" The way back is {_hops(len(back.hops))}."
    return words


def _hops(count: int) -> str:
    return "one hop" if count == 1 else f"{count} hops"


def route_change(now: PathFacts, before: PathFacts) -> str | None:
    """Which hops are others than they were, and what became of the delay; None where nothing shows a change."""
    if now.method != before.method:
        return None  # routers may send packets of another sort another way
    pairs = [
        (new.ttl, old.address, new.address)
        for new, old in zip(now.hops, before.hops, strict=False)
        if new.address and old.address and not {new.address, *new.others} & {old.address, *old.others}
    ]
    longer = now.reached and before.reached and len(now.hops) != len(before.hops)
    if not pairs and not longer:
        return None
    words = [f"hop {ttl} is {new}, it was {old}" for ttl, old, new in pairs[:3]]
    if len(pairs) > len(words):
        words.append(f"{len(pairs) - len(words)} more differ")
    if longer:
        words.append(f"{_hops(len(now.hops))}, {len(before.hops)} before")
    if now.reached and before.reached and now.hops[-1].rtt_ms and before.hops[-1].rtt_ms:
        ms = [statistics.median(path.hops[-1].rtt_ms) for path in (now, before)]
        words.append(f"round trip {ms[0]:.1f} ms, {ms[1]:.1f} ms before")
    return f"The route has changed: {'; '.join(words)}."


def _slow_hops(case: Case, hops: Iterable[HopFacts]) -> None:
    """A router is slow, or leaves packets unanswered, for itself alone where those beyond it are not."""
    listed = list(hops)
    for place, hop in enumerate(listed[:-1]):
        beyond = [other for other in listed[place + 1 :] if other.rtt_ms]
        if not hop.rtt_ms or not beyond:
            continue
        own, least = statistics.median(hop.rtt_ms), min(statistics.median(other.rtt_ms) for other in beyond)
        missing = hop.sent - len(hop.rtt_ms)
        complete = any(len(other.rtt_ms) >= other.sent for other in beyond)
        if own > least + case.limits.slow_hop_ms:
            says = f"{hop.address} takes {own:.0f} ms to answer for itself and passes packets on in {least:.0f} ms."
            case.no_fault("hop-slow", says)
        elif missing and complete:
            says = f"{hop.address} left {missing} of {hop.sent} packets unanswered; those beyond it answered all."
            case.no_fault("hop-slow", says)


def packet_size(case: Case) -> Rung:
    title = "Packet size"
    far = next((one for one in case.result.large_echoes if one.role == "far-end"), None)
    small = next((one for one in case.result.echoes if one.role == "far-end"), None)
    if far is None or small is None or not small.answered:
        return Rung("packet-size", title, "unproven", case.why_not("The far end answers no echo, of any size."))
    figures: dict[str, Figure] = {
        "packet_bytes": far.packet_bytes,
        "answered": far.answered,
        "next_mtu": far.next_mtu,
    }
    if far.answered:
        return Rung("packet-size", title, "passed", f"Packets of {far.packet_bytes} bytes come through whole.", figures)
    if far.too_large:
        told = f" of {far.next_mtu} bytes" if far.next_mtu else ""
        words = f"{far.packet_bytes} bytes do not fit; a link on the way says so and takes packets{told}."
        return Rung("packet-size", title, "passed", words, figures)
    fits = [one for one in case.result.large_echoes if one.answered]
    leg: LegName = "unknown"
    if any(one.role in ("edge", "outside") for one in fits):
        leg = "beyond"
    elif any(one.role == "gateway" for one in fits):
        leg = "unknown" if case.result.edge is None else "line"
    words = (
        f"{small.answered} of {small.sent} echoes of {small.packet_bytes} bytes came back, of {far.packet_bytes} bytes "
        f"none of {far.sent}, and no router said that they are too large."
    )
    remedy = "Let ICMP “packet too big” through, or lower the MTU (or the TCP MSS) at the gateway."
    case.cause("mtu-hole", leg, "Large packets vanish", words, remedy, FIREWALL, "packet-size")
    return Rung("packet-size", title, "failed", words, figures)
