"""TCP through the stand-in path: each connection's bytes take their place in the same queues as the packets of media.

What a real path does to TCP by dropping, this one does by taking no more while the queue is full: the senders keep it
full all the same, and media beside them meets the queue that a line has.
"""

from __future__ import annotations

import socket
from collections.abc import Callable
from dataclasses import dataclass, field

SEGMENT_BYTES = 1448
_PASSED_BYTES = 1 << 16
"""At once, where the path has no rate."""


@dataclass(eq=False)
class Stream:
    """One direction of one connection."""

    direction: str
    source: socket.socket
    sink: socket.socket
    on_its_way: int = 0
    """Segments in the lane."""
    out: bytearray = field(default_factory=bytearray)
    ended: bool = False
    """Nothing more comes from its source."""
    gone: bool = False
    """Its sink takes no more."""

    def read(self, limited: bool) -> bytes | None:
        """The next bytes; empty at the end, None where there are none now."""
        try:
            data = self.source.recv(SEGMENT_BYTES if limited else _PASSED_BYTES)
        except BlockingIOError:
            return None
        except OSError:
            data = b""
        if not data:
            self.ended = True
        return data

    def flush(self) -> None:
        """Give the sink what has come out of the lane, as far as it takes it."""
        while self.out and not self.gone:
            try:
                del self.out[: self.sink.send(self.out)]
            except BlockingIOError:
                return
            except OSError:
                self.gone = True
        if self.ended and not self.on_its_way and (not self.out or self.gone):
            self.finish()

    def finish(self) -> None:
        self.gone = True
        for sock, how in ((self.sink, socket.SHUT_WR), (self.source, socket.SHUT_RD)):
            try:
                sock.shutdown(how)
            except OSError:
                pass  # the other side was faster


def pair(near: socket.socket, far: socket.socket) -> tuple[Stream, Stream]:
    for sock in (near, far):
        sock.setblocking(False)
        sock.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        # Short, so that what waits, waits in the lane.
        sock.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 1 << 16)
    return Stream("up", near, far), Stream("down", far, near)


Admit = Callable[[Stream, bytes], None]


class Streams:
    """Every connection that goes through the path, looked after by the path's own loop."""

    def __init__(self, has_room: Callable[[str], bool], is_limited: Callable[[str], bool], admit: Admit) -> None:
        self._has_room, self._is_limited, self._admit = has_room, is_limited, admit
        self._streams: list[Stream] = []

    def add(self, near: socket.socket, far: socket.socket) -> None:
        self._streams += pair(near, far)

    @property
    def waiting(self) -> list[Stream]:
        """Those whose source may have something that there is room for."""
        return [one for one in self._streams if not one.ended and not one.gone and self._has_room(one.direction)]

    @property
    def stuck(self) -> bool:
        """Whether a sink has to be asked again soon."""
        return any(one.out and not one.gone for one in self._streams)

    def take_in(self) -> bool:
        """A segment of each in turn, as long as there is room. Whether anything came."""
        some = False
        for one in self.waiting:
            data = one.read(self._is_limited(one.direction))
            if data is None:
                continue
            some = True
            if data:
                one.on_its_way += 1
                self._admit(one, data)
            else:
                one.flush()
        self._forget()
        return some

    def let_out(self, stream: Stream, data: bytes) -> None:
        stream.on_its_way -= 1
        stream.out += data
        stream.flush()

    def flush(self) -> None:
        for one in self._streams:
            if one.out:
                one.flush()

    def _forget(self) -> None:
        """Connections of which both directions have ended."""
        ended = {one.source for one in self._streams if one.gone}
        over = [one for one in self._streams if one.gone and one.sink in ended]
        for one in over:
            one.source.close()
        self._streams = [one for one in self._streams if one not in over]
