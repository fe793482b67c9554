"""The watch itself: at each interval one round, all targets at the same instant, and in the pauses their answers."""

from __future__ import annotations

import select
import socket
import time
from collections import deque
from collections.abc import Callable
from dataclasses import dataclass

from tarnfell.media import host
from tarnfell.media.sockets import receive
from tarnfell.probe.sampler.echoes import Echoes
from tarnfell.probe.sampler.rows import PENDING, Row, Rows
from tarnfell.probe.sampler.session import Session, Way
from tarnfell.probe.surroundings import link_is_down
from tarnfell.wire import WireError, ntp, stamp
from tarnfell.wire.kinds.watch import NO_SESSION, NOT_SENT, Watch

BATCH_US = 10_000_000
"""How much is lost with this process, and how fresh the screen is."""
LOOK_S = 0.1
"""How soon an order is heeded."""
OPENS_WITHIN_S = 2.0
_AT_ONCE = 256
IP_HEAD_BYTES, IPV6_HEAD_BYTES, UDP_HEAD_BYTES = 20, 40, 8
MOST_UNKEPT = 2000
"""Batches; about six hours."""


@dataclass(frozen=True)
class Orders:
    """What the sampler asks whoever runs it."""

    go_on: Callable[[], bool]
    beside: Callable[[], int]
    """The job that loads the line just now; 0 for none."""
    keep: Callable[[int, bytes], None]
    """A batch and the time of its first sample. May raise OSError: the disk is full."""
    trouble: Callable[[str | None], None]
    """Why no samples can be taken; None once they can."""


def sample(watch: Watch, orders: Orders, to_the_last: bool = False) -> None:
    """Until ``orders.go_on`` says no; ``to_the_last`` then waits for what is under way, for seconds."""
    sessions = [Session(target) for target in watch.targets]
    echoes = Echoes(watch.echoes, watch.large_bytes)
    try:
        sampler = _Sampler(watch, sessions, echoes, orders)
        sampler.run()
        if to_the_last:
            sampler.await_the_last()
    finally:
        echoes.close()
        for session in sessions:
            session.end()


class _Sampler:
    def __init__(self, watch: Watch, sessions: list[Session], echoes: Echoes, orders: Orders) -> None:
        self._watch = watch
        self._sessions = sessions
        self._echoes = echoes
        self._clock = host.ClockWatch()
        self._round = 0
        self._orders = orders
        self._rows = Rows()
        self._ways: list[Way] = []
        """Every way so far that may still bring an answer, newest last."""
        self._unkept: deque[tuple[int, bytes]] = deque(maxlen=MOST_UNKEPT)
        self._disk_trouble: str | None = None
        self._number = 0
        self._asleep_ns = host.asleep_ns()
        self._trouble: str | None = ""
        self._meta = {
            "watch": watch.id,
            "version": watch.version,
            "interval_ms": watch.interval_ms,
            "targets": [target.far_end_id for target in watch.targets],
            "echoes": [[one.role, one.address] for one in watch.echoes],
            "large_bytes": watch.large_bytes if watch.large_every else 0,
            "clock_id": host.clock_id(),
        }

    def run(self) -> None:
        interval_ns = self._watch.interval_ms * 1_000_000
        self._await_sessions()
        due_ns = time.monotonic_ns()
        while self._orders.go_on():
            now_ns = time.monotonic_ns()
            if self._woke():
                due_ns = now_ns = time.monotonic_ns()
            self._heed_the_clock()
            if now_ns >= due_ns:
                missed = (now_ns - due_ns) // interval_ns
                if missed:
                    self._rows.stood_still(_wall_us(due_ns), _wall_us(due_ns + missed * interval_ns))
                    due_ns += missed * interval_ns
                self._send_all(_wall_us(due_ns))
                due_ns += interval_ns
            self._listen(min(LOOK_S, max(0.0, (due_ns - time.monotonic_ns()) / 1e9)))
            self._rows.settle(time.time_ns() // 1000)
            oldest_us = self._rows.oldest_us()
            if oldest_us is not None and time.time_ns() // 1000 - oldest_us > BATCH_US:
                self._keep()
            self._tell_trouble()
        self._keep()

    def await_the_last(self) -> None:
        while self._rows.waits():
            self._listen(LOOK_S)
            self._rows.settle(time.time_ns() // 1000)
        self._keep()

    def _await_sessions(self) -> None:
        """So that what is due in the first second is not told as never sent."""
        until = time.monotonic() + OPENS_WITHIN_S
        while self._orders.go_on() and time.monotonic() < until and any(s.way is None for s in self._sessions):
            time.sleep(0.02)

    def _send_all(self, due_us: int) -> None:
        beside = self._orders.beside()
        if link_is_down():  # then nothing leaves this machine, whatever the system says of it
            for target in range(len(self._sessions) + len(self._watch.echoes)):
                self._rows.add(Row(due_us, target, NOT_SENT, beside), None)
            return
        every = self._watch.large_every
        large = every > 0 and self._round % every == every - 1
        self._round += 1
        for target, session in enumerate(self._sessions):
            self._number += 1
            row = Row(due_us, target, NO_SESSION, beside, large=int(large))
            if session.way is not None:
                self._send_stamp(row, session.way)
            self._rows.add(row, self._number & 0xFFFFFFFF)
        for i, sent in enumerate(self._echoes.send(large) if self._watch.echoes else ()):
            row = Row(due_us, len(self._sessions) + i, NOT_SENT, beside, large=int(large))
            if sent is not None:
                row.fate, row.t1_ns = PENDING, sent.at_ns
            self._rows.add(row, sent.number if sent else None)

    def _send_stamp(self, row: Row, way: Way) -> None:
        if way not in self._ways:
            self._ways = [*self._ways, way][-2 * len(self._sessions) :]
        padding = b""
        if row.large:
            heads = IP_HEAD_BYTES if way.sock.family == socket.AF_INET else IPV6_HEAD_BYTES
            padding = stamp.extra_padding(self._watch.large_bytes - heads - UDP_HEAD_BYTES - stamp.AUTHENTICATED_BYTES)
        t1 = time.time_ns()
        packet = stamp.SenderPacket(self._number & 0xFFFFFFFF, ntp.from_unix_ns(t1)).serialize(way.key)
        try:
            way.sock.send(packet + padding)
        except ConnectionRefusedError:
            pass  # of a packet before: the far end's port is closed
        except OSError:
            row.fate = NOT_SENT  # this machine has no way out at all
            return
        row.fate, row.t1_ns = PENDING, t1

    def _listen(self, timeout_s: float) -> None:
        own = {way.sock: way for way in self._ways}
        echoes = self._echoes.socks
        if not own and not echoes:
            time.sleep(timeout_s)
            return
        ready = select.select([*own, *echoes], [], [], timeout_s)[0]
        if any(sock not in own for sock in ready):
            for number, took_ns in self._echoes.answers():
                self._rows.answer_echo(number, took_ns)
        for sock in ready:
            if sock in own:
                self._take_stamps(own[sock])

    def _take_stamps(self, way: Way) -> None:
        for _ in range(_AT_ONCE):
            try:
                arrival = receive(way.sock)
            except OSError:
                continue  # a port that is closed: the samples stay unanswered
            if arrival is None:
                break
            try:
                answer = stamp.ReflectorPacket.parse(arrival.data, way.key)
            except WireError:
                continue  # somebody else's
            t2, t3 = ntp.to_unix_ns(answer.receive_timestamp), ntp.to_unix_ns(answer.timestamp)
            self._rows.answer(answer.sender_sequence_number, t2, t3, arrival.time_ns)

    def _heed_the_clock(self) -> None:
        """A clock that is set begins a batch of its own: within one, times only rise."""
        self._clock.look()
        if self._clock.steps:
            self._clock.steps.clear()
            self._rows.give_up()
            self._keep()

    def _woke(self) -> bool:
        """Whether this machine has slept since it was last asked; what it slept through is noted."""
        asleep_ns = host.asleep_ns()
        slept_ns, self._asleep_ns = asleep_ns - self._asleep_ns, asleep_ns
        if slept_ns < self._watch.interval_ms * 1_000_000:
            return False
        now_us = time.time_ns() // 1000
        self._rows.stood_still(now_us - slept_ns // 1000, now_us)
        return True

    def _keep(self) -> None:
        """Where the disk takes nothing batches wait in memory, the newest of them, and the trouble is told."""
        kept = self._rows.batch(self._meta)
        if kept is not None:
            self._unkept.append(kept)
        try:
            while self._unkept:
                self._orders.keep(*self._unkept[0])
                self._unkept.popleft()
            self._disk_trouble = None
        except OSError as error:
            self._disk_trouble = f"The probe cannot write to its disk: {error.strerror}"

    def _tell_trouble(self) -> None:
        troubles = [self._disk_trouble, *(session.trouble for session in self._sessions), self._echoes.trouble]
        trouble = next((one for one in troubles if one), None)
        if trouble != self._trouble:
            self._trouble = trouble
            self._orders.trouble(trouble)


def _wall_us(monotonic_ns: int) -> int:
    """Unix time at an instant of the monotonic clock."""
    return (time.time_ns() - time.monotonic_ns() + monotonic_ns) // 1000
