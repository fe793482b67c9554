"""A name server that knows the names it was told, and no others: for tests and for networks without one.

python3 -m tarnfell.standin.names --listen 192.0.2.53 --name farend.example=198.51.100.2
"""

from __future__ import annotations

import argparse
import ipaddress
import socket
import struct
import sys
import threading

from tarnfell.wire.dns import IN, NOERROR, NXDOMAIN, PORT, A

_HEAD = struct.Struct("!HHHHHH")
_ANSWERED = 0x8180
"""A response; recursion asked for and there."""


def answer(question: bytes, known: dict[str, str]) -> bytes | None:
    """None for what is no question."""
    if len(question) < _HEAD.size + 5:
        return None
    number, _, count, *_ = _HEAD.unpack_from(question)
    labels, at = [], _HEAD.size
    while at < len(question) and question[at]:
        labels.append(question[at + 1 : at + 1 + question[at]])
        at += 1 + question[at]
    asked = question[_HEAD.size : at + 5]
    if count != 1 or len(asked) != at + 5 - _HEAD.size:
        return None
    address = known.get(b".".join(labels).decode("ascii", "replace").lower())
    (kind,) = struct.unpack_from("!H", question, at + 1)
    if address is None:
        return _HEAD.pack(number, _ANSWERED | NXDOMAIN, 1, 0, 0, 0) + asked
    if kind != A:
        return _HEAD.pack(number, _ANSWERED | NOERROR, 1, 0, 0, 0) + asked
    record = struct.pack("!HHHIH", 0xC00C, A, IN, 60, 4) + ipaddress.ip_address(address).packed
    return _HEAD.pack(number, _ANSWERED | NOERROR, 1, 1, 0, 0) + asked + record


def _serve_tcp(listener: socket.socket, known: dict[str, str]) -> None:
    while True:
        connection, _ = listener.accept()
        with connection:
            connection.settimeout(5)
            try:
                (length,) = struct.unpack("!H", connection.recv(2))
                told = answer(connection.recv(length), known)
                if told:
                    connection.sendall(struct.pack("!H", len(told)) + told)
            except (OSError, struct.error):
                continue  # of this one connection


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--listen", required=True)
    parser.add_argument("--port", type=int, default=PORT)
    parser.add_argument("--name", action="append", default=[], metavar="NAME=ADDRESS")
    options = parser.parse_args()
    known = {name.lower(): address for name, _, address in (one.partition("=") for one in options.name)}
    family = socket.AF_INET6 if ":" in options.listen else socket.AF_INET
    listener = socket.create_server((options.listen, options.port), family=family)
    threading.Thread(target=_serve_tcp, args=(listener, known), daemon=True).start()
    with socket.socket(family, socket.SOCK_DGRAM) as sock:
        sock.bind((options.listen, options.port))
        while True:
            question, source = sock.recvfrom(4096)
            told = answer(question, known)
            if told:
                sock.sendto(told, source)


if __name__ == "__main__":
    sys.exit(main())
