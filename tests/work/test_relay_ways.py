"""Names, passwords and addresses by which a browser goes through a relay."""

from __future__ import annotations

from tarnfell.store.relays import Relay
from tarnfell.work.placing.relay_ways import ways_through

NOW_S = 1_700_000_000.0


def test_a_shared_secret_becomes_a_name_for_two_hours_and_its_digest() -> None:
    ways = ways_through(Relay("relay.example.net", 3478, 5349, "", "north gate"), NOW_S)
    assert ways.user == "1700007200:tarnfell"
    # printf 1700007200:tarnfell | openssl dgst -sha1 -hmac 'north gate' -binary | base64
    assert ways.password == "YLuaLkF8b6vIANU4EVumYwYYRfM="
    assert (ways.udp, ways.tcp, ways.tls) == (
        "turn:relay.example.net:3478?transport=udp",
        "turn:relay.example.net:3478?transport=tcp",
        "turns:relay.example.net:5349?transport=tcp",
    )


def test_a_user_is_told_as_it_is_and_an_address_of_ipv6_in_brackets() -> None:
    ways = ways_through(Relay("2001:db8::7", 443, None, "pier", "gangway"), NOW_S)
    assert (ways.user, ways.password, ways.tls) == ("pier", "gangway", None)
    assert ways.tcp == "turn:[2001:db8::7]:443?transport=tcp"
