"""One end of a run: sending and receiving side by side, and the record of both.

Sending and receiving are two processes, so that neither waits for the other's
interpreter lock. ``benchmarks/send_lateness.py`` compares this with the
other arrangements, which stay available for systems that cannot fork.
"""

from __future__ import annotations

import os
import signal
import socket
import tempfile
import threading
import time
import traceback
from collections.abc import Callable
from dataclasses import asdict, dataclass
from typing import IO, Literal, Protocol

from tarnfell.media import board as b
from tarnfell.media import host
from tarnfell.media.board import Board
from tarnfell.media.host import CpuWatch, clock_id, die_with, raise_priority
from tarnfell.media.receiver import Receiver, StampReceiver, StreamReceiver
from tarnfell.media.selfcheck import lateness_of
from tarnfell.media.sender import StampSender, StreamSender, send_streams
from tarnfell.media.streams import StreamSpec
from tarnfell.wire.kinds.selfcheck import EndCheck, end_check_of
from tarnfell.wire.record import PackedColumn, Record, pack_column

Arrangement = Literal["processes", "threads", "one loop"]
BEST: Arrangement = "processes" if host.HERE.forks else "threads"
SETTLE_S = 2.0
"""How long to listen after the last packet was sent (core.trace.GIVE_UP_US)."""
ARRIVAL_COLUMNS = ("arrival_seq", "arrival_us", "arrival_dscp", "arrival_ttl", "arrival_bytes")
STAMP_COLUMNS = ("t1_ns", "t2_ns", "t3_ns", "t4_ns")


class EngineError(RuntimeError):
    """The sending or receiving process failed; the text says how."""


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
        self._workers: list[_Worker] = []

    def start(self, start_ns: int) -> None:
        """Begin receiving at once and sending at monotonic ``start_ns``."""
        worker: Callable[[Callable[[], Record]], _Worker]
        worker = _ForkedWorker if self.arrangement == "processes" else _ThreadWorker
        if self.arrangement == "one loop":
            self._workers = [worker(lambda: self._both(start_ns))]
        else:
            self._workers = [worker(self._receive), worker(lambda: self._send(start_ns))]

    def sending(self) -> bool:
        """Whether the sender still has packets to send. Raises EngineError when a worker died."""
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
        """Stop both loops and gather the record. Raises EngineError."""
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


class _Worker(Protocol):
    def check(self) -> None:
        """Raises EngineError when the worker died before its work was done."""

    def result(self) -> bytes:
        """The worker's serialised record, once it is done. Raises EngineError."""

    def kill(self) -> None: ...


class _ForkedWorker:
    """A child process that writes its record to an unnamed file and leaves."""

    def __init__(self, work: Callable[[], Record]) -> None:
        # Bounded by the run itself: a few bytes a packet.
        self._file: IO[bytes] = tempfile.TemporaryFile()  # noqa: SIM115
        self._status: int | None = None
        parent = os.getpid()
        self._pid = os.fork()
        if self._pid == 0:
            code = 1
            try:
                signal.signal(signal.SIGINT, signal.SIG_IGN)
                signal.signal(signal.SIGTERM, signal.SIG_DFL)
                die_with(parent)
                self._file.write(work().serialize())
                self._file.flush()
                code = 0
            except BaseException:
                traceback.print_exc()
            finally:
                os._exit(code)

    def check(self) -> None:
        if self._status is None:
            pid, status = os.waitpid(self._pid, os.WNOHANG)
            if pid:
                self._status = status
        if self._status:
            raise EngineError("A measuring process was ended from outside; its part of the record is lost.")

    def result(self) -> bytes:
        if self._status is None:
            self._status = os.waitpid(self._pid, 0)[1]
        self.check()
        with self._file as file:
            file.seek(0)
            return file.read()

    def kill(self) -> None:
        if self._status is None:
            os.kill(self._pid, 9)
            self._status = os.waitpid(self._pid, 0)[1]
        self._file.close()


class _ThreadWorker:
    def __init__(self, work: Callable[[], Record]) -> None:
        self._record: bytes | None = None
        self._error: BaseException | None = None
        self._thread = threading.Thread(target=self._run, args=(work,), daemon=True)
        self._thread.start()

    def _run(self, work: Callable[[], Record]) -> None:
        try:
            self._record = work().serialize()
        except BaseException as error:
            self._error = error

    def check(self) -> None:
        if self._error:
            raise EngineError(f"A measuring thread failed: {self._error}.")

    def result(self) -> bytes:
        self._thread.join()
        self.check()
        assert self._record is not None
        return self._record

    def kill(self) -> None:
        self._thread.join(5)
