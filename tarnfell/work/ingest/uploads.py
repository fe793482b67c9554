"""A run's record file read and judged, before anything of it is written. Touches no database."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from dataclasses import fields, replace

from tarnfell.core.clock import UNKNOWN, ClockRelation
from tarnfell.core.codecs import Codec
from tarnfell.core.directions import DirectionFigures, PictureFigures
from tarnfell.core.quality import Criterion, criterion_for, worst_of
from tarnfell.core.video import find_profile
from tarnfell.store.calls import JudgedAgain, JudgedCall, JudgedRun, StoredCall
from tarnfell.store.clocks import PairRun
from tarnfell.store.runs import Run
from tarnfell.store.videos import StoredVideo
from tarnfell.wire import WireError
from tarnfell.wire.failures import CUTS, Failure
from tarnfell.wire.kinds.selfcheck import self_check_of
from tarnfell.wire.record import Record, split_parts
from tarnfell.work.ingest.clocks import known_better, settled
from tarnfell.work.ingest.packets import (
    Half,
    JudgedDirection,
    clock_relation,
    flowing,
    half_of,
    judge_record,
    parse_checked,
    picture_criterion,
    which_and_when,
)
from tarnfell.work.ingest.pictures import judge_video, picture_figures

_MAX_REASON = 500
MOST_OF_PLAN = 4
"""Packets that a record may tell of, as a multiple of those planned: a broken path doubles packets, and then again."""
LEAST_VALUES = 20_000
"""However short the run."""


def judge_upload(run: Run, body: bytes, codec: Codec, pair: Sequence[PairRun] = ()) -> JudgedRun:
    """Read and judge a run's record file; ``pair`` are the other runs of its two ends near by.

    Raises WireError; touches no database.
    """
    parts = split_parts(body)
    check_count(run, len(parts))
    check_size(run, parts)
    head = Record.parse(parts[0])
    sound, pictures = parts[1 : run.calls + 1], parts[run.calls + 1 :]
    estimate = clock_relation(head, (parse_checked(part) for part in (*sound, *pictures)))
    relation = settled(estimate, pair)
    criterion = criterion_for(codec, run.ptime_ms)
    calls = [judge_call(part, relation, criterion) for part in sound]
    video = [judge_video(part, relation, picture_criterion(head)) for part in pictures]
    for numbers in ([call.number for call in calls], [stream.number for stream in video]):
        if len(set(numbers)) != len(numbers):
            raise WireError("The record file holds one call or stream twice.")
    return JudgedRun(
        sha256=hashlib.sha256(body).hexdigest(),
        clock_record=parts[0],
        self_check=self_check_of(head.meta.get("self_check")),
        stopped=bool(head.meta.get("stopped")),
        calls=calls,
        video=video,
        codec=codec,
        estimate=estimate,
        relation=relation,
        puts_right=known_better(run.begun_us or run.created_us, estimate, pair),
        cut=cut_of(head),
    )


def check_count(run: Run, parts: int) -> None:
    """Whether a file of so many records, the clock's among them, can be this run's. Raises WireError."""
    if parts == 0:
        raise WireError("The record file is empty.")
    if parts - 1 != run.calls + run.video_streams:
        had = f"{run.calls} calls" + (f" and {run.video_streams} video streams" if run.video else "")
        raise WireError(f"The record file holds {parts - 1} records; the run had {had}.")


def check_size(run: Run, parts: Sequence[bytes]) -> None:
    """Whether the run can have had as many packets as its records say, before any is unpacked. Raises WireError.

    A column of a few kilobytes may unpack to a hundred megabytes, and a file holds many columns.
    """
    per_s = max([1000 / run.ptime_ms, *(find_profile(load.profile).packets_per_s() for load in run.video)])
    most = max(LEAST_VALUES, round(MOST_OF_PLAN * per_s * run.seconds))
    for part in parts:
        for column in Record.parse(part).columns.values():
            if column.count > most:
                raise WireError(
                    f"The record file holds {column.count} values of {column.name}; this run can have had {most}."
                )


def cut_of(head: Record) -> Failure | None:
    """How the run was cut, from its clock record; None for a whole one. Raises WireError."""
    about = head.meta.get("cut")
    if about is None:
        return None
    try:
        reachable = about.get("server_reachable")
        cut = Failure(
            str(about["code"]),
            str(about["reason"])[:_MAX_REASON],
            reachable if isinstance(reachable, bool) else None,
            float(about["after_s"]),
        )
    except (AttributeError, KeyError, TypeError, ValueError):
        raise WireError("What the record says of how the run was cut cannot be read.") from None
    if cut.code not in CUTS:
        raise WireError(f"A run is not cut by “{cut.code}”.")
    return cut


def judge_call(part: bytes, relation: ClockRelation, criterion: Criterion) -> JudgedCall:
    """One call's record judged. Raises WireError."""
    record = parse_checked(part)
    number, started_us = which_and_when(record, "call")
    judged = judge_record(record, relation, criterion)
    return JudgedCall(
        number=number,
        started_us=started_us,
        record=part,
        directions={name: figures_of(one, criterion, half_of(record)) for name, one in judged.items()},
    )


def figures_of(one: JudgedDirection, criterion: Criterion, half: Half | None = None) -> DirectionFigures:
    """One direction, with the worst of it and what became of its marking."""
    seen = sum(one.dscp_received.values())
    figures = DirectionFigures(
        ssrc=one.ssrc,
        dscp_sent=one.dscp_sent,
        dscp_received=one.dscp_received,
        dscp_kept_pct=100 * one.dscp_received.get(str(one.dscp_sent), 0) / seen if seen else None,
        reason=one.reason,
    )
    if one.quality is not None:
        judged = one.quality.fields()
        figures = replace(figures, **{f.name: judged[f.name] for f in fields(DirectionFigures) if f.name in judged})
    if half and one.trace is None:
        # Up to when the far end was last heard it told what it had received.
        lost = half.expected - half.received
        pct = 100 * lost / half.expected if half.expected else 0.0
        figures = replace(figures, sent=half.expected, received=half.received, lost=lost, loss_pct=pct)
    if one.trace is not None and one.quality is not None and one.quality.mos is not None:
        worst = worst_of(one.trace, criterion, one.played)
        figures = replace(figures, worst_second_mos=worst.second_mos, worst_stretch_mos=worst.stretch_mos)
    return figures


def judge_again(
    calls: Sequence[StoredCall], videos: Sequence[StoredVideo], run: Run, codec: Codec, pair: Sequence[PairRun]
) -> JudgedAgain:
    """The stored calls and streams of a run that is done, judged by ``codec``. Raises WireError."""
    criterion = criterion_for(codec, run.ptime_ms)
    stored: list[StoredCall | StoredVideo] = [*calls, *videos]
    estimate = clock_relation(stored[0].clock, (one.record for one in stored)) if stored else UNKNOWN
    relation = settled(estimate, pair)
    found: dict[int, dict[str, DirectionFigures]] = {}
    for call in calls:
        judged = judge_record(call.record, relation, criterion)
        found[call.id] = {name: figures_of(one, criterion, half_of(call.record)) for name, one in judged.items()}
    pictures: dict[int, dict[str, PictureFigures]] = {}
    for stream in videos:
        wanted = picture_criterion(stream.clock)
        record = stream.record
        pictures[stream.id] = {d: picture_figures(record, d, relation, wanted) for d in flowing(record)}
    return JudgedAgain(codec, estimate, relation, found, pictures)
