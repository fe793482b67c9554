"""A report's tables of what was measured: a title, what there is to say of it, and rows of words and figures."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, datetime

from tarnfell.core.causes import Direction
from tarnfell.core.verdict.capacity import State
from tarnfell.core.verdict.site import Evaluation
from tarnfell.report.measured import CheckFound, FillFound, MarkingFound, Measured, RunsAlike, VideoFound

MOST_FILLS = 24
MOST_SETTINGS = 40
"""On the page; a report's JSON has them all."""
_WAYS: dict[Direction, str] = {"up": "Upload", "down": "Download"}
_ANSWERS: dict[State, str] = {"shown": "shown", "shown not": "not carried", "open": "open"}


@dataclass(frozen=True)
class Table:
    title: str
    says: str
    head: tuple[str, ...]
    rows: tuple[tuple[str, ...], ...]
    """Each as long as the head; the first cell names the row."""


def capacity_table(evaluation: Evaluation) -> Table | None:
    """Load by load; None where no call counts."""
    capacity, needed = evaluation.verdict.capacity, evaluation.brief.needed_calls
    if not capacity.steps:
        return None
    said = [f"{needed} concurrent {'call is' if needed == 1 else 'calls are'} needed."]
    if capacity.sustained is not None:
        said.append(f"Shown to be carried: up to {capacity.sustained}.")
    if capacity.fails_at is not None:
        more = f"From {capacity.fails_at} on it is shown that they are not."
        said.append(more if capacity.fails_at > 1 else "It is shown that not even one is carried.")
    if capacity.sustained is None and capacity.fails_at is None:
        said.append("No number is shown yet, either way.")
    return Table(
        "Concurrent calls",
        " ".join(said),
        ("At once", "Acceptable", "Moments", "Share, all loads together", "95 % interval", "Answer"),
        tuple(
            (
                str(step.concurrent),
                f"{step.share.good} of {step.share.calls}",
                str(step.share.moments),
                f"{step.fitted_pct:.1f} %",
                f"{step.low_pct:.1f} to {step.high_pct:.1f} %",
                _ANSWERS[step.state],
            )
            for step in capacity.steps
        ),
    )


def measured_tables(measured: Measured, target_picture: float) -> tuple[Table, ...]:
    """Those of which there is something to show."""
    checked = _checked(measured.check) if measured.check else []
    found = [*checked, _marking(measured.marking), _filled(measured.fills), _video(measured.video, target_picture)]
    return tuple(one for one in found if one.rows)


def _checked(check: CheckFound) -> list[Table]:
    when = f"By the check of {datetime.fromisoformat(check.at_local):%d %B %Y, %H:%M}."
    return [
        Table(
            "What the check found",
            f"{when} Unproven: nobody could tell.",
            ("Question", "Answer", "What was seen"),
            tuple((one.title, one.answer, one.says) for one in check.questions),
        ),
        Table(
            "Services",
            when,
            ("Service", "Address", "Answer", "After", "What came back"),
            tuple(
                (
                    one.name,
                    f"{one.host} port {one.port}, {one.protocol.upper()}",
                    one.answer,
                    "–" if one.took_ms is None else f"{one.took_ms:.0f} ms",
                    one.says or "–",
                )
                for one in check.services
            ),
        ),
    ]


def _marking(found: Sequence[MarkingFound]) -> Table:
    return Table(
        "Marking",
        "How media was marked (DSCP), and how much of it arrived with the same marking. 46 (EF) is usual for voice; 0 "
        "is none.",
        ("Direction", "Sent as", "Calls that kept it throughout", "Packets that kept it, on average"),
        tuple(
            (_WAYS[one.direction], str(one.dscp_sent), f"{one.kept_throughout} of {one.calls}", f"{one.kept_pct:.1f} %")
            for one in found
        ),
    )


def _filled(fills: Sequence[FillFound]) -> Table:
    return Table(
        "Calls while the line is full",
        "The line was filled by TCP streams with a call beside them."
        + (f" The newest {MOST_FILLS} of {len(fills)}." if len(fills) > MOST_FILLS else ""),
        ("When", "Filled", "Seen to be full", "MOS, idle", "MOS, full", "MOS, full and marked"),
        tuple(
            (
                f"{datetime.fromisoformat(one.at_local):%a %d %b %H:%M}",
                _WAYS[one.direction].lower(),
                "yes" if one.full else "no",
                *(_mos(value) for value in (one.mos_idle, one.mos, one.mos_marked)),
            )
            for one in fills[:MOST_FILLS]
        ),
    )


def _mos(value: float | None) -> str:
    return "–" if value is None else f"{value:.2f}"


def _video(found: Sequence[VideoFound], target_picture: float) -> Table:
    return Table(
        "Video",
        f"Streams of packets as a meeting’s video has them, no camera. {target_picture:g} of 5 is required.",
        (
            "Direction",
            "Streams that reach it",
            "Picture score, median",
            "Frames that came whole",
            "Stood still, in all",
        ),
        tuple(
            (
                _WAYS[one.direction],
                f"{one.good} of {one.streams}",
                f"{one.score_p50:.2f}",
                f"{100 * one.frames_whole / one.frames:.1f} %" if one.frames else "–",
                f"{one.frozen_ms / 1000:.1f} s",
            )
            for one in found
        ),
    )


def runs_table(runs: Sequence[RunsAlike]) -> Table | None:
    """How often calls were placed with which settings; None where none was."""
    if not runs:
        return None
    shown, more = runs[:MOST_SETTINGS], runs[MOST_SETTINGS:]
    return Table(
        "Runs and their settings",
        "Runs that were carried out, those included that do not count."
        + (
            f" Not listed: runs with {len(more)} other settings, {sum(one.runs for one in more)} in all."
            if more
            else ""
        ),
        ("Between", "Calls", "Codec and interval", "Length", "Marked", "Runs", "First and last"),
        tuple(
            (
                f"{one.probe} and {one.far_end}",
                f"{one.calls}{'' if one.direction == 'both' else f', {one.direction} only'}"
                f"{', with video' if one.with_video else ''}",
                f"{one.codec_title}, {one.ptime_ms} ms",
                f"{one.seconds:g} s",
                str(one.dscp),
                str(one.runs),
                " to ".join(
                    f"{date.fromisoformat(day):%d %b %Y}" for day in dict.fromkeys((one.first_day, one.last_day))
                ),
            )
            for one in shown
        ),
    )
