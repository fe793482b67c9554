"""The far end's listening process: one child process for each session, never more than it can carry."""

from __future__ import annotations

import os
import signal
import socket
import sys
import threading
import time
from dataclasses import dataclass
from pathlib import Path

from tarnfell.farend.halves import Halves
from tarnfell.farend.session import Offer, serve
from tarnfell.media.host import die_with
from tarnfell.wire.control import DEFAULT_PORT

MAX_SESSIONS = 16
END_LIMIT_S = 1.0
"""For a session to end when the far end is told to."""
_LOOK_S = 0.1
DEFAULT_MEDIA_PORTS = (20000, 20399)


class FarEndError(RuntimeError):
    """The far end cannot start; the text says why."""


@dataclass(frozen=True)
class FarEndConfig:
    address: str
    control_port: int = DEFAULT_PORT
    first_media_port: int = DEFAULT_MEDIA_PORTS[0]
    last_media_port: int = DEFAULT_MEDIA_PORTS[1]
    keep: Path | None = None
    """Folder for what is left of runs that were broken off."""


def listen(config: FarEndConfig) -> socket.socket:
    """The listening control socket. Raises FarEndError."""
    if config.last_media_port - config.first_media_port < 1:
        raise FarEndError("The media port range must hold at least two ports: one for a call, one for time stamps.")
    try:
        info = socket.getaddrinfo(config.address, config.control_port, type=socket.SOCK_STREAM)[0]
        sock = socket.socket(info[0], socket.SOCK_STREAM)
        sock.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        sock.bind(info[4])
        sock.listen(MAX_SESSIONS)
        return sock
    except OSError as error:
        raise FarEndError(
            f"The far end cannot listen on {config.address} port {config.control_port}: {error.strerror or error}."
        ) from None


def run(listener: socket.socket, config: FarEndConfig, key: bytes, stop: threading.Event | None = None) -> None:
    """Accept sessions until ``stop`` is set or the process is told to end."""
    children: set[int] = set()
    listener.settimeout(_LOOK_S)
    while stop is None or not stop.is_set():
        _reap(children)
        try:
            sock, _ = listener.accept()
        except socket.timeout:
            continue
        except OSError:
            break
        if len(children) >= MAX_SESSIONS:
            sock.close()
            continue
        # Media answers from the very address the probe reached, also on a host with several.
        halves = Halves(config.keep) if config.keep else None
        offer = Offer(sock.family, sock.getsockname()[0], config.first_media_port, config.last_media_port, halves)
        if hasattr(os, "fork"):
            children.add(_serve_in_child(listener, sock, key, offer))
        else:
            threading.Thread(target=serve, args=(sock, key, offer), daemon=True).start()
    for pid in children:
        _end(pid)


def _serve_in_child(listener: socket.socket, sock: socket.socket, key: bytes, offer: Offer) -> int:
    parent = os.getpid()
    pid = os.fork()
    if pid == 0:
        code = 1
        try:
            die_with(parent)
            signal.signal(signal.SIGTERM, signal.SIG_DFL)
            listener.close()
            serve(sock, key, offer)
            code = 0
        except BaseException as error:
            print(f"far end: session ended by {error!r}", file=sys.stderr)
        finally:
            os._exit(code)
    sock.close()
    return pid


def _reap(children: set[int]) -> None:
    for pid in list(children):
        if os.waitpid(pid, os.WNOHANG)[0]:
            children.discard(pid)


def _end(pid: int) -> None:
    """A session that was only just forked still has this process's way of taking SIGTERM; it does not wait for that."""
    try:
        os.kill(pid, signal.SIGTERM)
        deadline = time.monotonic() + END_LIMIT_S
        while not os.waitpid(pid, os.WNOHANG)[0]:
            if time.monotonic() > deadline:
                os.kill(pid, signal.SIGKILL)
                deadline = float("inf")
            time.sleep(0.02)
    except OSError:
        pass
