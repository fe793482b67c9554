"""Packets and openings that somebody made up, on every side of a far end: it goes on, and sends no more than it got.

``HOSTILE=1000000`` for the long way round; the seed is always the same.
"""

from __future__ import annotations

import contextlib
import os
import random
import socket
import struct
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest

from tarnfell.wire import sip, stun
from tarnfell.wire.control import BIND, BINDING_BYTES, CONFIRM, Binding
from tests import rig
from tests.media.test_far_end_bounds import Session, still_works

PACKETS = int(os.environ.get("HOSTILE", "4000"))
OPENINGS = max(40, PACKETS // 100)
MOST_MIB = 400
"""Of all processes of a far end together; each session's is some twenty."""


def mutated(chance: random.Random, good: list[bytes]) -> bytes:
    """Whole, cut, lengthened, spliced, or with some bytes or bits changed; now and then nothing but noise."""
    packet = bytearray(chance.choice(good))
    what = chance.randrange(7)
    if what == 0:
        return bytes(packet[: chance.randrange(len(packet) + 1)])
    if what == 1:
        return bytes(packet) + chance.randbytes(chance.randrange(1, 1200))
    if what == 2:
        other = chance.choice(good)
        return bytes(packet[: chance.randrange(len(packet))]) + other[chance.randrange(len(other)) :]
    if what == 3:
        return chance.randbytes(chance.randrange(1400))
    for _ in range(chance.choice((1, 1, 2, 8))):
        place = chance.randrange(len(packet))
        packet[place] = packet[place] ^ (1 << chance.randrange(8)) if what == 4 else chance.randrange(256)
    if what == 6 and len(packet) >= 4:
        struct.pack_into("!H", packet, chance.randrange(len(packet) - 1) & ~1, chance.choice((0, 0xFFFF, 0x8000)))
    return bytes(packet)


def stun_port(session: Session) -> tuple[int, list[bytes]]:
    session.channel.send({"bindings": {"spread": True}})
    ports = session.channel.receive_json()["accepted"]["ports"]
    return ports[0], [stun.padded_request(b"t" * 12), stun.padded_request(b"u" * 12, 9), stun.request(b"v" * 12, True)]


def way_back_port(session: Session) -> tuple[int, list[bytes]]:
    session.channel.send({"way_back": {"dscp": 46}})
    (port,) = session.channel.receive_json()["accepted"]["media_ports"]
    key = session.key("bind")
    return port, [Binding(step, 0, b"c" * 16).serialize(key) for step in (BIND, CONFIRM)]


def stamp_port(session: Session) -> tuple[int, list[bytes]]:
    session.channel.send({"stamps": {"dscp": 0}})
    port = session.channel.receive_json()["accepted"]["stamp_port"]
    return port, [bytes(44), b"\0\0\0\1" + bytes(108)]


SIDES: dict[str, Callable[[Session], tuple[int, list[bytes]]]] = {
    "bindings": stun_port, "way back": way_back_port, "stamps": stamp_port,
}  # fmt: skip


@pytest.fixture
def far_process(tmp_path: Path) -> Iterator[tuple[str, int]]:
    address = rig.own_address()
    with rig.far_end(tmp_path, address) as child:
        yield address, child.pid
        assert child.poll() is None, "the far end has ended"


def memory_mib(pid: int) -> float:
    kib = 0
    for one in (pid, *rig.processes_below(pid)):
        with contextlib.suppress(OSError):
            told = Path(f"/proc/{one}/smaps_rollup").read_text().splitlines()
            kib += sum(int(line.split()[1]) for line in told if line.startswith("Pss:"))
    return kib / 1024


@pytest.mark.parametrize("side", SIDES)
def test_packets_made_up(far_process: tuple[str, int], side: str) -> None:
    far, pid = far_process
    chance = random.Random(23)
    session = Session(far)
    port, good = SIDES[side](session)
    out = back = 0
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as attacker:
        attacker.bind((session.channel.own_address(), 0))
        attacker.setblocking(False)
        for _ in range(PACKETS):
            packet = mutated(chance, good)
            with contextlib.suppress(OSError):  # nobody listens there any more: the session ended, which it may
                out += attacker.sendto(packet, (far, port))
            with contextlib.suppress(OSError):
                while True:
                    back += len(attacker.recv(4096))
        attacker.settimeout(0.5)
        with contextlib.suppress(OSError):
            while True:
                back += len(attacker.recv(4096))
    assert back <= out
    assert memory_mib(pid) < MOST_MIB
    session.channel.close()
    still_works(far)


def test_messages_made_up(far_process: tuple[str, int]) -> None:
    far, pid = far_process
    chance = random.Random(29)
    for transport in ("udp", "tcp"):
        session = Session(far)
        session.channel.send({"signalling": {}})
        answer: dict[str, Any] = session.channel.receive_json()
        assert "accepted" in answer, answer
        head = (("Via", "SIP/2.0/UDP x;rport"), ("Content-Length", "9"), ("Authorization", 'Digest nonce="a", uri="b"'))
        good = [
            sip.Message(f"{method} sip:x SIP/2.0", (*head, ("CSeq", f"1 {method}"))).serialize()
            for method in ("OPTIONS", "REGISTER", "INVITE", "BYE")
        ]
        own = session.channel.own_address()
        if transport == "udp":
            with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as attacker:
                attacker.bind((own, 0))
                for _ in range(PACKETS):
                    with contextlib.suppress(OSError):
                        attacker.sendto(mutated(chance, good), (far, sip.PORT))
        else:
            for _ in range(OPENINGS):
                with contextlib.suppress(OSError), socket.create_connection((far, sip.PORT), 5, (own, 0)) as stream:
                    stream.sendall(b"".join(mutated(chance, good) for _ in range(20)))
        assert memory_mib(pid) < MOST_MIB
        session.channel.close()
        rig.eventually(lambda: not listens(far, sip.PORT), "the port to close with the session")
    still_works(far)


def listens(address: str, port: int) -> bool:
    try:
        socket.create_connection((address, port), 1).close()
    except OSError:
        return False
    return True


def test_openings_made_up(far_process: tuple[str, int]) -> None:
    """Greetings that are none, and frames that no key has sealed."""
    far, pid = far_process
    chance = random.Random(31)
    greeting = b"\0\0\0\x2c\x01" + b'{"nonce":"' + b"6e" * 16 + b'"}'
    good = [greeting, b"\0\0\0\x30\x01" + bytes(48), b"\xff" * BINDING_BYTES]
    for _ in range(OPENINGS):
        with contextlib.suppress(OSError), socket.create_connection((far, rig.CONTROL_PORT), 5) as sock:
            sock.sendall(mutated(chance, good) + mutated(chance, good))
    assert memory_mib(pid) < MOST_MIB
    still_works(far)
