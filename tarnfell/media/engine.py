"""One end of a run: sending and receiving side by side, and the record of both.

Sending and receiving are two processes, so that neither waits for the other's
interpreter lock. ``benchmarks/send_lateness.py`` compares this with the
other arrangements, which stay available for systems that cannot fork.
"""

from __future__ import annotations

import socket
import time
from collections.abc import Callable
from dataclasses import asdict, dataclass
from typing import Literal

from tarnfell.media import board as b
from tarnfell.media import host
from tarnfell.media.board import Board
from tarnfell.media.host import CpuWatch, clock_id, raise_priority
from tarnfell.media.receiver import Receiver, StampReceiver, StreamReceiver
from tarnfell.media.sender import StampSender, StreamSender, send_streams
from tarnfell.media.streams import StreamSpec
from tarnfell.media.workers import Forked, Threaded, Worker
from tarnfell.wire.kinds.selfcheck import EndCheck, end_check_of, lateness_of
from tarnfell.wire.record import PackedColumn, Record, pack_column

Arrangement = Literal["processes", "threads", "one loop"]
BEST: Arrangement = "processes" if host.HERE.forks else "threads"
SETTLE_S = 2.0
"""How long to listen after the last packet was sent (core.trace.GIVE_UP_US)."""
ARRIVAL_COLUMNS = ("arrival_seq", "arrival_us", "arrival_dscp", "arrival_ttl", "arrival_bytes")
STAMP_COLUMNS = ("t1_ns", "t2_ns", "t3_ns", "t4_ns")


@dataclass(frozen=True)
class CallMedia:
    """One call at this end: its socket, what it sends (None: nothing) and what it expects."""

    call: int
    sock: socket.socket
    outgoing: StreamSpec | None
    incoming: StreamSpec
    own_ssrc: int

    @property
    def sends(self) -> StreamSpec | None:
        """None where the description has no packets, too."""
        return self.outgoing if self.outgoing and self.outgoing.packets else None


@dataclass(frozen=True)
class EndResult:
    """What one end sent and saw. Columns are kept packed, by call."""

    columns: dict[int, dict[str, PackedColumn]]
    stamps: dict[str, PackedColumn]
    self_check: EndCheck
    clock_id: str | None


class MediaEnd:
    """One end of a run. ``start``, look at ``board`` while it runs, ``finish``."""

    def __init__(
        self,
        calls: list[CallMedia],
        stamp_sock: socket.socket | None = None,
        stamp_key: bytes = b"",
        reflect: bool = False,
        arrangement: Arrangement = BEST,
    ) -> None:
        self.board = Board(len(calls))
        self.arrangement = arrangement
        self._senders = [StreamSender(c.call, c.sock, c.sends) for c in calls if c.sends]
        self._receivers = [StreamReceiver(c.call, c.sock, c.incoming, c.own_ssrc, c.sends) for c in calls]
        self._stamp_sender = StampSender(stamp_sock, stamp_key) if stamp_sock and not reflect else None
        self._stamp_receiver = StampReceiver(stamp_sock, stamp_key, reflect) if stamp_sock else None
        self._workers: list[Worker] = []

    def start(self, start_ns: int) -> None:
        """Begin receiving at once and sending at monotonic ``start_ns``."""
        worker: Callable[[Callable[[], bytes]], Worker]
        worker = Forked if self.arrangement == "processes" else Threaded
        if self.arrangement == "one loop":
            self._workers = [worker(lambda: self._both(start_ns).serialize())]
        else:
            self._workers = [
                worker(lambda: self._receive().serialize()),
                worker(lambda: self._send(start_ns).serialize()),
            ]

    def sending(self) -> bool:
        """Whether the sender still has packets to send. Raises WorkerLost when a worker died."""
        for worker in self._workers:
            worker.check()
        if not self._senders:
            return False
        return (
            any(self.board.cells[Board.at(o.call, b.SENT)] < o.spec.packets for o in self._senders)
            and not self.board.cells[b.STOP]
        )

    def stop(self) -> None:
        """Send nothing more."""
        self.board.cells[b.STOP] = 1

    def kill(self) -> None:
        """End the workers without a record."""
        self.stop()
        self.board.cells[b.RECEIVER_STOP] = 1
        for worker in self._workers:
            worker.kill()

    def finish(self) -> EndResult:
        """Stop both loops and gather the record. Raises WorkerLost."""
        self.stop()
        self.board.cells[b.RECEIVER_STOP] = 1
        records = [Record.parse(worker.result()) for worker in self._workers]
        columns: dict[int, dict[str, PackedColumn]] = {stream.call: {} for stream in self._receivers}
        stamps: dict[str, PackedColumn] = {}
        check: dict[str, object] = {}
        for record in records:
            check.update(record.meta)
            for name, column in record.columns.items():
                owner, short = name.split(".", 1)
                target = stamps if owner == "stamp" else columns[int(owner)]
                target[short] = PackedColumn(short, column.count, column.deflated)
        return EndResult(columns, stamps, end_check_of({**check, "arrangement": self.arrangement}), clock_id())

    def _send(self, start_ns: int) -> Record:
        priority, cpu = raise_priority(), CpuWatch()
        send_streams(self.board, self._senders, start_ns, self._stamp_sender)
        return self._sent_record(priority, cpu)

    def _receive(self) -> Record:
        receiver = Receiver(self.board, self._receivers, self._stamp_receiver)
        receiver.run()
        receiver.poll()
        return self._received_record(receiver)

    def _both(self, start_ns: int) -> Record:
        """Receive in the pauses between two packets, in one loop."""
        priority, cpu = raise_priority(), CpuWatch()
        receiver = Receiver(self.board, self._receivers, self._stamp_receiver)

        def idle(until_ns: int) -> None:
            if until_ns - time.monotonic_ns() > 300_000:
                receiver.poll()
            left = until_ns - time.monotonic_ns()
            if left > 0:
                time.sleep(left / 1e9)

        send_streams(self.board, self._senders, start_ns, self._stamp_sender, idle)
        receiver.run()
        receiver.poll()
        sent, received = self._sent_record(priority, cpu), self._received_record(receiver)
        return Record({**received.meta, **sent.meta}, {**sent.columns, **received.columns})

    def _sent_record(self, priority: str, cpu: CpuWatch) -> Record:
        late = [value for sender in self._senders for value in sender.late_us]
        lateness = lateness_of(late)
        meta = {
            "send_late_ms": asdict(lateness) if lateness else None,
            "not_sent": self.board.cells[b.NOT_SENT],
            "priority": priority,
            **cpu.report(),
        }
        return Record.of(meta, {f"{o.call}.sent_us": o.sent_us for o in self._senders})

    def _received_record(self, receiver: Receiver) -> Record:
        meta = {
            "receive_queue_drops": self.board.cells[b.QUEUE_DROPS],
            "receive_stamps": "kernel" if receiver.kernel_stamps else "program",
            "strays": self.board.cells[b.STRAYS],
            "refused": self.board.cells[b.REFUSED],
            "clock_steps": [asdict(step) for step in receiver.clock.steps],
            "rtcp_rtt_us": receiver.rtcp_rtt_min_us,
        }
        columns: dict[str, PackedColumn] = {}
        for stream in receiver.streams:
            logs = (stream.arrival_seq, stream.arrival_us, stream.dscp, stream.ttl, stream.size)
            for name, values in zip(ARRIVAL_COLUMNS, logs):
                columns[f"{stream.call}.{name}"] = pack_column(name, values)
        if self._stamp_receiver and not self._stamp_receiver.reflect:
            samples = self._stamp_receiver.samples
            for name, values in zip(STAMP_COLUMNS, (samples.t1, samples.t2, samples.t3, samples.t4)):
                columns[f"stamp.{name}"] = pack_column(name, values)
        return Record(meta, {n: PackedColumn(n, c.count, c.deflated) for n, c in columns.items()})
