"""The far end's other sides, bounded: streams that fill a line, bindings, signalling."""

from __future__ import annotations

import contextlib
import socket
import time
import zlib
from typing import Any

import pytest

from tarnfell.farend.daemon import MAX_FILLING
from tarnfell.media.channel import LAST_BYTES, Channel, ChannelClosed
from tarnfell.wire import sip, stun
from tarnfell.wire.control import Seal
from tarnfell.wire.rtp import RtpPacket
from tests import rig
from tests.media.test_far_end_bounds import Session, still_works

# Filling the line


def filling(far: str, **asked: Any) -> tuple[Session, dict[str, Any]]:
    session = Session(far)
    session.channel.send({"fill": {"way": "up", "seconds": 2, **asked}})
    return session, session.channel.receive_json()


@pytest.mark.parametrize(
    "asked", [{"way": "sideways"}, {"seconds": 61}, {"seconds": 0.1}, {"seconds": "long"}, {"kbps": -1}, {"more": 1}]
)
def test_what_fills_no_line_is_refused(far: str, asked: dict[str, Any]) -> None:
    _, answer = filling(far, **asked)
    assert "refused" in answer
    still_works(far)


def test_what_comes_up_is_counted_and_ends_with_the_probe(far: str) -> None:
    session, answer = filling(far, seconds=60)
    assert answer["accepted"]["congestion"]
    for _ in range(100):
        session.channel.socket.sendall(bytes(1000))
    sent, counted, deadline = 100_000, 0, time.monotonic() + 60
    while counted < 100_000:  # a slot is told once bytes of the next have come
        sent += session.channel.socket.send(bytes(10))
        time.sleep(0.02)
        while session.channel.waiting():
            counted += sum(session.channel.receive_json()["got"])
        assert counted <= sent
        assert time.monotonic() < deadline
    session.channel.close()
    still_works(far)


def test_nothing_comes_down_before_it_is_asked_for_and_no_longer_than_it_was(far: str) -> None:
    session, _ = filling(far, way="down", seconds=0.5, kbps=800)
    assert not session.channel.waiting(0.4)
    session.channel.send({"go": {}})
    begun, body = time.monotonic(), b""
    session.channel.socket.settimeout(10)
    while part := session.channel.socket.recv(1 << 16):
        body += part
    assert time.monotonic() - begun < 8
    told = session.channel.open_last(body[-LAST_BYTES:])["sent"]
    noise = len(body) - LAST_BYTES
    assert noise <= 800 * 125 * 0.5 * 1.3 + 2000
    assert noise > 10_000
    assert told["sent_bytes"] is None or told["sent_bytes"] >= noise
    assert len(zlib.compress(body[:50_000])) > 0.99 * min(len(body), 50_000)  # nothing on the way makes it fewer


def test_streams_are_bounded_and_leave_room_for_calls(far: str) -> None:
    held = []
    for _ in range(MAX_FILLING):
        session, answer = filling(far)
        assert "accepted" in answer
        held.append(session)
    _, answer = filling(far)
    assert "as many" in answer["refused"]
    still_works(far)
    for session in held:
        session.channel.close()
    rig.eventually(lambda: "accepted" in filling(far)[1], "room for streams again")


def test_a_stranger_fills_nothing(far: str) -> None:
    with socket.create_connection((far, rig.CONTROL_PORT)) as sock:
        channel = Channel(sock, Seal("probe", None), Seal("farend", None))
        channel.receive_json()
        channel.send({"nonce": "00" * 16})
        channel.send({"fill": {"way": "down", "seconds": 60}})
        answer = channel.receive_json()
        assert answer == {"refused": "wrong key"}
        with pytest.raises(ChannelClosed):
            channel.receive_json()


# Telling what packets arrive from


def test_bindings_are_told_only_in_a_session_and_never_at_greater_length(far: str) -> None:
    session = Session(far)
    session.channel.send({"bindings": {}})
    first, second = session.channel.receive_json()["accepted"]["ports"]
    assert first != second
    with (
        socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as asker,
        socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as other,
    ):
        for sock in (asker, other):
            sock.bind(("127.0.0.1", 0))
            sock.settimeout(5)
        transaction = b"t" * 12
        for port in (first, second):
            asker.sendto(stun.padded_request(transaction), (far, port))
            told = asker.recv(2000)
            assert len(told) <= stun.PADDED_BYTES
            assert stun.answer(told, transaction).mapped.port == asker.getsockname()[1]
        # To another port of the same address, told as seen from the one that asked.
        asker.sendto(stun.padded_request(transaction, other.getsockname()[1]), (far, first))
        assert stun.answer(other.recv(2000), transaction).mapped.port == asker.getsockname()[1]
        for nothing in (stun.request(transaction), b"", bytes(64), b"\xff" * 1400, stun.padded_request(b"x" * 12)[:-1]):
            asker.sendto(nothing, (far, first))
        asker.sendto(stun.padded_request(b"u" * 12), (far, first))
        assert stun.answer(asker.recv(2000), b"u" * 12)  # the first that is answered again
        session.channel.close()
        asker.settimeout(0.5)

        def closed() -> bool:
            try:
                asker.sendto(stun.padded_request(transaction), (far, first))
                asker.recv(2000)
            except OSError:
                return True
            return False

        rig.eventually(closed, "the ports to close with the session")
    still_works(far)


# Signalling


@pytest.mark.parametrize("told", ["192.0.2.80", "not an address", 7, None])
def test_a_far_end_behind_translation_names_the_address_it_is_reached_at(far: str, told: Any) -> None:
    session = Session(far)
    session.channel.send({"signalling": {"address": told} if told else {}})
    session.channel.receive_json()
    own = session.channel.own_address()
    invite = sip.Message("INVITE sip:x SIP/2.0", (("Via", "SIP/2.0/UDP x;rport"), ("CSeq", "1 INVITE")))
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as asker:
        asker.bind((own, 0))
        asker.settimeout(5)
        asker.sendto(invite.serialize(), (far, sip.PORT))
        asker.recv(4000)
        found = sip.media_of(sip.Message.parse(asker.recv(4000)).body)
    assert found is not None
    assert found[0] == (told if told == "192.0.2.80" else far)
    session.channel.close()
    still_works(far)


def test_media_of_a_call_goes_only_to_who_sent_some_and_holds_the_session(far: str) -> None:
    session = Session(far)
    session.channel.send({"signalling": {}})
    session.channel.receive_json()
    own = session.channel.own_address()
    invite = sip.Message(
        "INVITE sip:x SIP/2.0", (("Via", "SIP/2.0/UDP x;rport"), ("CSeq", "1 INVITE")), sip.description(own, 9)
    )
    with (
        socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as signalling,
        socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as media,
        socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as stranger,
    ):
        stranger.bind((rig.own_address(), 0))
        for sock in (signalling, media):
            sock.bind((own, 0))
        signalling.settimeout(5)
        signalling.sendto(invite.serialize(), (far, sip.PORT))
        assert sip.Message.parse(signalling.recv(4000)).status == 180
        found = sip.media_of(sip.Message.parse(signalling.recv(4000)).body)
        assert found is not None
        packet = RtpPacket(8, 1, 0, 7, payload=bytes(160)).serialize()
        for sock in (stranger, media):
            sock.settimeout(0.4)
        for odd in (b"", b"x" * 172, RtpPacket(0, 1, 0, 7, payload=bytes(160)).serialize()):
            media.sendto(odd, found)
        stranger.sendto(packet, found)
        for sock in (stranger, media):  # nobody has sent media that is this call's
            with pytest.raises(TimeoutError):
                sock.recv(2000)
        media.sendto(packet, found)
        got = []
        with contextlib.suppress(TimeoutError):
            while True:
                got.append(RtpPacket.parse(media.recv(2000)))
        assert (len(got), len({one.ssrc for one in got})) == (50, 1)
        with pytest.raises(TimeoutError):
            stranger.recv(2000)
    session.channel.close()
    still_works(far)


def test_signalling_is_answered_only_in_a_session_and_only_to_who_holds_it(far: str) -> None:
    session = Session(far)
    session.channel.send({"signalling": {}})
    accepted = session.channel.receive_json()["accepted"]
    assert (accepted["port"], accepted["media"]) == (sip.PORT, True)
    assert (accepted["port"], accepted["tls_port"], len(accepted["certificate"])) == (sip.PORT, sip.TLS_PORT, 64)
    second = Session(far)
    second.channel.send({"signalling": {}})
    assert "taken" in second.channel.receive_json()["refused"]
    options = sip.Message("OPTIONS sip:x SIP/2.0", (("Via", "SIP/2.0/UDP x;rport"), ("CSeq", "1 OPTIONS")))
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as stranger:
        stranger.bind((rig.own_address(), 0))
        stranger.settimeout(0.5)
        stranger.sendto(options.serialize(), (far, sip.PORT))
        with pytest.raises(TimeoutError):
            stranger.recv(2000)
    own = session.channel.own_address()
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as holder:
        holder.bind((own, 0))
        holder.settimeout(5)
        for junk in (b"", b"\xff" * 1400, b"SIP/2.0 200 OK\r\n\r\n", b"NONSENSE sip:x SIP/2.0\r\n\r\n"):
            holder.sendto(junk, (far, sip.PORT))
        holder.sendto(options.serialize(), (far, sip.PORT))
        assert sip.Message.parse(holder.recv(4000)).status == 200
    with socket.create_connection((far, sip.PORT), 5, source_address=(own, 0)) as stream:
        stream.sendall(b"x" * 100_000)  # no message in all of it: the connection ends
        stream.settimeout(5)
        with contextlib.suppress(ConnectionResetError):
            assert stream.recv(10) == b""
    session.channel.close()
    still_works(far)
