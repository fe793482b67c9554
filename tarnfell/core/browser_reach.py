"""How a browser came to a far end, in words: by what, from where, over what kind of network, and the way back to it."""

from __future__ import annotations

import ipaddress
import statistics
from collections.abc import Sequence

from tarnfell.wire.kinds.path import PathFacts
from tarnfell.wire.kinds.reach import BrowserReach, FarReach, PageReach, RelayTried, WebTried

Address = ipaddress.IPv4Address | ipaddress.IPv6Address
NETWORKS = {
    "wifi": "Wi-Fi",
    "ethernet": "a cable",
    "cellular": "a mobile network",
    "bluetooth": "Bluetooth",
    "wimax": "WiMAX",
    "vpn": "a VPN",
}
"""In W3C webrtc-stats' words (RTCNetworkType); of others nothing is known."""
_FAMILY_SAYS = {
    "answered": "the far end answered",
    "silent": "nothing came back",
    "untried": "this browser tried nothing: it has no such address, or another had answered before",
    "none": "the far end offers no address",
}
NO_ANSWER = 701
"""A browser's number for a relay that was not reached (W3C webrtc, RTCPeerConnectionIceErrorEvent)."""


def reach_says(reach: BrowserReach, web_source: str | None) -> tuple[str, ...]:
    """``web_source`` is the address that the web server saw the browser at."""
    says: list[str] = []
    relayed = reach.page is not None and reach.page.own == "relay"
    if reach.page is not None:
        says += [_how(reach.page), *_families(reach.page), _network(reach.page)]
    if reach.far is not None and relayed:
        says.append(f"The far end saw the relay, at {reach.far.address}.")
    elif reach.far is not None:
        says += [_source(reach.far, web_source), _way_back(reach.far)]
    if reach.relays:
        says.append(relays_say(reach.relays))
    if reach.web is not None:
        says.append(_web(reach.web))
    return tuple(says)


def relays_say(relays: Sequence[RelayTried]) -> str:
    """Over what the relay gave the browser an address; whether it leads on is shown by calls alone."""
    good = [f"{one.by.upper()} ({_ms(one.took_ms)})" for one in relays if one.took_ms is not None]
    bad = [one for one in relays if one.took_ms is None]
    if not bad:
        return f"The relay gave this browser an address over {_listed(good)}."
    why = "; ".join(f"{one.by.upper()}: {_why(one)}" for one in bad)
    if not good:
        return f"The relay gave this browser no address. {why}."
    none = _listed([one.by.upper() for one in bad])
    return f"The relay gave this browser an address over {_listed(good)}, and none over {none}. {why}."


def _web(web: WebTried) -> str:
    """What a meeting would fall back to that finds no other way."""
    answered = f"The web server answered {web.answered} of {web.asked} small requests, one after another"
    if not web.answered:
        return f"{answered}."
    return f"{answered}: half of them within {_ms(web.median_ms)}, the slowest after {_ms(web.most_ms)}."


def _why(one: RelayTried) -> str:
    told = one.words.strip().rstrip(".")
    if one.code == NO_ANSWER or not (one.code or told):
        return f"no answer ({told})" if told else "no answer"
    return f"{told or 'refused'} ({one.code})" if one.code else told


def _ms(value: float) -> str:
    return f"{value:.0f} ms" if value >= 10 else f"{value:.1f} ms"


def _listed(names: list[str]) -> str:
    return names[0] if len(names) == 1 else f"{', '.join(names[:-1])} and {names[-1]}"


def _how(page: PageReach) -> str:
    family = _family(page.address)
    to = f" to {page.address} port {page.port}" if family else ""
    by = f"{page.transport.upper() or 'an unnamed transport'}{f' over IPv{family}' if family else ''}"
    if page.own == "socket":
        return (
            "Packets went over a WebSocket to the web server, not to the far end. It runs over TCP: what the network "
            "loses is sent again and comes late, with all that was sent after it."
        )
    if page.own == "relay":
        spoken = f", to which this browser spoke {page.relay.upper()}," if page.relay else ""
        return f"Packets went through a relay{spoken}{f' and on{to}' if to else ''}."
    return f"Packets went by {by}{to}, with no relay between."


def _families(page: PageReach) -> list[str]:
    """Nothing of a relay, which stands between, and of a browser that does not tell."""
    if page.own == "relay" or not page.families:
        return []
    told = {one.family: one.state for one in page.families}
    said = [f"over {family} {_FAMILY_SAYS[told.get(family, 'none')]}" for family in ("IPv4", "IPv6")]
    return [f"{said[0][0].upper()}{said[0][1:]}; {said[1]}."]


def _network(page: PageReach) -> str:
    name = NETWORKS.get(page.network)
    return f"The browser says that it is on {name}." if name else "The browser does not say what network it is on."


def _source(far: FarReach, web_source: str | None) -> str:
    seen = f"The far end saw it at {far.address} port {far.port}"
    there, here = _address(far.address), _address(web_source or "")
    if there is None or here is None or not _comparable(there, here):
        return f"{seen}."
    if here == there:
        return f"{seen}, the web server at the same address."
    return f"{seen}, the web server at {web_source}: a proxy, a VPN or a second line carries one of the two."


def _way_back(far: FarReach) -> str:
    if far.path is None:
        return f"The path from the far end to it is not known. {far.no_path}".rstrip()
    heard = [hop for hop in far.path.hops if hop.rtt_ms]
    if not heard:
        return f"No router between the far end and {far.address} says anything."
    last = heard[-1]
    away = _ms(statistics.median(last.rtt_ms))
    if far.path.reached:
        return f"From the far end, {far.address} is {_hops(far.path)} away and answers after {away}."
    return (
        f"From the far end, packets towards {far.address} were last heard of at hop {last.ttl}, {last.address}, after "
        f"{away}; beyond it nothing answers, as is usual behind a firewall or address translation."
    )


def _hops(path: PathFacts) -> str:
    return "1 hop" if len(path.hops) == 1 else f"{len(path.hops)} hops"


def _comparable(far: Address, web: Address) -> bool:
    """A web server behind a proxy sees this machine, or a private network, for everybody: that says nothing."""
    return far.version == web.version and far.is_private == web.is_private and not web.is_loopback


def _family(address: str) -> int | None:
    known = _address(address)
    return known.version if known else None


def _address(text: str) -> Address | None:
    try:
        return ipaddress.ip_address(text.partition("%")[0])
    except ValueError:
        return None
