"""The far end's listening process: one child process for each session, never more than it can carry."""

from __future__ import annotations

import errno
import mmap
import os
import signal
import socket
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any, ClassVar, Protocol

from tarnfell.farend.halves import Halves
from tarnfell.farend.offer import Offer
from tarnfell.farend.session import Admit, serve
from tarnfell.media import host
from tarnfell.media.channel import Channel
from tarnfell.media.diary import note
from tarnfell.media.host import die_with
from tarnfell.wire.control import DEFAULT_MEDIA_PORTS, DEFAULT_PORT

MAX_SESSIONS = 16
"""Of calls."""
MAX_STAMPING = 64
"""Sessions of a watch, which cost next to nothing: a socket and a process that sleeps."""
MAX_FILLING = 64
"""TCP streams that fill a line: two probes at the most streams both ways."""
MAX_BROWSERS = 24
"""Sessions with browsers: a process each, of some forty megabytes."""
MAX_OPENINGS = 64
"""Connections that have not shown the key yet."""
MOST_SEATS = MAX_OPENINGS + MAX_SESSIONS + MAX_STAMPING + MAX_FILLING + MAX_BROWSERS
END_LIMIT_S = 1.0
"""For a session to end when the far end is told to."""
_LOOK_S = 0.1
_SHORT_S = 0.2


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
    certificate: Path | None = None
    """For SIP over TLS (certificate.py)."""
    browsers: Callable[[Channel, Offer, Any], None] | None = None
    """Serves calls with browsers; None to take none."""


def listen(config: FarEndConfig) -> socket.socket:
    """The listening control socket. Raises FarEndError."""
    if config.last_media_port - config.first_media_port < 1:
        raise FarEndError("The media port range must hold at least two ports: one for a call, one for time stamps.")
    try:
        info = socket.getaddrinfo(config.address, config.control_port, type=socket.SOCK_STREAM)[0]
        sock = socket.socket(info[0], socket.SOCK_STREAM)
        sock.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        sock.bind(info[4])
        sock.listen(MAX_OPENINGS)
        return sock
    except OSError as error:
        raise FarEndError(
            f"The far end cannot listen on {config.address} port {config.control_port}: {error.strerror or error}."
        ) from None


def run(listener: socket.socket, config: FarEndConfig, key: bytes, stop: threading.Event | None = None) -> None:
    """Accept sessions until ``stop`` is set or the process is told to end.

    Whoever connects sits among the openings until it has shown the key. Those are many, and where they are full the
    oldest has to leave: it could have shown the key long ago.
    """
    seats = _Seats()
    taken: dict[int, _Session] = {}
    listener.settimeout(_LOOK_S)
    short = False
    while stop is None or not stop.is_set():
        for seat in [seat for seat, session in taken.items() if session.is_over()]:
            del taken[seat]
            seats.free(seat)
        try:
            sock, _ = listener.accept()
        except socket.timeout:
            continue
        except OSError as error:
            if listener.fileno() < 0 or error.errno in (errno.EBADF, errno.EINVAL):
                break  # it was closed
            if not short:
                note(f"far end: no connection can be taken now: {error.strerror}.")
            short = True
            time.sleep(_SHORT_S)  # of descriptors or memory; sessions that end give some back
            continue
        short = False
        openings = [seat for seat in taken if not seats.is_admitted(seat)]
        # One that is just asking to be let in may count as neither for a moment.
        if openings and (len(openings) >= MAX_OPENINGS or len(taken) >= MOST_SEATS):
            taken.pop(openings[0]).end()
            seats.free(openings[0])
        # Media answers from the very address the probe reached, also on a host with several.
        halves = Halves(config.keep) if config.keep else None
        ports = (config.first_media_port, config.last_media_port)
        offer = Offer(
            sock.family,
            sock.getsockname()[0],
            *ports,
            halves,
            config.certificate,
            config.browsers,
            listener.getsockname()[0],
        )
        seat = seats.take()
        start = _Forked if host.HERE.forks else _Threaded
        try:
            taken[seat] = start(listener, sock, key, offer, lambda sort, seat=seat: seats.admit(seat, sort))  # type: ignore[misc]
        except OSError as error:
            note(f"far end: a session could not be started: {error.strerror}.")
            sock.close()
            seats.free(seat)
    for session in taken.values():
        session.end()


class _Seats:
    """Who has connected and who has shown the key, for the listening process and those of its sessions to see."""

    _FREE, _OPENING, _CALLS, _STAMPS, _FILL, _BROWSERS = range(6)
    _ROOM: ClassVar = {
        "calls": (_CALLS, MAX_SESSIONS),
        "stamps": (_STAMPS, MAX_STAMPING),
        "fill": (_FILL, MAX_FILLING),
        "browsers": (_BROWSERS, MAX_BROWSERS),
    }

    def __init__(self) -> None:
        self._marks = mmap.mmap(-1, MOST_SEATS)

    def take(self) -> int:
        """There is one: openings and sessions are bounded apart."""
        seat = self._marks[:].index(self._FREE)
        self._marks[seat] = self._OPENING
        return seat

    def admit(self, seat: int, sort: str) -> bool:
        """Whether there is room for another such session. Two that ask at once may both be told no, never both yes."""
        mark, most = self._ROOM[sort]
        self._marks[seat] = mark
        if self._marks[:].count(mark) <= most:
            return True
        self._marks[seat] = self._OPENING
        return False

    def is_admitted(self, seat: int) -> bool:
        return self._marks[seat] not in (self._FREE, self._OPENING)

    def free(self, seat: int) -> None:
        self._marks[seat] = self._FREE


class _Session(Protocol):
    """One connection being served beside the listening."""

    def is_over(self) -> bool: ...

    def end(self) -> None: ...


class _Forked:
    """In a process of its own, so that one session cannot disturb the timing of another."""

    def __init__(self, listener: socket.socket, sock: socket.socket, key: bytes, offer: Offer, admit: Admit) -> None:
        parent = os.getpid()
        self._pid = os.fork()
        if self._pid == 0:
            code = 1
            try:
                die_with(parent)
                signal.signal(signal.SIGTERM, signal.SIG_DFL)
                listener.close()
                serve(sock, key, offer, admit)
                code = 0
            except BaseException as error:
                note(f"far end: session ended by {error!r}")
            finally:
                os._exit(code)
        sock.close()

    def is_over(self) -> bool:
        return bool(os.waitpid(self._pid, os.WNOHANG)[0])

    def end(self) -> None:
        """One only just forked still has the listening process's way of taking SIGTERM; it is not waited for."""
        try:
            os.kill(self._pid, signal.SIGTERM)
            deadline = time.monotonic() + END_LIMIT_S
            while not os.waitpid(self._pid, os.WNOHANG)[0]:
                if time.monotonic() > deadline:
                    os.kill(self._pid, signal.SIGKILL)
                    deadline = float("inf")
                time.sleep(0.02)
        except OSError:
            pass


class _Threaded:
    """Where the system does not fork."""

    def __init__(self, listener: socket.socket, sock: socket.socket, key: bytes, offer: Offer, admit: Admit) -> None:
        self._sock = sock
        self._thread = threading.Thread(target=serve, args=(sock, key, offer, admit), daemon=True)
        self._thread.start()

    def is_over(self) -> bool:
        return not self._thread.is_alive()

    def end(self) -> None:
        try:
            self._sock.shutdown(socket.SHUT_RDWR)
        except OSError:
            pass
        self._thread.join(END_LIMIT_S)
