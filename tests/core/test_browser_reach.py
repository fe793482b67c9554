"""How a browser came to a far end, in words."""

from __future__ import annotations

from tarnfell.core.browser_reach import reach_says
from tarnfell.wire.kinds.path import HopFacts, PathFacts
from tarnfell.wire.kinds.reach import BrowserReach, FamilyTried, FarReach, PageReach, RelayTried

PAGE = PageReach("host", "udp", "", "wifi", "198.51.100.2", 40_012)
GATEWAY = HopFacts(1, "198.51.100.1", (), 3, (1.0, 9.0, 2.0))
SILENT = HopFacts(2, None, (), 3, ())
BROWSER = HopFacts(3, "203.0.113.5", (), 3, (30.4, 31.0, 90.0))


def said_of(page: PageReach) -> list[str]:
    return list(reach_says(BrowserReach(page=page), None))


def way(*hops: HopFacts, reached: bool) -> FarReach:
    return FarReach("203.0.113.5", 61_000, PathFacts("203.0.113.5", 33_434, 0, hops, reached, False))


def last_said(far: FarReach, web_source: str | None = None) -> list[str]:
    return list(reach_says(BrowserReach(far=far), web_source))


def test_by_what_and_over_what_network() -> None:
    assert said_of(PAGE) == [
        "Packets went by UDP over IPv4 to 198.51.100.2 port 40012, with no relay between.",
        "The browser says that it is on Wi-Fi.",
    ]
    assert said_of(PageReach("prflx", "udp", "", "unknown", "2001:db8::2", 5)) == [
        "Packets went by UDP over IPv6 to 2001:db8::2 port 5, with no relay between.",
        "The browser does not say what network it is on.",
    ]
    assert said_of(PageReach("relay", "udp", "tls", "ethernet", "198.51.100.2", 40_012))[0] == (
        "Packets went through a relay, to which this browser spoke TLS, and on to 198.51.100.2 port 40012."
    )
    assert said_of(PageReach())[0] == "Packets went by an unnamed transport, with no relay between."
    assert reach_says(BrowserReach(), "203.0.113.5") == ()


def test_over_which_families_the_far_end_answered() -> None:
    def said(*families: FamilyTried, own: str = "host") -> list[str]:
        page = PageReach(own, "udp", "", "wifi", "198.51.100.2", 40_012, families)
        return [one for one in said_of(page) if one.startswith("Over ")]

    v4, v6 = FamilyTried("IPv4", "answered"), FamilyTried("IPv6", "answered")
    assert said(v4, v6) == ["Over IPv4 the far end answered; over IPv6 the far end answered."]
    assert said(v4) == ["Over IPv4 the far end answered; over IPv6 the far end offers no address."]
    assert said(FamilyTried("IPv4", "silent"), v6) == ["Over IPv4 nothing came back; over IPv6 the far end answered."]
    assert said(v4, FamilyTried("IPv6", "untried")) == [
        "Over IPv4 the far end answered; over IPv6 this browser tried nothing: it has no such address, or "
        "another had answered before."
    ]
    assert said() == said(v4, v6, own="relay") == []


def test_through_a_relay_only_the_relay_was_seen() -> None:
    page = PageReach("relay", "udp", "tcp", "", "198.51.100.2", 40_012)
    says = reach_says(BrowserReach(page=page, far=way(GATEWAY, reached=False)), "192.0.2.1")
    assert says[0].startswith("Packets went through a relay, to which this browser spoke TCP, and on to 198.51.100.2")
    assert said_of(PageReach("relay"))[0] == "Packets went through a relay."  # over what is not told
    assert says[2:] == ("The far end saw the relay, at 203.0.113.5.",)


def test_over_what_a_relay_can_be_used() -> None:
    udp, tcp = RelayTried("udp", 12.4), RelayTried("tcp", 31.6)
    no_tls, refused = RelayTried("tls", None, 701, "timed out"), RelayTried("tls", None, 401, "Unauthorized.")

    def said(*tried: RelayTried) -> str:
        return reach_says(BrowserReach(relays=tried), None)[-1]

    assert said(udp, tcp) == "The relay gave this browser an address over UDP (12 ms) and TCP (32 ms)."
    assert (
        said(udp, tcp, RelayTried("tls", 0.6))
        == "The relay gave this browser an address over UDP (12 ms), TCP (32 ms) and TLS (0.6 ms)."
    )
    assert (
        said(tcp, no_tls)
        == "The relay gave this browser an address over TCP (32 ms), and none over TLS. TLS: no answer (timed out)."
    )
    assert said(refused) == "The relay gave this browser no address. TLS: Unauthorized (401)."
    assert said(RelayTried("udp")) == "The relay gave this browser no address. UDP: no answer."
    assert (
        said(RelayTried("udp", None, 0, "Bad address")) == "The relay gave this browser no address. UDP: Bad address."
    )


def test_where_it_was_seen_from() -> None:
    far = FarReach("203.0.113.5", 61_000, None, "No.")
    for web_source, ends in (
        ("203.0.113.5", ", the web server at the same address."),
        ("203.0.113.6", ", the web server at 203.0.113.6: a proxy, a VPN or a second line carries one of the two."),
        ("2001:db8::5", "port 61000."),  # of another family, which says nothing
        ("127.0.0.1", "port 61000."),  # a proxy beside the web server
        ("100.64.0.7", "port 61000."),  # of a network that is not of that kind
        ("no address", "port 61000."),
        (None, "port 61000."),
    ):
        says = last_said(far, web_source)[0]
        assert says.startswith("The far end saw it at 203.0.113.5 port 61000")
        assert says.endswith(ends)
    same = FarReach("2001:db8::5", 1, None, "")
    assert last_said(same, "2001:0db8:0::5")[0].endswith("the web server at the same address.")


def test_the_way_back_to_it() -> None:
    assert last_said(FarReach("203.0.113.5", 1, None, "No."))[1] == "The path from the far end to it is not known. No."
    reached = last_said(way(GATEWAY, SILENT, BROWSER, reached=True))[1]
    assert reached == "From the far end, 203.0.113.5 is 3 hops away and answers after 31 ms."
    assert "is 1 hop away" in last_said(way(BROWSER, reached=True))[1]
    assert last_said(way(GATEWAY, SILENT, reached=False))[1].startswith(
        "From the far end, packets towards 203.0.113.5 were last heard of at hop 1, 198.51.100.1, after 2.0 ms;"
    )
    assert last_said(way(SILENT, reached=False))[1] == "No router between the far end and 203.0.113.5 says anything."
