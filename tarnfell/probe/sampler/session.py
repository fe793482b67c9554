"""The session with one far end that answers time stamps: opened, kept alive, and opened again after an outage."""

from __future__ import annotations

import socket
import threading
import time
from typing import NamedTuple

from tarnfell.media.channel import Channel, ChannelClosed
from tarnfell.media.sockets import open_media_socket
from tarnfell.probe.connect import CallError, connect
from tarnfell.wire import WireError
from tarnfell.wire.kinds.watch import WatchTarget

ALIVE_EVERY_S = 15.0
ANSWER_S = 20.0
LOOK_S = 0.5
FIRST_PAUSE_S, LONGEST_PAUSE_S = 1.0, 30.0


class Way(NamedTuple):
    """Where time stamps go: a socket connected to the far end, and the key of this session."""

    sock: socket.socket
    key: bytes


class Session:
    """A thread keeps it. When the line breaks the way stays as it is, so that what is sent meanwhile counts as lost,
    until the far end can be asked for a new one."""

    def __init__(self, target: WatchTarget) -> None:
        self._target = target
        self._ended = threading.Event()
        self.way: Way | None = None
        self.trouble: str | None = "the far end has not answered yet"
        self._thread = threading.Thread(target=self._keep, daemon=True)
        self._thread.start()

    def end(self) -> None:
        self._ended.set()

    def _keep(self) -> None:
        pause_s = FIRST_PAUSE_S
        while not self._ended.is_set():
            try:
                channel, _, purpose = connect(self._target.host, self._target.port, self._target.key.encode())
            except CallError as error:
                self.trouble = str(error)
            else:
                try:
                    self.way = self._opened(channel, purpose("stamp"))
                    self.trouble = None
                    pause_s = FIRST_PAUSE_S
                    self._stay(channel)
                    return  # ended from here
                except (ChannelClosed, TimeoutError, OSError) as error:
                    self.trouble = f"The far end at {self._target.host} went away: {error}"
                except WireError as error:
                    self.trouble = f"The far end at {self._target.host} was not understood: {error}"
                except _Refused as error:
                    self.trouble = str(error)
                finally:
                    channel.close()
            self._ended.wait(pause_s)
            pause_s = min(LONGEST_PAUSE_S, 2 * pause_s)

    def _opened(self, channel: Channel, key: bytes) -> Way:
        channel.send({"stamps": {"dscp": self._target.dscp}})
        answer = channel.receive_json(ANSWER_S)
        if "refused" in answer:
            raise _Refused(f"The far end at {self._target.host} refused: {answer['refused']}")
        try:
            port = int(answer["accepted"]["stamp_port"])
        except (KeyError, TypeError, ValueError):
            raise WireError("a port for time stamps was expected.") from None
        sock = open_media_socket(channel.socket.family, channel.own_address(), 0, self._target.dscp)
        sock.connect((channel.peer_address(), port))
        return Way(sock, key)

    def _stay(self, channel: Channel) -> None:
        alive_s = time.monotonic() + ALIVE_EVERY_S
        while not self._ended.is_set():
            if channel.waiting(LOOK_S):
                channel.receive_json(ANSWER_S)  # an answer, or the end of the connection
            if time.monotonic() >= alive_s:
                channel.send({"alive": {}})
                channel.receive_json(ANSWER_S)
                alive_s = time.monotonic() + ALIVE_EVERY_S
        channel.send({"finish": {}})


class _Refused(Exception):
    """The far end would not; the text says why."""
