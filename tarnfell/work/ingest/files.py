"""Imported files read and judged: captures by the codec somebody names, logs of ping by host.

What is read is a plain value that can be kept as JSON; ``Choices`` is what people say of it, by which it is read again
when they change their mind.
"""

from __future__ import annotations

import io
from collections.abc import Callable, Mapping, Sequence
from dataclasses import asdict, dataclass, field, replace
from datetime import UTC, datetime
from typing import Any
from zoneinfo import ZoneInfo

import numpy as np

from tarnfell.core.codecs import Codec
from tarnfell.core.figures import count
from tarnfell.core.legs import ROLES, EchoPath, Role, Stretch, Target, echo_path, stretch_of
from tarnfell.core.quality import criterion_for, judge, judge_seconds
from tarnfell.core.verdict.moments import CELL_MINUTES
from tarnfell.exchange.capture import find_streams
from tarnfell.exchange.echolog import CAUTION, EchoLog, EchoLogError, read_echo_logs
from tarnfell.exchange.foreign import UNKNOWN_CODEC, foreign_fields
from tarnfell.exchange.pairs import pairs_of
from tarnfell.exchange.records import CAPTURE_MAGICS, CaptureError
from tarnfell.exchange.streams import FoundStream

MAX_STREAMS = 500
MAX_POINTS = 1500
_TEXT_CONTROLS = frozenset(range(32)) - {9, 10, 12, 13, 27}
LEAST_MINUTE = 5
"""Echoes of a minute from which it is compared with others'."""


class FileError(ValueError):
    """A file nothing can be read from; the text says why."""


@dataclass(frozen=True)
class Choices:
    """What people said of an imported file."""

    codecs: Mapping[str, str] = field(default_factory=dict)
    """By the stream's place in the list; "*" for all that name none."""
    pairs: list[list[int]] | None = None
    """Streams that are one call; None where nobody said, and those that fit are paired."""
    roles: Mapping[str, Role] = field(default_factory=dict)
    """Where along the path each log's host stands, by its place in the list."""
    starts_local: str | None = None
    """When a log began that does not tell it; local time at the site."""
    test_point_id: int | None = None
    """The test point it speaks for."""
    shown: bool = False
    """Beside the day sheet."""

    @staticmethod
    def of(kept: Mapping[str, Any]) -> Choices:
        return replace(
            Choices(), **{name: value for name, value in kept.items() if name in Choices.__dataclass_fields__}
        )

    def kept(self) -> dict[str, Any]:
        return asdict(self)

    def codec_of(self, place: int, stream: FoundStream) -> str | None:
        named = self.codecs.get(str(place))
        if named:
            return named
        return stream.codec or (self.codecs.get("*") if stream.media == "audio" else None)


def kind_of(body: bytes, name: str) -> str:
    """What a file seems to be, by how it begins. Raises FileError for what is neither."""
    if not body:
        raise FileError("The file is empty.")
    if body[:4] in CAPTURE_MAGICS:
        return "capture"
    if _binary(body):
        raise FileError(f"{name} is neither a capture (pcap, pcapng) nor a text.")
    return "echo log"


def read_file(body: bytes, name: str, choices: Choices, codec_of: Callable[[str], Codec]) -> tuple[str, dict[str, Any]]:
    """Kind ("capture" or "echo log") and what is in it. Raises FileError, and CodecError for an unknown codec."""
    kind = kind_of(body, name)
    try:
        if kind == "capture":
            return kind, _capture(body, choices, codec_of)
        return kind, {"packets": 0, "cut_short": False, "streams": [], "notes": [], "pairs": [],
                            "echoes": [echo_values(log) for log in read_echo_logs(body)]}  # fmt: skip
    except (CaptureError, EchoLogError) as error:
        raise FileError(str(error)) from None


def _binary(body: bytes) -> bool:
    start = body[:400]
    if start[:2] in (b"\xff\xfe", b"\xfe\xff") or start.count(0) > len(start) // 4:
        return len(start) < 8  # UTF-16; no log is as short
    return any(byte in _TEXT_CONTROLS for byte in start)


def _capture(body: bytes, choices: Choices, codec_of: Callable[[str], Codec]) -> dict[str, Any]:
    for named in choices.codecs.values():
        codec_of(named)
    found = find_streams(io.BytesIO(body))
    if not found.streams:
        raise FileError(f"None of the {count(found.packets)} packets in this capture belong to an RTP stream.")
    notes = list(found.notes)
    kept = found.streams[:MAX_STREAMS]
    if len(kept) < len(found.streams):
        notes.append(f"The capture holds {len(found.streams)} streams; the {MAX_STREAMS} longest are shown.")
    return {
        "packets": found.packets,
        "cut_short": found.cut_short,
        "notes": notes,
        "streams": [_stream(s, choices.codec_of(i, s), codec_of) for i, s in enumerate(kept)],
        "pairs": [list(pair) for pair in pairs_of(kept)],
        "echoes": [],
    }


def _stream(one: FoundStream, name: str | None, codec_of: Callable[[str], Codec]) -> dict[str, Any]:
    codec = codec_of(name) if name else None
    criterion = UNKNOWN_CODEC
    if codec:
        ptime = min(codec.intervals_ms(), key=lambda ms: abs(ms - one.ptime_ms))
        criterion = criterion_for(codec, ptime)
    fields = foreign_fields(one, name, judge(one.trace, criterion).fields(), codec is not None, criterion.mos_scale)
    seconds = []
    if codec:
        judged = judge_seconds(one.trace, criterion)
        rows = zip(judged.mos.tolist(), judged.lost.tolist(), judged.late.tolist(), strict=True)
        seconds = [{"mos": mos, "lost": lost, "late": late} for mos, lost, late in rows]
    return {
        **fields,
        "names_codec": one.codec is not None,
        "codec_title": codec.title if codec else None,
        "reason": fields.get("reason"),
        "seconds": seconds,
    }


def echo_values(log: EchoLog) -> dict[str, Any]:
    """A log of one host as it is kept."""
    return {
        "system": log.system,
        "host": log.host,
        "stamped": log.stamped,
        "started": log.started.isoformat() if log.started else None,
        "runs": log.runs,
        "duplicates": log.duplicates,
        "notes": list(log.notes),
        "strange": [list(line) for line in log.strange],
        **log.figures(),
        "points": _thinned([(e.at_s, e.rtt_ms, e.answered) for e in log.samples]),
        "minutes": _minutes(log),
        "caution": CAUTION,
    }


def _minutes(log: EchoLog) -> list[list[float | int | None]]:
    """Of each minute since the log began: its number, requests, unanswered, median and 95th percentile."""
    if not log.stamped:
        return []
    rows: dict[int, list[Any]] = {}
    # A minute of the clock and not of the log, so that logs of several hosts have the same ones.
    into_s = log.started.second + log.started.microsecond / 1e6 if log.started else 0.0
    for echo in log.samples:
        rows.setdefault(int((echo.at_s + into_s) // 60), []).append(echo)
    out: list[list[float | int | None]] = []
    for minute, echoes in sorted(rows.items()):
        stretch = stretch_of((e.rtt_ms for e in echoes), (e.answered for e in echoes))
        out.append([minute, stretch.sent, stretch.lost, stretch.p50_ms, stretch.p95_ms])
    return out


def _thinned(points: list[tuple[float, float | None, bool]]) -> list[tuple[float, float | None]]:
    """Few enough for a screen: of each stretch the least, the most and one that was not answered.

    An answer that told no time is left out of the picture, not of the counts.
    """
    kept = [(at, rtt) for at, rtt, answered in points if rtt is not None or not answered]
    if len(kept) <= MAX_POINTS:
        return kept
    keep: set[int] = set()
    for stretch in np.array_split(np.arange(len(kept)), MAX_POINTS // 3):
        known = [int(i) for i in stretch if kept[i][1] is not None]
        silent = [int(i) for i in stretch if kept[i][1] is None]
        keep.update(silent[:1])
        if known:
            keep.add(min(known, key=lambda i: kept[i][1] or 0.0))
            keep.add(max(known, key=lambda i: kept[i][1] or 0.0))
    return [kept[i] for i in sorted(keep)]


# What several files say together, and where they stand in the site's days


def started_us(echo: Mapping[str, Any], choices: Choices, zone: ZoneInfo) -> int | None:
    """When a log began: by its stamps, in the site's zone where they name none; or as somebody said."""
    told = echo["started"] or choices.starts_local
    if told is None:
        return None
    at = datetime.fromisoformat(told)
    if at.tzinfo is None:
        at = at.replace(tzinfo=zone)
    return round(at.timestamp() * 1e6)


def target_of(echo: Mapping[str, Any], role: Role, began_us: int | None) -> Target:
    whole = Stretch(echo["sent"], echo["lost"], echo["rtt_p50_ms"], echo["rtt_p95_ms"])
    minutes = None
    if began_us is not None and echo["minutes"]:
        first = began_us // 60_000_000
        minutes = {first + int(m[0]): Stretch(m[1], m[2], m[3], m[4]) for m in echo["minutes"] if m[1] >= LEAST_MINUTE}
    return Target(role, echo["host"], whole, minutes)


def path_of(logs: Sequence[tuple[Mapping[str, Any], Role, int | None]]) -> EchoPath | None:
    """The picture of the newest log of each role; None below two of them."""
    newest = {role: target_of(echo, role, began) for echo, role, began in reversed(logs) if role in ROLES}
    return echo_path(list(newest.values())) if len(newest) >= 2 else None


@dataclass(frozen=True)
class Cell:
    """Ten minutes of a file: the worst that was found in them."""

    day: str
    cell: int
    mos: float | None
    loss_pct: float


def cells_of(result: Mapping[str, Any], choices: Choices, zone: ZoneInfo) -> list[Cell]:
    """Where a file stands in the site's local days; empty where it is not known when it was."""
    worst: dict[tuple[str, int], list[tuple[float | None, int, int]]] = {}

    def put(at_us: float, mos: float | None, lost: int, sent: int) -> None:
        local = datetime.fromtimestamp(at_us / 1e6, UTC).astimezone(zone)
        cell = (local.hour * 60 + local.minute) // CELL_MINUTES
        worst.setdefault((local.date().isoformat(), cell), []).append((mos, lost, sent))

    for stream in result["streams"]:
        a_second = max(1, round(1000 / stream["ptime_ms"])) if stream["ptime_ms"] else 50
        for second, row in enumerate(stream["seconds"]):
            put(stream["first_us"] + second * 1e6, row["mos"], row["lost"], max(a_second, row["lost"]))
    for echo in result["echoes"]:
        began = started_us(echo, choices, zone)
        rows = echo["minutes"] or [[int(at // 60), 1, rtt is None, 0, 0] for at, rtt in echo["points"]]
        for minute, sent, lost, *_ in rows if began is not None else []:
            put(began + minute * 60e6, None, int(lost), sent)
    return [
        Cell(day, cell, min((m for m, _, _ in rows if m is not None), default=None),
             100 * sum(lost for _, lost, _ in rows) / max(1, sum(sent for _, _, sent in rows)))
        for (day, cell), rows in sorted(worst.items())
    ]  # fmt: skip
