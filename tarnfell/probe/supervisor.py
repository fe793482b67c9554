"""The probe at work for a server: a heartbeat that waits for nothing, and a process for everything that takes time.

    given ──► in hand ──► its lane is free: a process ──► result in the spool ──► delivered, and gone
                 │                              └── it ended without one: a failure in the spool
                 └── stopped before it began: a failure in the spool

A job is on the disk before the next heartbeat tells that it is held, and leaves the jobs in hand only when its result
is in the spool; so this program, or any process of it, may be killed at any moment. One that starts again waits for
processes of before that are still bringing in what they have, and owns up to what was lost.
"""

from __future__ import annotations

import math
import signal
import threading
import time

from tarnfell.media.diary import note
from tarnfell.probe.agent import here
from tarnfell.probe.answering import Answering
from tarnfell.probe.delivery import Delivery
from tarnfell.probe.http import NOT_UNDERSTOOD, Refused, ServerClient, TurnedAway, Unreachable
from tarnfell.probe.locks import hold
from tarnfell.probe.program import program_digest, start_anew
from tarnfell.probe.state import AgentError, JobInHand, State
from tarnfell.probe.watching import Watching
from tarnfell.probe.worker import Inside, Worker
from tarnfell.probe.works.work import WorkFailed
from tarnfell.wire import Unchecked
from tarnfell.wire.failures import OTHER, OWN, Failure
from tarnfell.wire.kinds import KINDS, may_begin
from tarnfell.wire.kinds.answer import AnswerArguments
from tarnfell.wire.kinds.fields import KindError, plain, read
from tarnfell.wire.kinds.surroundings import Surroundings
from tarnfell.wire.kinds.update import UpdateArguments, UpdateResult

HEARTBEAT_S = 0.5
"""Until the server says how soon it wants to hear from this probe again."""
FASTEST_HEARTBEAT_S, SLOWEST_HEARTBEAT_S = 0.2, 10.0
OUTAGE_PAUSE_S = 5.0
LOOK_AROUND_S = 30.0
LOOK_S = 0.1
"""How often children are looked after."""

UNKNOWN = "This probe does not know “{}”. Update it, then ask again."
ENDED = "The probe was ended {}. {}"
STOPPED_EARLY = "It was stopped before it began."
REFUSES = "the server answers no ({}); results are kept here."
SERVER_IS_OLDER = (
    "the server is older than this probe's program and does not understand it ({}). Update the server, or get the "
    "probe's file from it again"
)


def run_agent(state: State, stop: threading.Event | None = None) -> None:
    """Work until ``stop`` is set, the process is told to end, or the server ends the work. Raises AgentError."""
    enrolment = state.enrolment()
    state.lock()
    stop = stop or threading.Event()
    if threading.current_thread() is threading.main_thread():
        signal.signal(signal.SIGTERM, lambda *_: stop.set())
    supervisor = Supervisor(state, ServerClient(enrolment.server, enrolment.secret), stop)
    try:
        supervisor.run()
    finally:
        supervisor.close()
        state.release()


class Supervisor:
    """Two threads of its own: this one speaks to the server, the other looks after the children."""

    def __init__(self, state: State, client: ServerClient, stop: threading.Event) -> None:
        self._state = state
        self._client = client
        self._stop = stop
        self._delivery = Delivery(state.spool, client, self._is_out_of_hand)
        self._answering = Answering(state)
        self._hands = threading.RLock()
        """Over all that follows, which both threads touch."""
        self._waiting: list[JobInHand] = []
        self._workers: dict[int, tuple[JobInHand, Worker | Inside]] = {}
        self._of_before: dict[int, JobInHand] = {}
        """Whose process outlived the supervisor that started it."""
        self._watching: Watching = Watching(state)
        self._ending = False
        """Nothing more than the word that the work here is finished has to be delivered."""
        self._looking = threading.Thread(target=self._look_after, daemon=True)
        self._looked_s = -LOOK_AROUND_S
        self._around = Surroundings()
        self._told: Surroundings | None = None
        self._silent = False
        """Whether it was said already that the server is away or something is wrong."""

    def run(self) -> None:
        self._own_up()
        self._delivery.start()
        self._looking.start()
        while not self._stop.is_set() and not self._is_over():
            try:
                if self._delivery.turned_away is not None:
                    raise self._delivery.turned_away
                answer = self._heartbeat()
                self._silent = False
                self._heed(answer)
                self._stop.wait(pause_of(answer))
            except TurnedAway as error:
                if not self._is_over():
                    raise AgentError(f"The server turned this probe away: {error}") from None
            except Refused as error:
                self._wait_out((SERVER_IS_OLDER if error.code == NOT_UNDERSTOOD else REFUSES).format(error))
            except Unreachable as error:
                self._wait_out(f"the server is out of reach ({error}); results are kept here.")
            except Exception as error:  # a full disk, an answer nobody understands: it must go on afterwards
                self._wait_out(f"this went wrong ({_words_of(error)}); it is tried again.")

    def close(self) -> None:
        """Stop what is on, wait for what it has, and leave the results on the disk."""
        self._stop.set()
        if self._looking.is_alive():
            self._looking.join()
        self._answering.end()
        self._watching.end()
        self._delivery.end()
        if self._is_over():
            self._state.clear()

    def _is_over(self) -> bool:
        """The server has heard that the work here is finished: nothing is to be left on the machine."""
        return self._ending and not self._state.spool.waiting()

    def _is_out_of_hand(self, number: int) -> bool:
        with self._hands:
            return number not in self._held()

    def _held(self) -> set[int]:
        return {job.id for job in self._waiting} | set(self._workers) | set(self._of_before)

    # Speaking to the server

    def _wait_out(self, words: str) -> None:
        """Say it once, and wait."""
        if not self._silent:
            note(f"probe: {words}")
        self._silent = True
        self._told = None
        self._stop.wait(OUTAGE_PAUSE_S)

    def _heartbeat(self) -> Unchecked:
        """Say what is around only when it has changed."""
        if time.monotonic() - self._looked_s >= LOOK_AROUND_S:
            self._around, self._looked_s = here(), time.monotonic()
        news = plain(self._around) if self._around != self._told else None
        with self._hands:
            # In hand before spooled: a result that is kept in between is named twice rather than not at all.
            holds = sorted(self._held() | self._state.spool.jobs())
            watch = self._watching.told()
        clock_us = time.time_ns() // 1000
        told = {"environment": news, "holds": holds, "kinds": sorted(KINDS), "watch": watch, "clock_us": clock_us}
        answer = self._client.post("/api/probe/heartbeat", told)
        self._told = self._around
        return answer

    def _heed(self, answer: Unchecked) -> None:
        for offered in answer.get("jobs") or []:
            job = JobInHand(int(offered["id"]), str(offered["kind"]), dict(offered["arguments"]))
            with self._hands:
                if job.id not in self._held() and not self._state.spool.has_result(job.id):
                    self._state.keep_job(job)
                    self._waiting.append(job)
        for number in answer.get("stop") or []:
            self._stop_job(int(number))
        if "watch" in answer:
            with self._hands:
                self._watching.want(answer["watch"])

    def _stop_job(self, number: int) -> None:
        with self._hands:
            if number in self._workers:
                self._workers[number][1].stop()
            for job in [one for one in self._waiting if one.id == number]:
                self._waiting.remove(job)
                self._fail(job, Failure(OWN, STOPPED_EARLY))

    # Looking after the children

    def _look_after(self) -> None:
        """Until told to stop and the last child has ended."""
        while True:
            try:
                with self._hands:
                    self._reap()
                    if self._stop.is_set() or self._is_over():
                        for _, worker in self._workers.values():
                            worker.stop()
                        if not self._workers:
                            return
                    else:
                        self._begin_what_may()
                        self._answering.keep_up()
                        self._watching.keep_up(self._loading())
            except Exception as error:  # a full disk: it must go on afterwards
                note(f"probe: {_words_of(error)}")
                time.sleep(OUTAGE_PAUSE_S)
            time.sleep(LOOK_S)

    def _begin_what_may(self) -> None:
        """In the order they were asked for; what waits for all others to end is not overtaken."""
        lanes = [KINDS[job.kind].lane for job in self._under_way() if job.kind in KINDS]
        for job in list(self._waiting):
            if job.kind not in KINDS:
                self._waiting.remove(job)
                self._fail(job, Failure(OTHER, UNKNOWN.format(job.kind)))
                continue
            lane = KINDS[job.kind].lane
            if not may_begin(lane, lanes):
                if lane == "alone":
                    return
                continue
            self._waiting.remove(job)
            lanes.append(lane)
            self._begin(job)

    def _loading(self) -> int:
        """The job that loads the line just now; 0 for none."""
        return next((job.id for job in self._under_way() if job.kind in KINDS and KINDS[job.kind].lane == "line"), 0)

    def _under_way(self) -> list[JobInHand]:
        return [job for job, _ in self._workers.values()] + list(self._of_before.values())

    def _begin(self, job: JobInHand) -> None:
        if job.kind in ("answer", "silence", "end"):  # what changes what stands here
            self._workers[job.id] = (job, Inside(lambda: self._do_here(job)))
            return
        try:
            order = ["--state", str(self._state.folder), "work"]
            self._workers[job.id] = (job, Worker(order, vars(job), self._client))
        except OSError as error:
            self._fail(job, Failure(OWN, f"The probe could not start a process for it ({error.strerror})."))

    def _do_here(self, job: JobInHand) -> None:
        try:
            if job.kind == "answer":
                result = plain(self._answering.begin(read(AnswerArguments, job.arguments)))
            else:
                result = {}
                self._answering.cease()
                if job.kind == "end":
                    with self._hands:
                        self._watching.want(None)
        except WorkFailed as failed:
            self._state.spool.keep_failure(job.id, failed.failure)
            return
        except (KindError, OSError) as error:
            self._state.spool.keep_failure(job.id, Failure(OTHER, _words_of(error)))
            return
        if job.kind == "end":
            # Everything else is delivered first: nothing is taken from a probe whose work has ended.
            while self._state.spool.waiting():
                self._delivery.look()
                if self._stop.wait(LOOK_S):
                    return  # it goes on when the probe is started again
        self._state.spool.keep_outcome(job.id, result)
        # Not before: with nothing left to deliver it would be over, and the word of it never said.
        self._ending = job.kind == "end"

    def _reap(self) -> None:
        for number, (job, worker) in list(self._workers.items()):
            code = worker.ended()
            if code is None:
                continue
            if self._state.spool.has_result(number):
                self._state.drop_job(number)
            elif job.kind == "update" and code == 0:
                self._become_the_new_program(job)
            elif worker.stopped_early:
                self._fail(job, Failure(OWN, STOPPED_EARLY))
            elif not self._stop.is_set() or not isinstance(worker, Inside):
                self._fail(job, Failure(OWN, _ended(job, code)))
            # Only now: until its result is kept it is held, and not delivered.
            del self._workers[number]
            self._delivery.look()
        for number, job in list(self._of_before.items()):
            held = hold(self._state.job_lock(number))
            if held is not None:
                held.close()
                del self._of_before[number]
                self._own_up_to(job)
                self._delivery.look()

    def _become_the_new_program(self, job: JobInHand) -> None:
        """Does not return where it succeeds: the new program finds the job in hand, and says that it is done."""
        self._answering.end()
        self._watching.end()
        try:
            start_anew()
        except OSError as error:
            self._fail(job, Failure(OWN, f"The new program could not be started ({error.strerror})."))

    def _fail(self, job: JobInHand, failure: Failure) -> None:
        self._state.spool.keep_failure(job.id, failure)
        self._state.drop_job(job.id)
        self._delivery.look()

    # Starting again

    def _own_up(self) -> None:
        """What was in hand when this program last ended: begun and lost, or not begun yet."""
        for job in self._state.take_over():
            self._own_up_to(job)
        for job in self._state.jobs_in_hand():
            if self._state.spool.has_result(job.id):
                self._state.drop_job(job.id)
                continue
            if not self._state.job_lock(job.id).exists():
                self._waiting.append(job)
                continue
            held = hold(self._state.job_lock(job.id))
            if held is None:
                self._of_before[job.id] = job
            else:
                held.close()
                self._own_up_to(job)

    def _own_up_to(self, job: JobInHand) -> None:
        if self._state.spool.has_result(job.id):
            self._state.drop_job(job.id)
        elif job.kind == "update" and _is_this_program(job):
            self._state.spool.keep_outcome(job.id, plain(UpdateResult(str(program_digest()))))
            self._state.drop_job(job.id)
        elif job.kind == "calls":
            self._fail(job, Failure(OWN, ENDED.format("during the run", "Place the calls again.")))
        else:
            self._fail(job, Failure(OWN, ENDED.format("before this was done", "Try again.")))


def _is_this_program(job: JobInHand) -> bool:
    try:
        return read(UpdateArguments, job.arguments).program == program_digest()
    except KindError:
        return False


def _ended(job: JobInHand, code: int) -> str:
    how = f"by signal {-code}" if code < 0 else f"with code {code}"
    what, again = ("this run", "Place the calls again.") if job.kind == "calls" else ("this", "Try again.")
    return f"The probe's process for {what} was ended {how}. {again}"


def pause_of(answer: Unchecked) -> float:
    """Seconds until the next heartbeat, as the server wishes, within bounds; whatever else it says is not heard."""
    try:
        wished = float(answer.get("again_s", HEARTBEAT_S))
    except (TypeError, ValueError):
        return HEARTBEAT_S
    return min(SLOWEST_HEARTBEAT_S, max(FASTEST_HEARTBEAT_S, wished)) if math.isfinite(wished) else HEARTBEAT_S


def _words_of(error: Exception) -> str:
    return f"{type(error).__name__}: {error}" if str(error) else type(error).__name__
