"""The probe as a servant of a server: heartbeat, jobs, commands, progress, and results that survive an outage.

Every result is on disk before it is sent and leaves the disk only when the
server has said that it has it. Nothing here judges.
"""

from __future__ import annotations

import json
import math
import queue
import signal
import sys
import threading
import time
import traceback
from dataclasses import asdict, replace
from typing import Any

from tarnfell.probe.call import LiveSecond, RunResult, place_calls
from tarnfell.probe.commands import Commander, CommandError, Ended
from tarnfell.probe.connect import CallError
from tarnfell.probe.halves import NotKept, Ticket, completed
from tarnfell.probe.http import Refused, ServerClient, TurnedAway, Unreachable
from tarnfell.probe.plan import CallPlan, PlanUnknown
from tarnfell.probe.program import program_digest
from tarnfell.probe.state import AgentError, Enrolment, State
from tarnfell.probe.surroundings import surroundings
from tarnfell.wire import failures
from tarnfell.wire.failures import Failure
from tarnfell.wire.record import Record, join_parts

HEARTBEAT_S = 0.5
"""Until the server says how soon it wants to hear from this probe again."""
FASTEST_HEARTBEAT_S, SLOWEST_HEARTBEAT_S = 0.2, 10.0
FAR_END_NOTICES_S = 45.0
"""After a run fell silent: how long the far end may take to see that nobody acknowledges what it says."""
OUTAGE_PAUSE_S = 5.0
LOOK_AROUND_S = 30.0


def enrol(server: str, code: str, state: State) -> Enrolment:
    """Trade a one-time code for this probe's own secret, and keep it. Raises AgentError or Unreachable."""
    try:
        answer = ServerClient(server).post("/api/probe/enrol", {"token": code, "environment": environment()})
    except Refused as error:
        raise AgentError(str(error)) from None
    enrolment = Enrolment(server.rstrip("/"), answer["secret"], answer["name"], answer["site"])
    state.keep_enrolment(enrolment)
    return enrolment


def agent_status(state: State) -> dict[str, Any]:
    """Who this probe is and what waits on its disk. Raises AgentError."""
    enrolment = state.enrolment()
    return {
        "name": enrolment.name,
        "site": enrolment.site,
        "server": enrolment.server,
        "waiting_results": len(state.undelivered()),
        **environment(),
    }


def environment() -> dict[str, Any]:
    """What the server should know of this probe and where it stands."""
    return {**surroundings(), "program": program_digest()}


def run_agent(state: State, stop: threading.Event | None = None) -> None:
    """Work until ``stop`` is set, the process is told to end, or the server ends the work. Raises AgentError."""
    enrolment = state.enrolment()
    state.lock()
    stop = stop or threading.Event()
    if threading.current_thread() is threading.main_thread():
        signal.signal(signal.SIGTERM, lambda *_: stop.set())
    client = ServerClient(enrolment.server, enrolment.secret)
    commander = Commander(state, client)
    try:
        commander.resume()
        _Agent(state, client, commander, stop).run()
    finally:
        commander.close()
        state.release()


class _Agent:
    def __init__(self, state: State, client: ServerClient, commander: Commander, stop: threading.Event) -> None:
        self._stop = stop
        self._state = state
        self._client = client
        self._commander = commander
        self._looked_s = -LOOK_AROUND_S
        self._around: dict[str, Any] = {}
        self._told: dict[str, Any] | None = None
        self._silent = False
        """Whether it was said already that the server is away or something is wrong."""

    def run(self) -> None:
        self._own_up()
        while not self._stop.is_set():
            try:
                self._deliver()
                answer = self._heartbeat()
                self._silent = False
                if answer.get("command"):
                    self._obey(answer["command"])
                elif answer.get("job"):
                    self._do(answer["job"])
                else:
                    self._stop.wait(pause_of(answer))
            except TurnedAway as error:
                raise AgentError(f"The server turned this probe away: {error}") from None
            except Ended:
                return
            except (Unreachable, Refused) as error:
                self._wait_out(f"the server is out of reach ({error}); results are kept here.")
            except Exception as error:  # a full disk, an answer nobody understands: it must go on afterwards
                self._wait_out(f"this went wrong ({_words_of(error)}); it is tried again.")

    def _wait_out(self, words: str) -> None:
        """Say it once, and wait."""
        if not self._silent:
            print(f"probe: {words}", file=sys.stderr)
        self._silent = True
        self._told = None
        self._stop.wait(OUTAGE_PAUSE_S)

    def _heartbeat(self) -> dict[str, Any]:
        """Say what is around only when it has changed."""
        if time.monotonic() - self._looked_s >= LOOK_AROUND_S:
            self._around, self._looked_s = environment(), time.monotonic()
        news = self._around if self._around != self._told else None
        waiting = self._state.undelivered()
        holds = sorted({int(p.stem) for p in waiting if p.suffix != ".outcome" and p.stem.isdecimal()})
        answer = self._client.post("/api/probe/heartbeat", {"environment": news, "holds": holds})
        self._told = self._around
        return answer

    def _own_up(self) -> None:
        """What was on when this probe last ended was cut short: say so."""
        number = self._state.cut_off_job()
        if number is not None:
            reason = "The probe was ended during the run. Place the calls again."
            self._state.keep_failure(number, Failure(failures.OWN, reason))
            self._state.end_job()
        self._commander.own_up()

    def _do(self, job: dict[str, Any]) -> None:
        number = int(job["id"])
        self._state.begin_job(number)
        reporter = _Reporter(self._client, number, self._stop)
        try:
            result = place_calls(
                job["far_host"],
                int(job["far_port"]),
                job["far_key"].encode(),
                CallPlan.from_json(job["plan"]),
                reporter.tell,
                go_on=reporter.go_on,
            )
        except CallError as error:
            reachable = self._client.reachable() if error.code in failures.OF_THE_NETWORK else None
            self._state.keep_failure(number, Failure(error.code, str(error), reachable))
        except PlanUnknown as error:
            self._state.keep_failure(number, Failure(failures.OTHER, str(error)))
        except Exception as error:  # of this one job: the next may do
            traceback.print_exc()
            self._state.keep_failure(number, Failure(failures.OWN, f"The probe could not do it: {_words_of(error)}."))
        else:
            if result.cut:
                # Whether the server answers at this instant tells the site's line from the far end.
                cut = result.cut._replace(server_reachable=self._client.reachable())
                result = replace(result, cut=cut)
                far = (job["far_host"], int(job["far_port"]), job["far_key"])
                notices_s = FAR_END_NOTICES_S if cut.code == failures.SILENT else 0.0
                self._state.keep_ticket(number, Ticket(*far, str(result.half_token), time.time() + notices_s))
            self._state.keep_record(number, pack_run(result))
        finally:
            reporter.end()
            self._state.end_job()

    def _obey(self, command: dict[str, Any]) -> None:
        """Raises Ended when the work here is over."""
        number = int(command["id"])
        self._state.begin_command(command)
        try:
            result = self._commander.do(command)
        except CommandError as error:
            self._state.keep_outcome(number, None, str(error))
        else:
            self._state.keep_outcome(number, result, None)
        self._state.end_command()
        if command["kind"] == "end":
            self._deliver()
            self._state.clear()
            raise Ended

    def _deliver(self) -> None:
        for path in self._state.undelivered():
            try:
                number = int(path.stem)
                if path.suffix == ".record":
                    if not self._complete(number):
                        continue
                    self._client.put(f"/api/probe/jobs/{number}/record", path.read_bytes())
                elif path.suffix == ".failure":
                    self._client.post(f"/api/probe/jobs/{number}/failure", json.loads(path.read_text()))
                else:
                    self._client.post(f"/api/probe/commands/{number}/outcome", json.loads(path.read_text()))
            except TurnedAway:
                raise  # the results stay: whoever puts the server right gets them
            except Refused as error:
                # The server will never take it; keep it aside for whoever comes looking.
                print(f"probe: {path.name} was not taken ({error}); kept as {path.name}.refused", file=sys.stderr)
                path.rename(path.with_suffix(path.suffix + ".refused"))
                continue
            except ValueError as error:
                # Damaged on this disk: it must not hold up what comes after it.
                print(f"probe: {path.name} cannot be read ({error}); kept as {path.name}.refused", file=sys.stderr)
                path.rename(path.with_suffix(path.suffix + ".refused"))
                continue
            path.unlink()

    def _complete(self, number: int) -> bool:
        """Join the far end's half to a run that was broken off, if it can be had; this end's half is enough.

        False while it is not time to deliver the run yet.
        """
        ticket = self._state.ticket(number)
        if ticket is None:
            return True
        if not self._client.reachable():
            return False  # nobody to deliver to, and time for the far end to come back as well
        path = self._state.spool / f"{number:09d}.record"
        try:
            self._state.keep_record(number, completed(path.read_bytes(), ticket))
        except NotKept as reason:
            if time.time() < ticket.until_s:
                return False
            print(f"probe: the far end has nothing to add to run {number}: {reason}", file=sys.stderr)
        except CallError as error:
            print(f"probe: run {number} is delivered without the far end's half: {error}", file=sys.stderr)
        self._state.drop_ticket(number)
        return True


def pause_of(answer: dict[str, Any]) -> float:
    """Seconds until the next heartbeat, as the server wishes, within bounds; whatever else it says is not heard."""
    try:
        wished = float(answer.get("again_s", HEARTBEAT_S))
    except (TypeError, ValueError):
        return HEARTBEAT_S
    return min(SLOWEST_HEARTBEAT_S, max(FASTEST_HEARTBEAT_S, wished)) if math.isfinite(wished) else HEARTBEAT_S


def _words_of(error: Exception) -> str:
    return f"{type(error).__name__}: {error}" if str(error) else type(error).__name__


class _Reporter:
    """Tells the server each second without ever holding up the run; only the newest second matters."""

    def __init__(self, client: ServerClient, number: int, agent_stop: threading.Event) -> None:
        self._client = client
        self._number = number
        self._agent_stop = agent_stop
        self._seconds: queue.Queue[LiveSecond | None] = queue.Queue(maxsize=30)
        self._go_on = True
        self._thread: threading.Thread | None = None

    def tell(self, live: LiveSecond) -> bool:
        if self._thread is None:  # only now: the measuring processes are forked before any thread exists
            self._thread = threading.Thread(target=self._post, daemon=True)
            self._thread.start()
        try:
            self._seconds.put_nowait(live)
        except queue.Full:
            pass  # the server is away; it will have the record
        return self.go_on()

    def go_on(self) -> bool:
        """False as soon as the server has answered a second with a stop, or this agent is told to end."""
        return self._go_on and not self._agent_stop.is_set()

    def end(self) -> None:
        if self._thread:
            try:
                self._seconds.put_nowait(None)
            except queue.Full:
                pass
            self._thread.join(5)

    def _post(self) -> None:
        while True:
            live = self._seconds.get()
            if live is None:
                return
            try:
                answer = self._client.post(f"/api/probe/jobs/{self._number}/progress", asdict(live))
                if answer.get("stop"):
                    self._go_on = False
            except (Unreachable, Refused):
                continue


def pack_run(result: RunResult) -> bytes:
    """A run as one file: first the clock record with the self-check, then a record a call and a video stream."""
    head = Record(
        {
            **result.clock.meta,
            "self_check": result.self_check,
            "stopped": result.stopped,
            **({"cut": result.cut._asdict()} if result.cut else {}),
        },
        result.clock.columns,
    )
    return join_parts([head.serialize(), *(one.serialize() for one in result.calls + result.video)])
