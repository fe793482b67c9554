"""Sessions of calls over WebSocket (RFC 6455), each opened once by the token that the server made for it.

What comes over TCP is neither lost nor out of order; it comes late. So what is measured is what a meeting's client has
that falls back to the way of web pages, and never what the site's calls would have.
"""

from __future__ import annotations

import asyncio
import logging
import re
import signal
import sqlite3
from collections import deque
from collections.abc import Callable
from contextlib import AbstractAsyncContextManager, closing
from dataclasses import dataclass
from http import HTTPStatus
from pathlib import Path
from weakref import WeakKeyDictionary

from websockets.asyncio.server import Server, ServerConnection, serve
from websockets.exceptions import ConnectionClosed
from websockets.http11 import Request, Response

from tarnfell.farend.halves import Halves
from tarnfell.media.browser.far_side import FarSide
from tarnfell.media.browser.talk import Talk
from tarnfell.store import browsers as browser_store
from tarnfell.store.db import connect, writing
from tarnfell.wire.browser import MAX_FILLING, PACKET_BYTES, SOCKET_PATH, CallsAsked

log = logging.getLogger(__name__)

ARRANGEMENT = "a WebSocket over TCP, one loop"
MOST_AT_ONCE = 8
"""Sessions; each takes some hundred packets a second."""
MOST_MESSAGE = 4096
OPEN_S, CLOSE_S = 10.0, 2.0
MOST_WAITING = 4 * (MAX_FILLING + PACKET_BYTES) * 1024
"""Bytes that wait for a line that takes nothing: then the session is over."""
_PATH = re.compile(re.escape(SOCKET_PATH) + r"([0-9a-f]{64})")


def serve_forever(data: Path, host: str, port: int) -> None:
    """Until the process is told to end. Raises OSError where the address cannot be used."""
    asyncio.run(_serve(data, host, port))


async def _serve(data: Path, host: str, port: int) -> None:
    stop = asyncio.Event()
    for number in (signal.SIGTERM, signal.SIGINT):
        asyncio.get_running_loop().add_signal_handler(number, stop.set)
    async with listening(data, host, port):
        log.info("tests from browsers over WebSocket at %s port %s", host, port)
        await stop.wait()


def listening(data: Path, host: str, port: int) -> AbstractAsyncContextManager[Server]:
    """To be entered as a context. Raises OSError then, where the address cannot be used."""
    hall = Hall(data)
    return serve(
        hall.session, host, port, process_request=hall.admitted, compression=None, max_size=MOST_MESSAGE,
        ping_interval=None, open_timeout=OPEN_S, close_timeout=CLOSE_S, server_header=None, logger=_quiet(),
    )  # fmt: skip


def _quiet() -> logging.Logger:
    """Strangers' broken handshakes are no errors of ours."""
    quiet = logging.getLogger("websockets.server")
    quiet.setLevel(logging.CRITICAL)
    return quiet


@dataclass(frozen=True)
class Admitted:
    token: str
    asked: CallsAsked


class Hall:
    """Who may come in, and who is in."""

    def __init__(self, data: Path) -> None:
        self._data = data
        self._halves = Halves(data / browser_store.SOCKET_HALVES)
        self._admitted: WeakKeyDictionary[ServerConnection, Admitted] = WeakKeyDictionary()
        self._inside = 0

    async def admitted(self, connection: ServerConnection, request: Request) -> Response | None:
        """None where the session may begin, as ``serve`` asks."""
        found = _PATH.fullmatch(request.path)
        if found is None:
            return connection.respond(HTTPStatus.NOT_FOUND, "There is nothing here.\n")
        if self._inside >= MOST_AT_ONCE:
            return connection.respond(HTTPStatus.SERVICE_UNAVAILABLE, "Too many tests are under way.\n")
        token = found[1]
        try:
            asked = await asyncio.to_thread(self._taken_up, token)
        except (OSError, sqlite3.Error):
            log.exception("a test over WebSocket cannot begin")
            return connection.respond(HTTPStatus.SERVICE_UNAVAILABLE, "The server cannot keep it now.\n")
        if asked is None:
            return connection.respond(HTTPStatus.NOT_FOUND, "There is nothing here.\n")
        self._admitted[connection] = Admitted(token, asked)
        return None

    def _taken_up(self, token: str) -> CallsAsked | None:
        with closing(connect(self._data)) as db:
            if not browser_store.socket_waits(db, token):
                return None  # strangers who try tokens hold nobody up who writes
            with writing(db):
                return browser_store.take_up_socket(db, token)

    async def session(self, connection: ServerConnection) -> None:
        """As ``serve`` calls it once the connection is open."""
        one = self._admitted[connection]
        self._inside += 1
        try:
            await _Session(connection, one.asked).serve(lambda half: self._halves.keep(one.token, half))
        finally:
            self._inside -= 1


class _Session:
    """Packets and words over one connection."""

    def __init__(self, connection: ServerConnection, asked: CallsAsked) -> None:
        self._connection = connection
        self._out: deque[bytes | str] = deque()
        self._waiting = 0
        self._more = asyncio.Event()
        self._side = FarSide(asked, self._put, ARRANGEMENT)
        self._talk = Talk(self._side, asked.seconds, self._put)

    async def serve(self, keep: Callable[[bytes], bool]) -> None:
        tasks = [asyncio.ensure_future(one()) for one in (self._listen, self._send)]
        try:
            if not await self._talk.begun():
                return
            await self._talk.carry_on()
            if not await asyncio.to_thread(keep, self._side.half()):
                log.error("this end's packets of a test over WebSocket could not be kept")
                return
            self._talk.say(kept=True)
            await asyncio.wait(tasks, timeout=CLOSE_S, return_when=asyncio.FIRST_COMPLETED)  # the page closes it
        finally:
            for task in tasks:
                task.cancel()
            await asyncio.gather(*tasks, return_exceptions=True)

    def _put(self, message: bytes | str) -> None:
        """In a queue: a line that takes nothing must not keep the next packet from being due."""
        self._waiting += len(message)
        if self._waiting > MOST_WAITING:
            self._talk.end()
            return
        self._out.append(message)
        self._more.set()

    async def _send(self) -> None:
        try:
            while True:
                await self._more.wait()
                self._more.clear()
                while self._out:
                    message = self._out.popleft()
                    await self._connection.send(message)
                    self._waiting -= len(message)
        except ConnectionClosed:
            self._talk.end()

    async def _listen(self) -> None:
        try:
            async for message in self._connection:
                if isinstance(message, bytes):
                    self._side.take(message)
                else:
                    self._talk.told(message)
        except ConnectionClosed:
            pass
        self._talk.end()
