"""Two runs side by side: before and after, marked and unmarked, wired and wireless, small packets and large."""

from __future__ import annotations

import sqlite3

from flask import Blueprint, g

from tarnfell.core.codecs import find_codec
from tarnfell.core.compare import Difference, mean_difference, share_difference
from tarnfell.server.api import Problem, endpoint
from tarnfell.server.load import FLOW_WORDS, video_words
from tarnfell.server.models.compare import ComparedMeasure, ComparedRun, ComparePage, CompareQuery, DifferenceView
from tarnfell.server.runs import clock_of, require_run
from tarnfell.server.sites import good_calls
from tarnfell.store import calls as call_store
from tarnfell.store import places as place_store
from tarnfell.store import probes as probe_store
from tarnfell.store import sites as site_store
from tarnfell.store import videos as video_store
from tarnfell.store.runs import Run

blueprint = Blueprint("compare", __name__)

MEASURES: tuple[tuple[str, str, str, int, bool], ...] = (
    ("mos", "MOS", "", 2, True),
    ("worst_second_mos", "Worst second", "MOS", 2, True),
    ("loss_pct", "Loss", "%", 2, False),
    ("late_pct", "Late", "%", 2, False),
    ("delay_p50_ms", "One-way delay", "ms", 1, False),
    ("pdv_p95_ms", "Delay variation, 95th percentile", "ms", 1, False),
    ("jitter_max_ms", "Peak jitter", "ms", 1, False),
)
"""Key, title, unit, decimal places, whether more is better."""

PICTURE_MEASURES: tuple[tuple[str, str, str, int, bool], ...] = (
    ("score", "Picture score of video", "", 2, True),
    ("frozen_ms", "Video frozen", "ms", 0, False),
)


@endpoint(blueprint, "GET", "/api/compare", response=ComparePage)
def compare_runs(query: CompareQuery) -> ComparePage:
    """Two runs on the same axes, each difference with its uncertainty."""
    runs = [require_run(query.first), require_run(query.second)]
    for run in runs:
        if run.state != "done":
            raise Problem(409, f"Run {run.id} has no result to compare: it is {run.state}.")
    rows = [call_store.directions_of_run(g.db, run.id) for run in runs]
    first, second = (_run(run, found) for run, found in zip(runs, rows, strict=True))
    return ComparePage(
        first=first,
        second=second,
        differs=_differs(*runs),
        cautions=_cautions(first, second, runs),
        share=_view(share_difference((first.good, first.calls), (second.good, second.calls))),
        up=_measures(rows, "up") + _pictures(runs, "up"),
        down=_measures(rows, "down") + _pictures(runs, "down"),
    )


def _run(run: Run, rows: list[sqlite3.Row]) -> ComparedRun:
    site = site_store.site_by_id(g.db, run.site_id)
    calls = f"{run.calls} {'call' if run.calls == 1 else 'calls'} of {run.seconds:g} s"
    return ComparedRun(
        id=run.id,
        site_name=site.name,
        site_slug=site.slug,
        time_zone=site.time_zone,
        started_us=run.begun_us or run.created_us,
        words=f"{calls}, {find_codec(run.codec).title} every {run.ptime_ms} ms, DSCP {run.dscp}",
        good=good_calls(rows, site.targets),
        calls=len({row["call_id"] for row in rows}),
        tainted=bool(run.tainted),
    )


def _differs(first: Run, second: Run) -> list[str]:
    """What was placed differently, so that nobody puts a change down to the wrong cause."""
    found = [
        f"{name} {a} and {b}"
        for name, a, b in (
            ("calls at once", first.calls, second.calls),
            ("length", f"{first.seconds:g} s", f"{second.seconds:g} s"),
            ("codec", find_codec(first.codec).title, find_codec(second.codec).title),
            ("packet every", f"{first.ptime_ms} ms", f"{second.ptime_ms} ms"),
            ("DSCP", first.dscp, second.dscp),
            ("media flows", *(FLOW_WORDS[run.direction] or "both ways" for run in (first, second))),
            ("video", *(video_words(run.video) or "none" for run in (first, second))),
            ("probe", *(probe_store.probe_by_id(g.db, r.probe_id).name for r in (first, second))),
            ("far end", *(_far_end(r) for r in (first, second))),
            ("site", *(site_store.site_by_id(g.db, r.site_id).name for r in (first, second))),
        )
        if a != b
    ]
    return found


def _far_end(run: Run) -> str:
    far_end = place_store.far_end_by_id(g.db, run.far_end_id)
    return far_end.name if far_end else ""


def _cautions(first: ComparedRun, second: ComparedRun, runs: list[Run]) -> list[str]:
    found = [
        f"Run {one.id} disturbed itself and is not to be trusted: what differs may be the probe."
        for one in (first, second)
        if one.tainted
    ]
    if min(first.calls, second.calls) < 10:
        found.append("Fewer than ten calls on a side tell little: only large differences show.")
    clocks = [clock_of(g.db, run) for run in runs]
    if clocks[0] != clocks[1]:
        found.append(f"One-way delay was known differently: {clocks[0]}, and {clocks[1]}.")
    return found


def _measures(rows: list[list[sqlite3.Row]], direction: str) -> list[ComparedMeasure]:
    found = []
    for key, title, unit, places, higher in MEASURES:
        first, second = ([v for r in one if r["direction"] == direction for v in _value(r, key)] for one in rows)
        found.append(_measure(key, title, unit, places, higher, first, second))
    return found


def _pictures(runs: list[Run], direction: str) -> list[ComparedMeasure]:
    """Video's measures, where both runs had video in this direction."""
    rows = [[r for r in video_store.pictures_of_run(g.db, run.id) if r["direction"] == direction] for run in runs]
    if not all(rows):
        return []
    found = []
    for key, title, unit, places, higher in PICTURE_MEASURES:
        first, second = ([v for r in one for v in _value(r, key)] for one in rows)
        found.append(_measure(key, title, unit, places, higher, first, second))
    return found


def _measure(
    key: str, title: str, unit: str, places: int, higher: bool, first: list[float], second: list[float]
) -> ComparedMeasure:
    return ComparedMeasure(
        key=key,
        title=title,
        unit=unit,
        places=places,
        higher_is_better=higher,
        difference=_view(mean_difference(first, second)),
        first_values=first,
        second_values=second,
    )


def _value(row: sqlite3.Row, key: str) -> list[float]:
    """The figure of one direction of a call, or nothing where it does not exist."""
    if key == "late_pct":
        return [100 * row["late"] / row["sent"]] if row["sent"] else []
    value = row[key]
    return [] if value is None else [float(value)]


def _view(difference: Difference) -> DifferenceView:
    return DifferenceView(**vars(difference), sure=difference.sure)
