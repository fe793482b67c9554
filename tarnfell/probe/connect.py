"""The way to a far end: a control connection, greeted and keyed, or a sentence that says what stands in the way."""

from __future__ import annotations

import secrets
import socket
import time
from collections.abc import Callable

from tarnfell.media.channel import Channel, ChannelClosed
from tarnfell.wire import WireError, failures
from tarnfell.wire.control import NONCE_BYTES, PROTOCOL_VERSION, Seal, session_key

CONNECT_LIMIT_S = 5.0
GREETING_TRIES = 4
_GREETING_PAUSE_S = 1.0


class CallError(RuntimeError):
    """The calls could not be placed; the text says why and what to look at, ``code`` is one of wire/failures.py."""

    def __init__(self, reason: str, code: str = failures.OTHER) -> None:
        super().__init__(reason)
        self.code = code


def connect(host: str, port: int, key: bytes) -> tuple[Channel, int, Callable[[str], bytes]]:
    """A control connection that has been greeted. A far end that is busy or full for a moment is asked again."""
    for left in reversed(range(GREETING_TRIES)):
        try:
            return _greeted(host, port, key)
        except _Ungreeted:
            if not left:
                break
            time.sleep(_GREETING_PAUSE_S)
    raise CallError(f"What answers at {host} on TCP {port} is not a far end, or it is full.", failures.REFUSED)


class _Ungreeted(Exception):
    """The connection stands but nothing was said on it."""


def _greeted(host: str, port: int, key: bytes) -> tuple[Channel, int, Callable[[str], bytes]]:
    try:
        sock = socket.create_connection((host, port), CONNECT_LIMIT_S)
    except socket.gaierror as error:
        # A name server that does not answer is the way being down; a name that does not exist is a wrong name.
        code = failures.UNREACHABLE if error.errno == socket.EAI_AGAIN else failures.OTHER
        raise CallError(f"The name {host} cannot be looked up. Check the spelling and the name server.", code) from None
    except ConnectionRefusedError:
        raise CallError(
            f"Nothing answers at {host} on TCP {port}: the host is there, but no far end listens. Start one, or check "
            "the port.",
            failures.UNREACHABLE,
        ) from None
    except (OSError, OverflowError) as error:
        reason = getattr(error, "strerror", None) or str(error)
        raise CallError(
            f"The far end at {host} cannot be reached on TCP {port} ({reason}). Check the address, and that a "
            "firewall lets this port out.",
            failures.UNREACHABLE,
        ) from None
    channel = Channel(sock, Seal("probe", None), Seal("farend", None))
    try:
        greeting = channel.receive_json(CONNECT_LIMIT_S)
        version, theirs = greeting.get("tarnfell"), bytes.fromhex(str(greeting.get("nonce")))
    except (TimeoutError, ChannelClosed):
        channel.close()
        raise _Ungreeted from None
    except (WireError, ValueError):
        channel.close()
        raise CallError(f"What answers at {host} on TCP {port} is not a far end.", failures.REFUSED) from None
    if version != PROTOCOL_VERSION:
        channel.close()
        raise CallError(
            f"The far end at {host} speaks protocol version {version}, this probe {PROTOCOL_VERSION}. "
            "Bring both to the same release.",
            failures.REFUSED,
        )
    ours = secrets.token_bytes(NONCE_BYTES)

    def purpose(name: str) -> bytes:
        return session_key(key, theirs, ours, name)

    channel.send({"nonce": ours.hex()})
    control = purpose("control")
    channel.reseal(Seal("probe", control), Seal("farend", control))
    return channel, sock.family, purpose
