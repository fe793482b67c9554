"""Imported files read and judged: captures by the codec somebody names, logs of ping by host.

They are read again when people change their mind about what they said of them.
"""

from __future__ import annotations

import io
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from zoneinfo import ZoneInfo

import numpy as np

from tarnfell.core.codecs import Codec
from tarnfell.core.figures import count
from tarnfell.core.imported import Choices, EchoMinute, FileContents, ImportedEcho, ImportedStream, StreamSecond
from tarnfell.core.legs import ROLES, EchoPath, Role, Stretch, Target, echo_path, stretch_of
from tarnfell.core.quality import criterion_for, judge, judge_seconds
from tarnfell.core.verdict.moments import CELL_MINUTES
from tarnfell.exchange.capture import find_streams
from tarnfell.exchange.echolog import CAUTION, Echo, EchoLog, EchoLogError, read_echo_logs
from tarnfell.exchange.foreign import UNKNOWN_CODEC, no_quality
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


def kind_of(body: bytes, name: str) -> str:
    """What a file seems to be, by how it begins. Raises FileError for what is neither."""
    if not body:
        raise FileError("The file is empty.")
    if body[:4] in CAPTURE_MAGICS:
        return "capture"
    if _binary(body):
        raise FileError(f"{name} is neither a capture (pcap, pcapng) nor a text.")
    return "echo log"


def read_file(body: bytes, name: str, choices: Choices, codec_of: Callable[[str], Codec]) -> tuple[str, FileContents]:
    """Kind ("capture" or "echo log") and what is in it. Raises FileError, and CodecError for an unknown codec."""
    kind = kind_of(body, name)
    try:
        if kind == "capture":
            return kind, _capture(body, choices, codec_of)
        return kind, FileContents(echoes=tuple(imported_echo(log) for log in read_echo_logs(body)))
    except (CaptureError, EchoLogError) as error:
        raise FileError(str(error)) from None


def _binary(body: bytes) -> bool:
    start = body[:400]
    if start[:2] in (b"\xff\xfe", b"\xfe\xff") or start.count(0) > len(start) // 4:
        return len(start) < 8  # UTF-16; no log is as short
    return any(byte in _TEXT_CONTROLS for byte in start)


def _capture(body: bytes, choices: Choices, codec_of: Callable[[str], Codec]) -> FileContents:
    for named in choices.codecs.values():
        codec_of(named)
    found = find_streams(io.BytesIO(body))
    if not found.streams:
        raise FileError(f"None of the {count(found.packets)} packets in this capture belong to an RTP stream.")
    notes = list(found.notes)
    kept = found.streams[:MAX_STREAMS]
    if len(kept) < len(found.streams):
        notes.append(f"The capture holds {len(found.streams)} streams; the {MAX_STREAMS} longest are shown.")
    codecs = [choices.codec_of(i, one.codec, one.media) for i, one in enumerate(kept)]
    return FileContents(
        packets=found.packets,
        cut_short=found.cut_short,
        notes=tuple(notes),
        streams=tuple(_stream(one, name, codec_of) for one, name in zip(kept, codecs, strict=True)),
        pairs=tuple(pairs_of(kept)),
    )


def _stream(one: FoundStream, name: str | None, codec_of: Callable[[str], Codec]) -> ImportedStream:
    codec = codec_of(name) if name else None
    criterion = UNKNOWN_CODEC
    if codec:
        ptime = min(codec.intervals_ms(), key=lambda ms: abs(ms - one.ptime_ms))
        criterion = criterion_for(codec, ptime)
    judged = judge(one.trace, criterion)
    seconds: tuple[StreamSecond, ...] = ()
    if codec:
        each = judge_seconds(one.trace, criterion)
        rows = zip(each.mos.tolist(), each.lost.tolist(), each.late.tolist(), strict=True)
        seconds = tuple(StreamSecond(*row) for row in rows)
    metrics = judged.metrics
    return ImportedStream(
        ssrc=one.ssrc,
        source=one.source,
        destination=one.destination,
        payload_type=one.payload_type,
        media=one.media,
        codec=name,
        codec_title=codec.title if codec else None,
        names_codec=one.codec is not None,
        ptime_ms=one.ptime_ms,
        first_us=one.first_us,
        skew_ppm=one.skew_ppm,
        dscp_received=one.dscp,
        sent=metrics.sent,
        lost=metrics.lost,
        loss_pct=metrics.loss_pct,
        late=judged.late,
        duplicates=metrics.duplicates,
        reordered=metrics.reordered,
        burst_ratio=metrics.burst_ratio,
        longest_loss_run=metrics.longest_loss_run,
        jitter_ms=metrics.jitter_ms,
        jitter_max_ms=metrics.jitter_max_ms,
        pdv_p95_ms=metrics.pdv_p95_ms,
        pdv_max_ms=metrics.pdv_max_ms,
        r_factor=judged.r_factor if codec else None,
        mos=judged.mos if codec else None,
        mos_scale=criterion.mos_scale,
        reason=None if codec else no_quality(one),
        notes=tuple(one.notes),
        seconds=seconds,
    )


def imported_echo(log: EchoLog) -> ImportedEcho:
    """A log of one host as it is kept."""
    return ImportedEcho(
        system=log.system,
        host=log.host,
        stamped=log.stamped,
        started=log.started.isoformat() if log.started else None,
        runs=log.runs,
        duplicates=log.duplicates,
        notes=tuple(log.notes),
        strange=tuple(log.strange),
        **vars(log.figures()),
        points=tuple(_thinned([(e.at_s, e.rtt_ms, e.answered) for e in log.samples])),
        minutes=_minutes(log),
        caution=CAUTION,
    )


def _minutes(log: EchoLog) -> tuple[EchoMinute, ...]:
    if not log.stamped:
        return ()
    rows: dict[int, list[Echo]] = {}
    # A minute of the clock and not of the log, so that logs of several hosts have the same ones.
    into_s = log.started.second + log.started.microsecond / 1e6 if log.started else 0.0
    for echo in log.samples:
        rows.setdefault(int((echo.at_s + into_s) // 60), []).append(echo)
    out: list[EchoMinute] = []
    for minute, echoes in sorted(rows.items()):
        stretch = stretch_of((e.rtt_ms for e in echoes), (e.answered for e in echoes))
        out.append(EchoMinute(minute, stretch.sent, stretch.lost, stretch.p50_ms, stretch.p95_ms))
    return tuple(out)


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


def started_us(echo: ImportedEcho, choices: Choices, zone: ZoneInfo) -> int | None:
    """When a log began: by its stamps, in the site's zone where they name none; or as somebody said."""
    told = echo.started or choices.starts_local
    if told is None:
        return None
    at = datetime.fromisoformat(told)
    if at.tzinfo is None:
        at = at.replace(tzinfo=zone)
    return round(at.timestamp() * 1e6)


def target_of(echo: ImportedEcho, role: Role, began_us: int | None) -> Target:
    whole = Stretch(echo.sent, echo.lost, echo.rtt_p50_ms, echo.rtt_p95_ms)
    minutes = None
    if began_us is not None and echo.minutes:
        first = began_us // 60_000_000
        minutes = {
            first + m.minute: Stretch(m.sent, m.lost, m.p50_ms, m.p95_ms)
            for m in echo.minutes
            if m.sent >= LEAST_MINUTE
        }
    return Target(role, echo.host, whole, minutes)


def path_of(logs: Sequence[tuple[ImportedEcho, Role, int | None]]) -> EchoPath | None:
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


def cells_of(result: FileContents, choices: Choices, zone: ZoneInfo) -> list[Cell]:
    """Where a file stands in the site's local days; empty where it is not known when it was."""
    worst: dict[tuple[str, int], list[tuple[float | None, int, int]]] = {}

    def put(at_us: float, mos: float | None, lost: int, sent: int) -> None:
        local = datetime.fromtimestamp(at_us / 1e6, UTC).astimezone(zone)
        cell = (local.hour * 60 + local.minute) // CELL_MINUTES
        worst.setdefault((local.date().isoformat(), cell), []).append((mos, lost, sent))

    for stream in result.streams:
        a_second = max(1, round(1000 / stream.ptime_ms)) if stream.ptime_ms else 50
        for second, row in enumerate(stream.seconds):
            put(stream.first_us + second * 1e6, row.mos, row.lost, max(a_second, row.lost))
    for echo in result.echoes:
        began = started_us(echo, choices, zone)
        if began is None:
            continue
        each = echo.minutes or [EchoMinute(int(at // 60), 1, int(rtt is None), None, None) for at, rtt in echo.points]
        for one in each:
            put(began + one.minute * 60e6, None, one.lost, one.sent)
    return [
        Cell(day, cell, min((m for m, _, _ in rows if m is not None), default=None),
             100 * sum(lost for _, lost, _ in rows) / max(1, sum(sent for _, _, sent in rows)))
        for (day, cell), rows in sorted(worst.items())
    ]  # fmt: skip
