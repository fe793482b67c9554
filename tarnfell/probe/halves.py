"""The far end's half of a run that was broken off, fetched once it can be reached again, and joined to this end's."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict
from typing import Any, NamedTuple

from tarnfell.media.channel import ChannelClosed
from tarnfell.probe.connect import CallError, connect
from tarnfell.wire import WireError
from tarnfell.wire.kinds.selfcheck import FarCheck, SelfCheck, far_check_of, self_check_of
from tarnfell.wire.record import PackedColumn, Record, join_parts, pack_column, split_parts

_ANSWER_S = 20.0
Theirs = dict[int, dict[str, PackedColumn]]
"""A far end's columns by call."""


class Ticket(NamedTuple):
    """Where the other half lies, and by what name."""

    host: str
    port: int
    key: str
    token: str
    until_s: float
    """Until then (Unix time) the far end may not have noticed yet that the run is over."""


class NotKept(Exception):
    """The far end answers and has nothing: it never will."""


def completed(run: bytes, ticket: Ticket) -> bytes:
    """The run with both halves. Raises NotKept, and CallError while the far end cannot be reached."""
    return _whole(run, *_fetch(ticket))


def completed_with(run: bytes, kept: bytes) -> bytes:
    """The same, of a far end's half that is at hand. Raises NotKept."""
    try:
        about, *records = split_parts(kept)
        return _whole(run, *_read(Record.parse(about).meta["about"], records))
    except (WireError, AttributeError, KeyError, TypeError, ValueError) as error:
        raise NotKept(f"what was kept is not understood: {error}") from None


def _whole(run: bytes, theirs: Theirs, check: FarCheck, reach: object) -> bytes:
    head, *parts = split_parts(run)
    records = [_joined(Record.parse(part), theirs) for part in parts]
    return join_parts(record.serialize() for record in [_judged(Record.parse(head), check, reach), *records])


def _fetch(ticket: Ticket) -> tuple[Theirs, FarCheck, object]:
    channel, _, _ = connect(ticket.host, ticket.port, ticket.key.encode())
    try:
        channel.send({"half": ticket.token})
        message = channel.receive_json(_ANSWER_S)
        if "record" not in message:
            raise NotKept(str(message.get("refused", "nothing was told")))
        body = channel.receive(_ANSWER_S)
        if not isinstance(body, bytes):
            raise NotKept("the record was not told")
        return _read(message["record"], split_parts(body))
    except (ChannelClosed, TimeoutError) as error:
        raise CallError(f"The far end at {ticket.host} went away again: {error}") from None
    except (WireError, AttributeError, KeyError, TypeError, ValueError) as error:
        raise NotKept(f"what was told is not understood: {error}") from None
    finally:
        channel.close()


def _read(about: Mapping[str, Any], parts: list[bytes]) -> tuple[Theirs, FarCheck, object]:
    """Its columns by call, what it says of itself, and of where a browser's packets came from."""
    records = [Record.parse(part) for part in parts]
    columns = {int(r.meta["call"]): dict(r.columns) for r in records}
    return columns, far_check_of(about), about.get("reach")


def _joined(ours: Record, theirs: Theirs) -> Record:
    """One call or stream with both halves; as it is where the far end had none of it."""
    stream = ours.meta["half"].get("stream") if isinstance(ours.meta.get("half"), dict) else None
    far = theirs.get(stream) if isinstance(stream, int) else None
    if far is None:
        return ours
    columns = dict(ours.columns)
    columns.update(_arrived(far, ours.columns.get("up.sent_us")))
    if "sent_us" in far:
        came = ours.columns.get("down.arrival_seq")
        least = max(came.values(), default=-1) + 1 if came else 0
        columns["down.sent_us"] = _until(far["sent_us"], float(ours.meta["half"]["seconds"]), least)
    meta = {name: value for name, value in ours.meta.items() if name != "half"}
    return Record(meta, columns)


def _arrived(far: Mapping[str, PackedColumn], sent: PackedColumn | None) -> dict[str, PackedColumn]:
    """What came up, of what this end tells that it sent: of what it sent as it was closed it says nothing."""
    found = {name: column for name, column in far.items() if name.startswith("arrival_")}
    numbers = found["arrival_seq"].values() if sent is not None and "arrival_seq" in found else []
    if sent is None or max(numbers, default=-1) < sent.count:
        return {f"up.{name}": PackedColumn(f"up.{name}", one.count, one.deflated) for name, one in found.items()}
    known = [place for place, number in enumerate(numbers) if number < sent.count]
    values = {name: one.values() for name, one in found.items()}
    return {f"up.{name}": pack_column(f"up.{name}", [all_[at] for at in known]) for name, all_ in values.items()}


def _until(sent: PackedColumn, seconds: float, least: int) -> PackedColumn:
    """What was sent while this end still listened, and the ``least`` that came: the far end goes on until it notices,
    and nobody counts that."""
    times = sent.values()
    first = next((at for at in times if at), 0)
    count = next((i for i, at in enumerate(times) if at and at - first > seconds * 1e6), len(times))
    return pack_column("down.sent_us", times[: max(count, least)])


def _judged(head: Record, far: FarCheck, reach: object) -> Record:
    own = self_check_of(head.meta.get("self_check"))
    reasons = (*own.reasons, *far.reasons)
    check = SelfCheck(bool(reasons), reasons, own.probe, far.self_check)
    told = {"far_reach": reach} if reach is not None else {}
    return Record({**head.meta, "self_check": asdict(check), **told}, head.columns)
