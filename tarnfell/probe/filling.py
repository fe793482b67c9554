"""TCP streams to and from a far end that fill the line, one way after the other, to a plan.

Streams are opened in the rest before they are wanted, so that opening them costs nothing of the time. They run in
threads: the media beside them has processes of its own, where the system forks.
"""

from __future__ import annotations

import socket
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass
from typing import Literal

from tarnfell.media import bulk, tcp
from tarnfell.media.channel import LAST_BYTES, Channel, ChannelClosed
from tarnfell.probe.connect import CallError, connect
from tarnfell.wire import WireError
from tarnfell.wire.kinds.fill import FillPhase, FillPlan, SenderFacts, Way

Side = Literal["up", "down"]
_SIDES: dict[str, tuple[Side, ...]] = {"up": ("up",), "down": ("down",), "both": ("up", "down")}
_LAST_SLOTS_S = 1.0
"""After the last byte was sent: for the far end to tell of it."""
_LOOK_S = 0.1
SPENT = "The streams have moved what they may on this metered line."


@dataclass(frozen=True)
class FarEnd:
    host: str
    port: int
    key: bytes


class Filling:
    """The plan carried out beside whatever else is on the line. ``start``, look at ``phases``, ``finish``."""

    def __init__(self, far: FarEnd, plan: FillPlan, go_on: Callable[[], bool]) -> None:
        self._far = far
        self._plan = plan
        self._wanted = go_on
        self._ended = threading.Event()
        self._thread = threading.Thread(target=self._run, daemon=True)
        self.phases: list[FillPhase] = []
        """Those that are over, and the one under way."""

    def start(self) -> None:
        self._thread.start()

    def stop(self) -> None:
        """End every stream now."""
        self._ended.set()

    def finish(self) -> tuple[FillPhase, ...]:
        """What was done, once it is."""
        self._thread.join()
        return tuple(self.phases)

    def _goes_on(self) -> bool:
        return not self._ended.is_set() and self._wanted()

    def _wait(self, until: float) -> None:
        while self._goes_on() and (left := until - time.monotonic()) > 0:
            time.sleep(min(left, _LOOK_S))

    def _run(self) -> None:
        begun, begun_us = time.monotonic(), time.time_ns() // 1000
        at = begun + self._plan.idle_s
        for number, way in enumerate(self._plan.ways):
            streams, failure = self._open(way)
            self._wait(at)
            if number == 0:
                self.phases.append(FillPhase("idle", begun_us, time.time_ns() // 1000))
            if not self._goes_on():
                for one in streams:
                    one.end()
                return
            self.phases.append(self._fill(way, streams, failure))
            at += self._plan.seconds + self._plan.rest_s
        self._wait(at)

    def _open(self, way: Way) -> tuple[list[_Stream], str | None]:
        """As many as the plan says, together; fewer, with the reason, where the far end does not take them."""
        sides = [side for side in _SIDES[way] for _ in range(self._plan.streams)]
        kbps = -(-self._plan.ceiling_kbps // self._plan.streams)
        streams = [_Stream(self._far, side, self._plan.seconds, kbps) for side in sides]
        openers = [threading.Thread(target=one.open, daemon=True) for one in streams]
        for opener in openers:
            opener.start()
        for opener in openers:
            opener.join()
        failures = [one.failure for one in streams if one.failure]
        return [one for one in streams if not one.failure], failures[0] if failures else None

    def _fill(self, way: Way, streams: list[_Stream], failure: str | None) -> FillPhase:
        from_us, end = time.time_ns() // 1000, time.monotonic() + self._plan.seconds
        workers = [threading.Thread(target=one.run, args=(self._goes_on,), daemon=True) for one in streams]
        for worker in workers:
            worker.start()
        while streams and self._goes_on() and time.monotonic() < end:
            time.sleep(min(_LOOK_S, max(0.0, end - time.monotonic())))
            if self._is_spent(streams):
                failure = failure or SPENT
                self._ended.set()
        until_us = time.time_ns() // 1000
        for one in streams:
            one.over.set()
        for one, worker in zip(streams, workers):
            worker.join(_LAST_SLOTS_S + 0.5)
            if worker.is_alive():
                one.cut()  # it waits on a line that takes nothing any more
                worker.join()
        failure = failure or next((one.failure for one in streams if one.failure), None)
        ups, downs = ([one for one in streams if one.side == side] for side in ("up", "down"))
        return FillPhase(
            way, from_us, until_us, _together(ups), _together(downs), _sender(ups), _sender(downs), failure,
        )  # fmt: skip

    def _is_spent(self, streams: list[_Stream]) -> bool:
        """Whether the streams have moved what they may on a metered line."""
        most = self._plan.most_bytes
        before = sum(sum(one.up) + sum(one.down) for one in self.phases)
        return bool(most) and before + sum(one.moved for one in streams) >= most


class _Stream:
    """One TCP connection that carries noise one way."""

    def __init__(self, far: FarEnd, side: Side, seconds: float, kbps: int) -> None:
        self.side = side
        self.over = threading.Event()
        """The time is over; what is still on its way is waited for a moment."""
        self.failure: str | None = None
        self.slots: list[int] = []
        self.moved = 0
        """Bytes so far, as this end knows it."""
        self.sent = tcp.TcpFacts()
        self.congestion: str | None = None
        self._far = far
        self._seconds = seconds
        self._kbps = kbps
        self._channel: Channel | None = None

    def open(self) -> None:
        try:
            channel, _, _ = connect(self._far.host, self._far.port, self._far.key)
        except CallError as error:
            self.failure = str(error)
            return
        self._channel = channel
        try:
            tcp.prepare(channel.socket)
            channel.send({"fill": {"way": self.side, "seconds": self._seconds, "kbps": self._kbps}})
            answer = channel.receive_json()
            if "accepted" not in answer:
                self.failure = f"The far end refused to fill the line: {answer.get('refused', 'it does not know how')}"
            else:
                told = answer["accepted"].get("congestion")
                self.congestion = tcp.congestion_of(channel.socket) if self.side == "up" else told
        except (ChannelClosed, TimeoutError, WireError, AttributeError) as error:
            self.failure = f"A stream to the far end could not be opened: {error}"
        if self.failure:
            self.end()

    def end(self) -> None:
        if self._channel is not None:
            tcp.drop(self._channel.socket)

    def cut(self) -> None:
        """Wake whatever waits for the connection, which is over."""
        if self._channel is not None:
            try:
                self._channel.socket.shutdown(socket.SHUT_RDWR)
            except OSError:
                pass

    def run(self, go_on: Callable[[], bool]) -> None:
        assert self._channel is not None
        try:
            if self.side == "up":
                self._send(self._channel, go_on)
            else:
                self._take(self._channel, go_on)
        except (OSError, WireError) as error:
            if not self.over.is_set():
                self.failure = f"A stream ended before its time: {error}"
        finally:
            self.end()

    def _send(self, channel: Channel, go_on: Callable[[], bool]) -> None:
        listener = threading.Thread(target=self._hear, args=(channel,), daemon=True)
        listener.start()
        bulk.pour(channel.socket, self._seconds, self._kbps, lambda: go_on() and not self.over.is_set(), self._count)
        self.sent = tcp.facts_of(channel.socket)
        self.over.set()
        listener.join(_LAST_SLOTS_S)

    def _count(self, moved: int) -> None:
        self.moved += moved

    def _hear(self, channel: Channel) -> None:
        """What the far end tells of the slots that have passed."""
        late = None
        while late is None or time.monotonic() < late:
            if late is None and self.over.is_set():
                late = time.monotonic() + _LAST_SLOTS_S
            try:
                if channel.waiting(_LOOK_S):
                    got = channel.receive_json().get("got")
                    self.slots += [int(count) for count in got] if isinstance(got, list) else []
            except (OSError, ValueError, TypeError):
                return  # the stream has ended; what was told until then stands

    def _take(self, channel: Channel, go_on: Callable[[], bool]) -> None:
        channel.send({"go": {}})
        slots, tail = bulk.Slots(), b""
        room = memoryview(bytearray(4 * bulk.BLOCK_BYTES))
        late = None
        while late is None or time.monotonic() < late:
            if not go_on():
                break
            if late is None and self.over.is_set():
                late = time.monotonic() + _LAST_SLOTS_S
            if not channel.waiting(_LOOK_S):
                continue
            count = channel.socket.recv_into(room)
            if not count:
                told = channel.open_last(tail).get("sent")
                self.sent = tcp.TcpFacts(**told) if isinstance(told, dict) else self.sent
                break
            slots.add(count)
            self._count(count)
            tail = (tail + bytes(room[max(0, count - LAST_BYTES) : count]))[-LAST_BYTES:]
        self.slots = slots.bytes


def _queued_ms(one: tcp.TcpFacts) -> float:
    return max(0, (one.rtt_us or 0) - (one.least_rtt_us or 0)) / 1000


def _together(streams: list[_Stream]) -> tuple[int, ...]:
    length = max((len(one.slots) for one in streams), default=0)
    return tuple(sum(one.slots[i] for one in streams if i < len(one.slots)) for i in range(length))


def _sender(streams: list[_Stream]) -> SenderFacts | None:
    if not streams:
        return None
    told = [one.sent for one in streams]

    def total(name: str) -> int | None:
        known = [getattr(one, name) for one in told if getattr(one, name) is not None]
        return sum(known) if known else None

    busy, receiver, sender = total("busy_us"), total("receiver_limited_us"), total("sender_limited_us")
    return SenderFacts(
        streams[0].congestion,
        total("sent_bytes"),
        total("retransmitted_bytes"),
        100 * receiver / busy if busy and receiver is not None else None,
        100 * sender / busy if busy and sender is not None else None,
        max((_queued_ms(one) for one in told if one.least_rtt_us is not None), default=None),
    )
