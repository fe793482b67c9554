"""A stand-in for a router's SIP helper: it puts its own address into messages that pass, as such helpers do.

Signalling has to be sent its way, for instance by ``nft``: ``udp dport 5060 redirect``. Only UDP, as most of them.
"""

from __future__ import annotations

import argparse
import re
import select
import socket
from collections import OrderedDict
from typing import Any

MAX_CLIENTS = 200
_HOSTS = rb"(?m)^(?:Via|v|Contact|m)[ \t]*:.*$|^[oc]=.*$"


def rewritten(data: bytes, was: str, now: str) -> bytes:
    """With one address for another in Via, Contact and the session description, and the length put right."""
    head, gap, body = data.partition(b"\r\n\r\n")

    def swapped(text: bytes) -> bytes:
        return re.sub(_HOSTS, lambda line: line[0].replace(was.encode(), now.encode()), text)

    head, body = swapped(head), swapped(body)
    length = b"Content-Length: %d" % len(body)
    return re.sub(rb"(?im)^Content-Length[ \t]*:[ \t]*\d+", length, head) + gap + body


def serve(listen: str, far: str, port: int) -> None:
    front = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    front.bind((listen, port))
    backs: OrderedDict[Any, socket.socket] = OrderedDict()
    while True:
        ready, _, _ = select.select([front, *backs.values()], [], [])
        for sock in ready:
            data, source = sock.recvfrom(65_535)
            if sock is front:
                if source not in backs:
                    if len(backs) >= MAX_CLIENTS:
                        backs.popitem(last=False)[1].close()
                    backs[source] = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
                    backs[source].connect((far, port))
                backs[source].send(rewritten(data, source[0], listen))
            else:
                client = next(one for one, back in backs.items() if back is sock)
                front.sendto(rewritten(data, listen, client[0]), client)


def main(arguments: list[str] | None = None) -> int:
    parser = argparse.ArgumentParser(prog="python -m tarnfell.standin.sip_helper", description=__doc__)
    parser.add_argument("--listen", required=True, metavar="ADDR", help="the router's own address towards the line")
    parser.add_argument("--far", required=True, metavar="ADDR", help="the server that signalling is sent to")
    parser.add_argument("--port", type=int, default=5060)
    options = parser.parse_args(arguments)
    serve(options.listen, options.far, options.port)
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
