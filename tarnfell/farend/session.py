"""One session at the far end, from greeting to record. Each runs in a process of its own."""

from __future__ import annotations

import secrets
import socket
import time
from collections.abc import Callable, Mapping
from dataclasses import asdict, dataclass
from typing import Any, Literal

from tarnfell.farend.binding import await_bound
from tarnfell.farend.bindings import tell_bindings
from tarnfell.farend.filling import Asked, fill
from tarnfell.farend.halves import Halves
from tarnfell.farend.offer import Offer, Refused, open_sockets, spread
from tarnfell.farend.reflecting import answer_stamps
from tarnfell.farend.signalling import PortTaken, serve_signalling
from tarnfell.farend.wayback import trace_back
from tarnfell.media.channel import Channel, ChannelClosed
from tarnfell.media.engine import CallMedia, EndResult, MediaEnd
from tarnfell.media.host import clock_id
from tarnfell.media.streams import MAX_STREAMS, StreamSpec
from tarnfell.media.workers import WorkerLost
from tarnfell.wire import Unchecked, WireError
from tarnfell.wire.control import NONCE_BYTES, PROTOCOL_VERSION, Seal, session_key
from tarnfell.wire.kinds import selfcheck
from tarnfell.wire.kinds.fields import KindError, read
from tarnfell.wire.record import Record, join_parts, split_parts

START_DELAY_NS = 200_000_000
OVERTIME_S = 30.0
"""After the planned end of a run, how long to wait for the probe to ask for the record."""
MAX_RATE_BPS = 100_000_000
WRONG_KEY_PAUSE_S = 1.0


@dataclass(frozen=True)
class _Plan:
    up: list[StreamSpec]
    down: list[StreamSpec]

    @property
    def length_s(self) -> float:
        return max(s.start_us + s.length_us for s in self.up + self.down) / 1e6


Sort = Literal["calls", "stamps", "fill", "browsers"]
Admit = Callable[[Sort], bool]
"""Whether there is room for one more session of this sort, which from then on counts."""


def serve(sock: socket.socket, key: bytes, offer: Offer, admit: Admit) -> None:
    """Serve one probe on its control connection; returns when it is over, whatever happened.

    ``admit`` is asked once the other side has shown the key: whether there is room for it.
    """
    channel = Channel(sock, Seal("farend", None), Seal("probe", None))
    try:
        _serve(channel, key, offer, admit)
    except Refused as refusal:
        _last_words(channel, {"refused": str(refusal)})
    except (ChannelClosed, TimeoutError):
        pass  # the probe went away; nothing is left sending
    except WorkerLost as error:
        _last_words(channel, {"failed": str(error)})
    except WireError as error:
        _last_words(channel, {"refused": f"The far end did not understand: {error}"})
    finally:
        channel.close()


def _serve(channel: Channel, key: bytes, offer: Offer, admit: Admit) -> None:
    ours = secrets.token_bytes(NONCE_BYTES)
    channel.send({"tarnfell": PROTOCOL_VERSION, "nonce": ours.hex()})
    greeting = channel.receive_json()
    try:
        theirs = bytes.fromhex(str(greeting.get("nonce")))
    except ValueError:
        raise WireError("Greeting without a nonce.") from None

    def purpose(name: str) -> bytes:
        return session_key(key, ours, theirs, name)

    control = purpose("control")
    incoming = Seal("probe", control)
    try:
        channel.reseal(Seal("farend", None), incoming)
        request = channel.receive_json()
    except WireError:
        # Slow, so that keys cannot be tried out; bare, because the other side holds another key.
        time.sleep(WRONG_KEY_PAUSE_S)
        raise Refused("wrong key") from None
    channel.reseal(Seal("farend", control), incoming)
    if not admit(_sort_of(request)):
        raise Refused("It serves as many probes as it can at once. Try again when one of them is done.")
    if "half" in request:
        return _tell_half(channel, offer, str(request["half"]))
    if "browser" in request:
        if offer.browsers is None:
            raise Refused("It takes no calls from browsers: it was not started for them.")
        return offer.browsers(channel, offer, request["browser"])
    if "stamps" in request:
        return _answer_stamps(channel, offer, request["stamps"], purpose("stamp"))
    if "signalling" in request:
        try:
            return serve_signalling(channel, offer, request["signalling"], purpose("sip").hex())
        except PortTaken as error:
            raise Refused(str(error)) from None
    if "bindings" in request:
        many = request["bindings"].get("spread") if isinstance(request["bindings"], dict) else None
        return tell_bindings(channel, spread(offer) if many else open_sockets(offer, [0, 0]))
    if "way_back" in request:
        return trace_back(channel, offer, request["way_back"], purpose("bind"))
    if "fill" in request:
        try:
            return fill(channel, read(Asked, request["fill"], "The request"))
        except KindError as error:
            raise Refused(str(error)) from None
    plan = _read_plan(request)
    *sockets, stamp_sock = open_sockets(offer, [s.dscp for s in plan.down] + [plan.down[0].dscp])
    try:
        _run(channel, plan, sockets, stamp_sock, purpose, offer.halves)
    finally:
        for sock in [*sockets, stamp_sock]:
            sock.close()


def _sort_of(request: Unchecked) -> Sort:
    if any(one in request for one in ("stamps", "bindings", "signalling", "way_back")):
        return "stamps"
    return "fill" if "fill" in request else "browsers" if "browser" in request else "calls"


def _read_plan(request: Unchecked) -> _Plan:
    up, down = request.get("up"), request.get("down")
    if not isinstance(up, list) or not isinstance(down, list) or len(up) != len(down):
        raise Refused("The request names no streams.")
    if not 1 <= len(up) <= MAX_STREAMS:
        raise Refused(f"{len(up)} concurrent calls were asked for; this far end takes 1 to {MAX_STREAMS}.")
    try:
        plan = _Plan([StreamSpec.from_json(s) for s in up], [StreamSpec.from_json(s) for s in down])
    except WireError as error:
        raise Refused(str(error)) from None
    if not any(s.packets for s in plan.up + plan.down):
        raise Refused("The request sends nothing in either direction.")
    rate = sum(s.rate_bps for s in plan.down)
    if rate > MAX_RATE_BPS:
        raise Refused(f"{rate // 1_000_000} Mbit/s were asked for; this far end sends at most 100.")
    return plan


def _answer_stamps(channel: Channel, offer: Offer, asked: Any, key: bytes) -> None:
    dscp = asked.get("dscp") if isinstance(asked, dict) else None
    if not isinstance(dscp, int) or not 0 <= dscp <= 63:
        raise Refused("The request for time stamps names no DSCP from 0 to 63.")
    (sock,) = open_sockets(offer, [dscp])
    with sock:
        answer_stamps(channel, sock, key)


def _run(
    channel: Channel,
    plan: _Plan,
    sockets: list[socket.socket],
    stamp_sock: socket.socket,
    purpose: Callable[[str], bytes],
    halves: Halves | None,
) -> None:
    channel.send(
        {
            "accepted": {
                "media_ports": [s.getsockname()[1] for s in sockets],
                "stamp_port": stamp_sock.getsockname()[1],
                "clock_id": clock_id(),
            }
        }
    )
    bound = await_bound(channel, sockets, purpose("bind"))
    calls = []
    for i, sock in enumerate(sockets):
        if i in bound:
            sock.connect(bound[i])
        calls.append(CallMedia(i, sock, plan.down[i] if i in bound else None, plan.up[i], plan.down[i].ssrc))
    end = MediaEnd(calls, stamp_sock, purpose("stamp"), reflect=True)
    try:
        end.start(time.monotonic_ns() + START_DELAY_NS)
        try:
            channel.send({"started": {"bound": sorted(bound)}})
            _watch(channel, end, plan)
        except (ChannelClosed, TimeoutError, Refused):
            # The line or the probe went away: what this end has is half of the evidence of that.
            _keep_half(halves, purpose, end.finish())
            raise
        result = end.finish()
    except BaseException:
        end.kill()
        raise
    try:
        _hand_over(channel, result)
    except (ChannelClosed, TimeoutError):
        _keep_half(halves, purpose, result)
        raise


def _watch(channel: Channel, end: MediaEnd, plan: _Plan) -> None:
    """Report each second until the probe asks for the record."""
    begun = time.monotonic()
    second = 1
    while True:
        left = begun + second - time.monotonic()
        if channel.waiting(max(0.0, left)):
            message = channel.receive_json()
            if "stop" in message:
                end.stop()
            elif "finish" in message:
                return
            continue
        end.sending()  # raises when a worker died
        channel.send({"progress": [end.board.call(i) for i in range(end.board.calls)]})
        second += 1
        if time.monotonic() - begun > plan.length_s + OVERTIME_S:
            raise Refused("The probe did not ask for the record in time.")


def _hand_over(channel: Channel, result: EndResult) -> None:
    channel.send({"record": _about(result)})
    channel.send_bytes(join_parts(_records(result)))


def _about(result: EndResult) -> dict[str, object]:
    return {"self_check": asdict(result.self_check), "reasons": selfcheck.judge("far end", result.self_check)}


def _records(result: EndResult) -> list[bytes]:
    return [Record({"call": c}, cols).serialize() for c, cols in result.columns.items()]


def _keep_half(halves: Halves | None, purpose: Callable[[str], bytes], result: EndResult) -> None:
    if halves:
        about = Record({"about": _about(result)}).serialize()
        halves.keep(purpose("half").hex(), join_parts([about, *_records(result)]))


def _tell_half(channel: Channel, offer: Offer, token: str) -> None:
    """What was kept of a run that was broken off. Raises Refused where there is nothing."""
    kept = offer.halves.take(token) if offer.halves else None
    if kept is None:
        raise Refused("Nothing was kept of that run.")
    about, *records = split_parts(kept)
    channel.send({"record": Record.parse(about).meta["about"]})
    channel.send_bytes(join_parts(records))


def _last_words(channel: Channel, message: Mapping[str, object]) -> None:
    try:
        channel.send(message)
    except (ChannelClosed, OSError):
        pass
