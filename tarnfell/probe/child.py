"""One work in a process of its own: orders come in on standard input, a line each; what is known goes out the same way.

    in   {"id", "kind", "arguments"}    first, what to do
         {"stop": true}                 end it now, and keep what there is
         {"beside": N}                  job N loads the line from here on; 0: none does
    out  {"begun": true}                from here on there is something to lose
         {"tell": {...}}                what is known, about once a second

The end of input means that the supervisor has died, and is an order to stop. The result is in the spool before the
process ends, so that it is not lost with whoever started it.
"""

from __future__ import annotations

import json
import os
import queue
import signal
import threading
import time
import traceback
from collections.abc import Mapping
from pathlib import Path
from typing import BinaryIO, TextIO

from tarnfell.media import host
from tarnfell.probe.http import ServerClient
from tarnfell.probe.locks import hold
from tarnfell.probe.sampler.sample import Orders as SampleOrders
from tarnfell.probe.sampler.sample import sample
from tarnfell.probe.state import State
from tarnfell.probe.works import calls, check, distances, fill, flow, look, services, update
from tarnfell.probe.works.work import Hands, Work, WorkFailed
from tarnfell.wire import Unchecked
from tarnfell.wire.failures import OTHER, OWN, Failure
from tarnfell.wire.kinds import KINDS
from tarnfell.wire.kinds.fields import KindError, read
from tarnfell.wire.kinds.watch import Watch

WORKS: dict[str, Work] = {
    "calls": calls.calls,
    "check": check.check,
    "distances": distances.distances,
    "fill": fill.fill,
    "flow": flow.flow,
    "look": look.look,
    "services": services.services,
    "update": update.update,
}
UNKNOWN = "The server asks for something this probe's program does not know yet. Update the probe from its place."
_READ_BYTES = 1 << 16
LOCK_LIMIT_S = 10.0
NOT_DONE = 3
"""Exit code where somebody else does the job, or nobody wants it done any more."""


class Orders:
    """Standard input, looked at without waiting and without a thread: calls are forked from a process that has none."""

    def __init__(self, source: BinaryIO) -> None:
        self.beside = 0
        self._stopped = False
        self._rest = b""
        self._source = source
        self._pieces: queue.Queue[bytes] | None = None
        self.first = self._first()
        if host.HERE.forks:
            os.set_blocking(source.fileno(), False)
        else:  # pipes cannot be looked at without waiting there
            self._pieces = queue.Queue()
            threading.Thread(target=self._listen, args=(self._pieces,), daemon=True).start()

    def stop(self) -> None:
        self._stopped = True

    def go_on(self) -> bool:
        """False once it is to stop."""
        while not self._stopped:
            piece = self._piece()
            if piece is None:
                break
            if not piece:
                self._stopped = True  # whoever gave the orders is gone
                break
            *lines, self._rest = (self._rest + piece).split(b"\n")
            for line in lines:
                self._take(line)
        return not self._stopped

    def _take(self, line: bytes) -> None:
        order = json.loads(line)
        if order.get("stop"):
            self._stopped = True
        if "beside" in order:
            self.beside = int(order["beside"])

    def _first(self) -> Unchecked:
        """Byte by byte, so that nothing of what follows is read ahead."""
        line = b""
        while not line.endswith(b"\n"):
            byte = os.read(self._source.fileno(), 1)
            if not byte:
                raise SystemExit("Nothing was ordered.")
            line += byte
        return dict(json.loads(line))

    def _piece(self) -> bytes | None:
        """What has come in; empty at the end, None where nothing has."""
        try:
            return self._pieces.get_nowait() if self._pieces else os.read(self._source.fileno(), _READ_BYTES)
        except (BlockingIOError, queue.Empty):
            return None

    def _listen(self, pieces: queue.Queue[bytes]) -> None:
        while True:
            piece = os.read(self._source.fileno(), _READ_BYTES)
            pieces.put(piece)
            if not piece:
                return


class _Voice:
    def __init__(self, out: TextIO, orders: Orders) -> None:
        self._out = out
        self._orders = orders
        self._begun = False

    def begin(self) -> None:
        if not self._begun:
            self._begun = True
            self._say({"begun": True})

    def tell(self, known: Mapping[str, object]) -> None:
        self._say({"tell": known})

    def _say(self, what: Mapping[str, object]) -> None:
        try:
            print(json.dumps(what), file=self._out, flush=True)
        except BrokenPipeError:
            self._orders.stop()  # whoever listened is gone


def _held(lock: Path) -> BinaryIO | None:
    """The job's own lock; another process, of a supervisor that died, may just be letting go of it."""
    deadline = time.monotonic() + LOCK_LIMIT_S
    while (held := hold(lock)) is None and time.monotonic() < deadline:
        time.sleep(0.1)
    return held


def watch(state: State, source: BinaryIO, out: TextIO) -> int:
    """Take samples until told to stop. The first line orders a watch as tarnfell/wire/kinds/watch.py has it."""
    orders = Orders(source)
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    signal.signal(signal.SIGTERM, lambda *_: orders.stop())
    voice = _Voice(out, orders)
    try:
        wanted = read(Watch, orders.first)
    except KindError as error:
        voice.tell({"trouble": f"{UNKNOWN} ({error})"})
        while orders.go_on():  # nothing would change by trying again
            time.sleep(0.1)
        return 0
    sample(
        wanted,
        SampleOrders(
            go_on=orders.go_on,
            beside=lambda: orders.beside,
            keep=lambda first_us, batch: state.spool.keep_samples(wanted.id, first_us, batch),
            trouble=lambda trouble: voice.tell({"trouble": trouble}),
        ),
    )
    return 0


def main(state: State, source: BinaryIO, out: TextIO) -> int:
    """Do what the first line orders. 0 whether it could be done or not, as long as the spool holds how it ended."""
    orders = Orders(source)
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # whoever started this tells when to stop
    signal.signal(signal.SIGTERM, lambda *_: orders.stop())
    number, kind = int(orders.first["id"]), str(orders.first["kind"])
    held = _held(state.job_lock(number))
    if held is None or not orders.go_on():
        return NOT_DONE
    with held:
        enrolment = state.enrolment()

        voice = _Voice(out, orders)
        client = ServerClient(enrolment.server, enrolment.secret)
        hands = Hands(number, state.spool, client, orders.go_on, voice.begin, lambda: orders.beside, voice.tell)
        try:
            if kind not in WORKS:
                raise WorkFailed(UNKNOWN)
            WORKS[kind](read(KINDS[kind].arguments, orders.first["arguments"]), hands)
        except WorkFailed as failed:
            state.spool.keep_failure(number, failed.failure)
        except KindError as error:
            state.spool.keep_failure(number, Failure(OTHER, f"{UNKNOWN} ({error})"))
        except Exception as error:  # of this one job: the next may do
            traceback.print_exc()
            words = f"{type(error).__name__}: {error}" if str(error) else type(error).__name__
            state.spool.keep_failure(number, Failure(OWN, f"The probe could not do it: {words}."))
    return 0
