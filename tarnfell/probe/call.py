"""Placing calls: one run from the probe's side, from the control connection to the record of both ends.

    probe                          far end
    streams wanted            ──►  refused, with the reason; or accepted, with its ports
    a binding for each socket ◄─►  now it knows that this address receives
    start                     ──►  started, with the calls that are bound
    media and time stamps     ◄─►  the same; its progress each second
    finish                    ──►  its half of the record

Whatever ends this early ends sending at both ends. While media flows a silence of SILENCE_LIMIT_S, or the end of the
control connection, cuts the run: each end keeps its half, and the probe fetches the other when it can (halves.py).
"""

from __future__ import annotations

import socket
import time
from collections.abc import Callable
from dataclasses import dataclass

from tarnfell.media import board as b
from tarnfell.media.channel import Channel, ChannelClosed
from tarnfell.media.engine import BEST, SETTLE_S, Arrangement, CallMedia, EndResult, MediaEnd
from tarnfell.media.host import clock_id
from tarnfell.media.sockets import open_media_socket
from tarnfell.media.workers import WorkerLost
from tarnfell.probe.binding import bind
from tarnfell.probe.connect import CallError, connect
from tarnfell.probe.streams import streams_of
from tarnfell.wire import Unchecked, WireError, failures
from tarnfell.wire.control import (
    DEFAULT_PORT,
)
from tarnfell.wire.failures import Failure
from tarnfell.wire.kinds import selfcheck
from tarnfell.wire.kinds.calls import CallPlan, LiveDirection, LiveSecond
from tarnfell.wire.kinds.selfcheck import FarCheck, SelfCheck, far_check_of
from tarnfell.wire.record import PackedColumn, Record, split_parts

_START_DELAY_NS = 200_000_000
RECORD_LIMIT_S = 120.0
SILENCE_LIMIT_S = 30.0
"""A far end reports each second; an outage shorter than this is measured, a longer one ends the run."""


@dataclass(frozen=True)
class RunResult:
    """Everything both ends recorded. Each call and video stream has a packet record, ``clock`` the time stamps."""

    calls: list[Record]
    video: list[Record]
    clock: Record
    self_check: SelfCheck
    stopped: bool
    cut: Failure | None = None
    """How the run was broken off. The records then hold this end's half, and what the far end had told last."""
    half_token: str | None = None
    """Of a run that was broken off: by what name the far end keeps its half."""


Watcher = Callable[[LiveSecond], bool]
"""Told each second; answers whether to go on."""


def place_calls(
    host: str,
    port: int,
    key: bytes,
    plan: CallPlan,
    watcher: Watcher = lambda _: True,
    arrangement: Arrangement = BEST,
    go_on: Callable[[], bool] = lambda: True,
) -> RunResult:
    """Hold ``plan.calls`` calls with the far end at ``host``. Raises CallError.

    ``go_on`` is asked ten times a second, so that a stop need not wait for the next second's report.
    """
    channel, family, purpose = connect(host, port or DEFAULT_PORT, key)
    sockets: list[socket.socket] = []
    try:
        return _Run(channel, family, host, plan, watcher, go_on, arrangement, purpose, sockets).run()
    except (ChannelClosed, TimeoutError) as error:
        raise CallError(f"The far end at {host} went away: {error}", failures.GONE) from None
    except WireError as error:
        raise CallError(f"The far end at {host} was not understood: {error}") from None
    except WorkerLost as error:
        raise CallError(str(error), failures.OWN) from None
    finally:
        channel.close()
        for sock in sockets:
            sock.close()


class _Cut(Exception):
    """The run broke off while packets flowed; what this end has is still a measurement."""

    def __init__(self, code: str, reason: str) -> None:
        super().__init__(reason)
        self.code = code


class _Run:
    def __init__(
        self,
        channel: Channel,
        family: int,
        host: str,
        plan: CallPlan,
        watcher: Watcher,
        go_on: Callable[[], bool],
        arrangement: Arrangement,
        purpose: Callable[[str], bytes],
        sockets: list[socket.socket],
    ) -> None:
        self._channel = channel
        self._family = family
        self._host = host
        self._plan = plan
        self._watcher = watcher
        self._go_on = go_on
        self._arrangement: Arrangement = arrangement
        self._purpose = purpose
        self._sockets = sockets
        self._up, self._down = streams_of(plan)
        self._stopped = False
        self._far_last: list[list[int]] = []
        """What the far end had sent and received when it was last heard, by call."""

    def run(self) -> RunResult:
        ports, far_clock = self._open()
        bound = bind(self._sockets[: len(self._up)], self._purpose("bind"))
        self._channel.send({"start": {}})
        started = self._answer("started")
        if sorted(bound) != started.get("bound"):
            bound = {int(call) for call in started.get("bound", [])}
        calls = [
            CallMedia(i, self._sockets[i], self._up[i], self._down[i], self._up[i].ssrc) for i in range(len(self._up))
        ]
        end = MediaEnd(calls, self._sockets[-1], self._purpose("stamp"), arrangement=self._arrangement)
        try:
            start_us = time.time_ns() // 1000 + _START_DELAY_NS // 1000
            end.start(time.monotonic_ns() + _START_DELAY_NS)
            begun = time.monotonic() + _START_DELAY_NS / 1e9
            cut = self._watched(end, begun)
            ours = end.finish()
            if cut is None:
                try:
                    theirs, far_check = self._collect()
                except (ChannelClosed, TimeoutError, OSError) as error:
                    cut = self._cut_short(begun, failures.GONE, f"went away before it had told its half ({error})")
        except BaseException:
            end.kill()
            raise
        if cut is not None:
            return self._result(ours, {}, FarCheck(), far_clock, ports, bound, start_us, cut)
        return self._result(ours, theirs, far_check, far_clock, ports, bound, start_us)

    def _watched(self, end: MediaEnd, begun: float) -> Failure | None:
        """Follow the run to its end, or to where it was cut."""
        try:
            self._watch(end)
        except _Cut as cut:
            return self._cut_short(begun, cut.code, str(cut))
        except (ChannelClosed, OSError) as error:
            return self._cut_short(begun, failures.GONE, f"went away ({error})")
        return None

    def _cut_short(self, begun: float, code: str, what: str) -> Failure:
        after_s = max(0.0, time.monotonic() - begun)
        reason = f"The far end at {self._host} {what}, {after_s:.0f} s into the calls."
        return Failure(code, reason, None, round(after_s, 3))

    def _open(self) -> tuple[list[int], str | None]:
        self._channel.send({"up": [s.as_json() for s in self._up], "down": [s.as_json() for s in self._down]})
        accepted = self._answer("accepted")
        ports = [*accepted["media_ports"], accepted["stamp_port"]]
        address = self._channel.peer_address()
        for port, dscp in zip(ports, [*(s.dscp for s in self._up), self._plan.dscp]):
            sock = open_media_socket(self._family, self._channel.own_address(), 0, dscp)
            self._sockets.append(sock)
            sock.connect((address, port))
        return ports, accepted.get("clock_id")

    def _answer(self, name: str) -> Unchecked:
        try:
            message = self._channel.receive_json()
        except WireError:
            raise CallError(
                f"The far end at {self._host} did not accept the key. Use the key file of that far end.", failures.KEY
            ) from None
        if "refused" in message:
            raise CallError(f"The far end at {self._host} refused: {message['refused']}", failures.REFUSED)
        if name not in message:
            raise WireError(f"{name} was expected.")
        value = message[name]
        return value if isinstance(value, dict) else {}

    def _watch(self, end: MediaEnd) -> None:
        """Follow the run until everything was sent, by the far end as well, and late packets had their time."""
        second, begun = 0, time.monotonic()
        far_sends_until = begun + _START_DELAY_NS / 1e9 + max(s.start_us + s.length_us for s in self._down) / 1e6
        far: list[list[int]] = []
        silent_until: float | None = None
        last_message_s = begun
        while True:
            now = time.monotonic()
            sending = end.sending() or (now < far_sends_until and not self._stopped)
            if not sending:
                silent_until = silent_until or now + SETTLE_S
                if now >= silent_until:
                    break
            wait = 0.1 if silent_until is None else max(0.0, min(0.1, silent_until - now))
            if self._channel.waiting(wait):
                far = self._far_last = self._take_progress()
                last_message_s = time.monotonic()
            elif now - last_message_s > SILENCE_LIMIT_S:
                raise _Cut(failures.SILENT, f"has said nothing for {SILENCE_LIMIT_S:.0f} s")
            if time.monotonic() - begun >= second + 1 and far:
                second += 1
                if not self._watcher(self._live(end, far, second)):
                    self._stop(end)
            if not self._go_on():
                self._stop(end)
        self._channel.send({"finish": {}})

    def _stop(self, end: MediaEnd) -> None:
        if not self._stopped:
            self._stopped = True
            end.stop()
            self._channel.send({"stop": {}})

    def _take_progress(self) -> list[list[int]]:
        try:
            message = self._channel.receive_json()
        except (ChannelClosed, TimeoutError):
            raise _Cut(failures.GONE, "went away") from None
        if "failed" in message or "refused" in message:
            raise CallError(f"The far end gave up: {message.get('failed') or message.get('refused')}")
        progress = message.get("progress")
        if not isinstance(progress, list) or len(progress) != len(self._up):
            raise WireError("progress was expected.")
        return progress

    def _live(self, end: MediaEnd, far: list[list[int]], second: int) -> LiveSecond:
        near = [end.board.call(i) for i in range(end.board.calls)]
        cells = end.board.cells
        late_max, cells[b.LATE_MAX_US] = cells[b.LATE_MAX_US], 0
        up = tuple(_live(sender[b.SENT], receiver) for sender, receiver in zip(near, far))
        down = tuple(_live(sender[b.SENT], receiver) for sender, receiver in zip(far, near))
        calls = self._plan.calls
        return LiveSecond(
            second=second,
            up=up[:calls],
            down=down[:calls],
            video_up=up[calls:],
            video_down=down[calls:],
            rtt_us=cells[b.RTT_US] or None,
            send_late_max_us=late_max,
        )

    def _collect(self) -> tuple[dict[int, dict[str, PackedColumn]], FarCheck]:
        check = FarCheck()
        while True:
            message = self._channel.receive(RECORD_LIMIT_S)
            if isinstance(message, bytes):
                records = [Record.parse(part) for part in split_parts(message)]
                return {int(r.meta["call"]): dict(r.columns) for r in records}, check
            if "record" in message:
                check = far_check_of(message["record"])
            elif "failed" in message:
                raise CallError(f"The far end gave up: {message['failed']}")

    def _result(
        self,
        ours: EndResult,
        theirs: dict[int, dict[str, PackedColumn]],
        far_check: FarCheck,
        far_clock: str | None,
        ports: list[int],
        bound: set[int],
        start_us: int,
        cut: Failure | None = None,
    ) -> RunResult:
        records = []
        video = self._plan.video_streams
        for call in range(len(self._up)):
            columns: dict[str, PackedColumn] = {}
            for direction, sender, receiver in (
                ("up", ours.columns[call], theirs.get(call, {})),
                ("down", theirs.get(call, {}), ours.columns[call]),
            ):
                if "sent_us" in sender:
                    columns[f"{direction}.sent_us"] = sender["sent_us"]
                for name, column in receiver.items():
                    if name.startswith("arrival_"):
                        columns[f"{direction}.{name}"] = column
            picture = call - self._plan.calls
            about: dict[str, object]
            if picture < 0:
                about = {"call": call + 1, "planned_packets": self._plan.packets}
            else:
                about = {
                    "video": picture + 1,
                    "profile": video[picture].name,
                    "planned_packets": video[picture].packets,
                }
            meta = {
                **about,
                "direction": self._plan.direction,
                "ptime_us": self._up[call].ptime_us,
                "start_us": start_us,
                "far_port": ports[call],
                "bound": call in bound,
                "up": {"ssrc": self._up[call].ssrc, "dscp_sent": self._up[call].dscp},
                "down": {"ssrc": self._down[call].ssrc, "dscp_sent": self._down[call].dscp},
            }
            if cut is not None:
                meta["half"] = self._half(call, cut)
            records.append(Record(meta, {n: PackedColumn(n, c.count, c.deflated) for n, c in columns.items()}))
        shared = far_clock is not None and far_clock == clock_id()
        reasons = (*selfcheck.judge("probe", ours.self_check), *far_check.reasons)
        return RunResult(
            calls=records[: self._plan.calls],
            video=records[self._plan.calls :],
            clock=Record({"shared": shared, "rtcp_rtt_us": ours.self_check.rtcp_rtt_us}, ours.stamps),
            self_check=SelfCheck(bool(reasons), reasons, ours.self_check, far_check.self_check),
            stopped=self._stopped,
            cut=cut,
            half_token=self._purpose("half").hex() if cut else None,
        )

    def _half(self, call: int, cut: Failure) -> dict[str, object]:
        """What stands in for the far end's half of one call."""
        told = self._far_last[call] if self._far_last else [0] * b.CALL_CELLS
        reached = max(0, told[b.EXPECTED])
        received = min(reached, max(0, told[b.RECEIVED]))
        return {"seconds": cut.after_s, "reached": reached, "received": received, "stream": call}


def _live(sent: int, receiver: list[int]) -> LiveDirection:
    received = receiver[b.RECEIVED]
    return LiveDirection(
        sent=sent,
        received=received,
        reached=receiver[b.EXPECTED],
        late=receiver[b.LATE],
        jitter_us=receiver[b.JITTER_US],
        pdv_us=receiver[b.LAST_TRANSIT_US] - receiver[b.MIN_TRANSIT_US] if received else 0,
    )
