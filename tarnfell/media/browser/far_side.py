"""The far end of calls with one browser: what it sends on time, what arrived, and when; in plain numbers."""

from __future__ import annotations

import time
from array import array
from collections.abc import Callable
from dataclasses import dataclass, field

from tarnfell.wire import WireError
from tarnfell.wire.browser import QUESTION, CallsAsked, Packet, Question
from tarnfell.wire.kinds.fields import plain
from tarnfell.wire.kinds.reach import FarReach
from tarnfell.wire.kinds.selfcheck import LOOP_P99_LIMIT_MS, EndCheck, judge, lateness_of
from tarnfell.wire.record import Record, join_parts

TICK_S = 0.002
MOST_ARRIVALS = 4
"""Of a call, as a multiple of the packets that were planned: what comes beyond that is counted as a stray."""
MOST_QUESTIONS = 20_000


def now_us() -> int:
    return time.time_ns() // 1000


@dataclass
class _Call:
    sent_us: array[int] = field(default_factory=lambda: array("q"))
    arrival_seq: array[int] = field(default_factory=lambda: array("q"))
    arrival_us: array[int] = field(default_factory=lambda: array("q"))


class FarSide:
    """Takes messages as they come, and sends its own when ``turn`` is called; ``send`` puts one on its way."""

    def __init__(self, asked: CallsAsked, send: Callable[[bytes], None], arrangement: str) -> None:
        self._asked, self._send, self._arrangement = asked, send, arrangement
        self._calls = [_Call() for _ in range(asked.calls)]
        self._begun: float | None = None
        self._late_us: list[int] = []
        self._lag_us: list[int] = []
        self._due = 0.0
        self._strays = self._questions = 0
        self.stopped = False
        self.queue_drops = 0
        """What the system dropped of what came for this end."""

    def begin(self) -> None:
        """Packets are due from now on."""
        if self._begun is None:
            self._begun = time.monotonic()

    @property
    def done(self) -> bool:
        """Whether all has been sent that was to be, or no more is wanted."""
        return self.stopped or all(len(call.sent_us) >= self._asked.packets for call in self._calls)

    def take(self, data: bytes) -> None:
        """A message from the browser, at this instant."""
        at = now_us()
        try:
            if data[:1] == bytes([QUESTION]) and self._questions < MOST_QUESTIONS:
                self._questions += 1
                self._send(Question.parse(data).answered(at, now_us()))
                return
            packet = Packet.parse(data)
        except WireError:
            self._strays += 1
            return
        most = MOST_ARRIVALS * self._asked.packets
        call = self._calls[packet.call] if packet.call < len(self._calls) else None
        if call is None or packet.sequence_number >= self._asked.packets or len(call.arrival_seq) >= most:
            self._strays += 1
            return
        call.arrival_seq.append(packet.sequence_number)
        call.arrival_us.append(at)

    def turn(self) -> None:
        """Send what is due. The calls are spread over an interval, so that they do not come in one burst."""
        now = time.monotonic()
        if self._due:
            self._lag_us.append(max(0, round((now - self._due) * 1e6)))
        self._due = now + TICK_S
        if self._begun is None or self.done:
            return
        interval_s = self._asked.interval_ms / 1000
        for number, call in enumerate(self._calls):
            offset = interval_s * number / len(self._calls)
            while len(call.sent_us) < self._asked.packets:
                due = self._begun + offset + len(call.sent_us) * interval_s
                if due > now:
                    break
                at = now_us()
                self._send(Packet(number, len(call.sent_us), float(at)).serialize(self._asked.filling))
                call.sent_us.append(at)
                self._late_us.append(round((time.monotonic() - due) * 1e6))

    def progress(self) -> dict[str, object]:
        """Of each call, packets sent so far, those that should have come up to the newest, and those that did."""
        return {
            "sent": [len(call.sent_us) for call in self._calls],
            "reached": [max(call.arrival_seq, default=-1) + 1 for call in self._calls],
            "received": [len(set(call.arrival_seq)) for call in self._calls],
        }

    def half(self, reach: FarReach | None = None) -> bytes:
        """What this end has of the calls, as ``tarnfell.farend.halves`` keeps it."""
        check = EndCheck(
            arrangement=self._arrangement,
            receive_stamps="program",
            send_late_ms=lateness_of(self._late_us),
            scatter_ms=lateness_of(self._lag_us),
            receive_queue_drops=self.queue_drops,
            strays=self._strays,
        )
        about: dict[str, object] = {"self_check": plain(check), "reasons": judge("far end", check, LOOP_P99_LIMIT_MS)}
        if reach is not None:
            about["reach"] = plain(reach)
        records = [
            Record.of(
                {"call": number},
                {"sent_us": call.sent_us, "arrival_seq": call.arrival_seq, "arrival_us": call.arrival_us},
            ).serialize()
            for number, call in enumerate(self._calls)
        ]
        return join_parts([Record({"about": about}).serialize(), *records])
