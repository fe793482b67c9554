"""What a run came to: each direction over all its calls, and its video streams."""

from __future__ import annotations

import statistics
from collections import Counter
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from tarnfell.core.directions import DirectionFigures, PictureFigures
from tarnfell.core.figures import count
from tarnfell.core.playout import DEFAULT_BUFFER_MS
from tarnfell.core.targets import Targets
from tarnfell.core.verdict.readings import good_picture
from tarnfell.store.videos import StoredPicture

BURSTY = 1.5
"""Burst ratio from which losses are said to come in bursts (1 is by chance alone)."""


@dataclass(frozen=True)
class RunDirection:
    """One direction over all calls of a run."""

    sent: int
    lost: int
    late: int
    loss_pct: float
    late_pct: float
    delay_p50_ms: float | None
    added_ms: float | None
    """95th percentile of a packet's delay above its call's fastest, median of the calls."""
    jitter_ms: float
    mos_p50: float | None
    mos_min: float | None
    dscp_sent: int
    dscp_received: dict[str, int]
    why: str


def run_direction(calls: Sequence[DirectionFigures]) -> RunDirection | None:
    """None where nothing was to flow."""
    if not calls:
        return None
    sent, lost, late = sum(c.sent for c in calls), sum(c.lost for c in calls), sum(c.late for c in calls)
    marks: Counter[str] = Counter()
    for call in calls:
        marks.update(call.dscp_received)
    scores = [c.mos for c in calls if c.mos is not None]
    return RunDirection(
        sent=sent,
        lost=lost,
        late=late,
        loss_pct=100 * lost / sent if sent else 0.0,
        late_pct=100 * late / sent if sent else 0.0,
        delay_p50_ms=_median(c.delay_p50_ms for c in calls),
        added_ms=_median(c.pdv_p95_ms for c in calls),
        jitter_ms=max(c.jitter_max_ms for c in calls),
        mos_p50=_median(scores),
        mos_min=min(scores, default=None),
        dscp_sent=calls[0].dscp_sent,
        dscp_received=dict(marks),
        why=_why(calls, sent, lost, late),
    )


def _why(calls: Sequence[DirectionFigures], sent: int, lost: int, late: int) -> str:
    """One sentence: what decided this direction's quality."""
    silent = sum(c.received == 0 for c in calls)
    if sent == 0:
        return "Nothing was sent: no media port answered. Usually a firewall. Allow the far end's UDP ports."
    if silent == len(calls):
        return "Nothing arrived. Usually a firewall that drops UDP in this direction."
    if silent:
        return f"{silent} of {len(calls)} calls carried no audio at all: check their ports in the firewall."
    if lost == 0 and late == 0:
        return "Every packet arrived in time."
    parts = []
    if late:
        spread = _median(c.pdv_p95_ms for c in calls) or 0.0
        parts.append(
            f"{count(late)} {'packet' if late == 1 else 'packets'} came too late for a buffer "
            f"of {DEFAULT_BUFFER_MS:.0f} ms: delay swung by {spread:.0f} ms"
        )
    if lost:
        ratio = _median(c.burst_ratio for c in calls if c.lost) or 1.0
        how = "in bursts" if ratio >= BURSTY else "one by one"
        parts.append("1 packet was lost" if lost == 1 else f"{count(lost)} packets were lost {how}")
    if lost > late:
        parts.reverse()
    return "; ".join(parts) + "."


def _median(values: Iterable[float | None]) -> float | None:
    known = [v for v in values if v is not None]
    return statistics.median(known) if known else None


def good_streams(pictures: Iterable[StoredPicture], targets: Targets) -> dict[int, bool]:
    """Whether each video stream was good in all its directions."""
    found: dict[int, bool] = {}
    for one in pictures:
        found[one.stream_id] = found.get(one.stream_id, True) and good_picture(one.figures.score, targets)
    return found


def why_picture(figures: PictureFigures) -> str:
    """One sentence: what decided a stream's score in one direction."""
    broken = figures.frames - figures.whole
    if broken == 0:
        return "Every frame came whole and in time."
    spoilt = figures.whole - figures.shown
    parts = [f"{broken} of {figures.frames} frames were broken"]
    if figures.lost and figures.late:
        parts[0] += f", by {figures.lost} lost and {figures.late} late packets"
    else:
        number, how = (figures.lost, "lost") if figures.lost else (figures.late, "late")
        parts[0] += f", by {number} {how} {'packet' if number == 1 else 'packets'}"
    if spoilt:
        parts.append(f"{spoilt} more came whole but built on a broken one")
    if figures.freezes:
        times = "once" if figures.freezes == 1 else f"{figures.freezes} times"
        parts.append(f"the picture froze {times}, {figures.frozen_ms / 1000:.1f} s in all")
    return "; ".join(parts) + "."
