"""Two runs side by side: before and after, marked and unmarked, wired and wireless, small packets and large."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

from flask import Blueprint, g

from tarnfell.core.codecs import find_codec
from tarnfell.core.compare import ENOUGH_LOOKS, Difference, mean_difference, share_difference
from tarnfell.core.directions import DirectionFigures, PictureFigures
from tarnfell.core.verdict.moments import Moment, Tally, tally
from tarnfell.server.access import require_run
from tarnfell.server.http.api import Problem, endpoint
from tarnfell.server.judge.models.compare import ComparedMeasure, ComparedRun, ComparePage, CompareQuery, DifferenceView
from tarnfell.server.load.runs import clock_of
from tarnfell.server.load.words import FLOW_WORDS, video_words
from tarnfell.store import calls as call_store
from tarnfell.store import places as place_store
from tarnfell.store import probes as probe_store
from tarnfell.store import sites as site_store
from tarnfell.store import videos as video_store
from tarnfell.store.calls import StoredDirection
from tarnfell.store.runs import Run
from tarnfell.store.sites import Site
from tarnfell.store.videos import StoredPicture
from tarnfell.work.judging.calls import calls_in_moments, good_calls, moments_of

blueprint = Blueprint("compare", __name__)


@dataclass(frozen=True)
class _Measure:
    key: str
    title: str
    unit: str
    places: int
    higher_is_better: bool
    smallest: float
    """The smallest change that matters to a listener or viewer."""


MEASURES = (
    _Measure("mos", "MOS", "", 2, True, 0.1),
    _Measure("worst_stretch_mos", "Worst ten seconds", "MOS", 2, True, 0.2),
    _Measure("worst_second_mos", "Worst second", "MOS", 2, True, 0.3),
    _Measure("loss_pct", "Loss", "%", 2, False, 0.1),
    _Measure("late_pct", "Late", "%", 2, False, 0.1),
    _Measure("delay_p50_ms", "One-way delay", "ms", 1, False, 5.0),
    _Measure("pdv_p95_ms", "PDV, 95th percentile", "ms", 1, False, 2.0),
    _Measure("jitter_max_ms", "Peak jitter", "ms", 1, False, 2.0),
)
PICTURE_MEASURES = (
    _Measure("score", "Picture score of video", "", 2, True, 0.2),
    _Measure("frozen_ms", "Video frozen", "ms", 0, False, 200.0),
)
SMALLEST_SHARE_PCT = 1.0
"""Percentage points of acceptable calls."""
OTHERS = 200
"""Newest calls of the site that tell how its moments differ among themselves."""


@endpoint(blueprint, "GET", "/api/compare", response=ComparePage)
def compare_runs(query: CompareQuery) -> ComparePage:
    """Two runs on the same axes, each difference with its uncertainty."""
    runs = [require_run(query.first), require_run(query.second)]
    for run in runs:
        if run.state != "done":
            raise Problem(409, f"Run {run.id} has no result to compare: it is {run.state}.")
    sides = [_Side.of(run) for run in runs]
    first, second = (_run(side.run, side.directions) for side in sides)
    return ComparePage(
        first=first,
        second=second,
        differs=_differs(*runs),
        cautions=_cautions(first, second, sides),
        share=_view(share_difference(sides[0].tallies(), sides[1].tallies(), SMALLEST_SHARE_PCT)),
        up=_measures(sides, "up"),
        down=_measures(sides, "down"),
    )


@dataclass(frozen=True)
class _Side:
    """One of the two runs with what it measured."""

    run: Run
    site: Site
    directions: list[StoredDirection]
    pictures: list[StoredPicture]

    @staticmethod
    def of(run: Run) -> _Side:
        site = site_store.site_by_id(g.db, run.site_id)
        directions = call_store.directions_of_run(g.db, run.id)
        return _Side(run, site, directions, video_store.pictures_of_run(g.db, run.id))

    @cached_property
    def moments(self) -> dict[int, tuple[Moment, ...]]:
        """That each call or stream was in, by when it began: each measure asks for them."""
        began = {call.started_us for call in self.directions} | {stream.started_us for stream in self.pictures}
        return {at_us: moments_of(self.site, at_us, self.run.seconds) for at_us in began}

    def tallies(self) -> dict[Moment, Tally]:
        return tally((at, good, 0.0) for at, good in calls_in_moments(g.db, self.run, self.site))

    def looks(self, measure: _Measure, direction: str) -> dict[Moment, list[float]]:
        """Values by moment; a run of video measures is looked up among the pictures."""
        measured: Sequence[StoredDirection | StoredPicture] = (
            self.pictures if measure in PICTURE_MEASURES else self.directions
        )
        found: dict[Moment, list[float]] = {}
        for one in measured:
            value = _value(one.figures, measure.key)
            if one.direction == direction and value is not None:
                for moment in self.moments[one.started_us]:
                    found.setdefault(moment, []).append(value)
        return found


def _run(run: Run, directions: Sequence[StoredDirection]) -> ComparedRun:
    site = site_store.site_by_id(g.db, run.site_id)
    calls = f"{run.calls} {'call' if run.calls == 1 else 'calls'} of {run.seconds:g} s"
    return ComparedRun(
        id=run.id,
        site_name=site.name,
        site_slug=site.slug,
        time_zone=site.time_zone,
        started_us=run.begun_us or run.created_us,
        words=f"{calls}, {find_codec(run.codec).title} every {run.ptime_ms} ms, DSCP {run.dscp}",
        good=good_calls(g.db, run, site.targets),
        calls=len({one.call_id for one in directions}),
        tainted=bool(run.tainted),
    )


def _differs(first: Run, second: Run) -> list[str]:
    """What was placed differently, so that nobody puts a change down to the wrong cause."""
    found = [
        f"{name} {a} and {b}"
        for name, a, b in (
            ("concurrent calls", first.calls, second.calls),
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


def _cautions(first: ComparedRun, second: ComparedRun, sides: list[_Side]) -> list[str]:
    found = [
        f"Run {one.id} is invalid: one end disturbed its own measurement. What differs may be that."
        for one in (first, second)
        if one.tainted
    ]
    looks = [len({m for one in side.directions for m in side.moments[one.started_us]}) for side in sides]
    if min(looks) < ENOUGH_LOOKS:
        found.append(
            f"The runs cover {looks[0]} and {looks[1]} ten-minute moments. A change counts as significant only where "
            "it exceeds what this site’s other moments differ by among themselves."
        )
    bands = [find_codec(side.run.codec).band for side in sides]
    if bands[0] != bands[1]:
        found.append("One codec is narrowband and one wideband: their MOS stand on two scales and are not comparable.")
    clocks = [clock_of(g.db, side.run) for side in sides]
    if clocks[0] != clocks[1]:
        found.append(f"One-way delay was known differently: {clocks[0]}, and {clocks[1]}.")
    return found


_Other = tuple[Moment, DirectionFigures]
"""What a call of another run measured, and in which moment."""


def _measures(sides: list[_Side], direction: str) -> list[ComparedMeasure]:
    measures = (*MEASURES, *(PICTURE_MEASURES if all(side.pictures for side in sides) else ()))
    side = sides[0]
    newest = call_store.newest_directions(g.db, side.site.id, side.run.codec, direction, OTHERS)
    but = {each.run.id for each in sides}
    others = [(moments_of(side.site, one.started_us, 0)[0], one.figures) for one in newest if one.run_id not in but]
    return [_compared(measure, sides, direction, others) for measure in measures]


def _compared(measure: _Measure, sides: list[_Side], direction: str, others: Sequence[_Other]) -> ComparedMeasure:
    first, second = (side.looks(measure, direction) for side in sides)
    return ComparedMeasure(
        key=measure.key,
        title=measure.title,
        unit=measure.unit,
        places=measure.places,
        higher_is_better=measure.higher_is_better,
        difference=_view(mean_difference(first, second, _others(measure, others), measure.smallest)),
        first_values=[v for values in first.values() for v in values],
        second_values=[v for values in second.values() for v in values],
    )


def _others(measure: _Measure, others: Sequence[_Other]) -> list[float]:
    """Means of the first run's site's other moments, placed with the same codec; none for video."""
    if measure in PICTURE_MEASURES:
        return []
    found: dict[Moment, list[float]] = {}
    for moment, figures in others:
        value = _value(figures, measure.key)
        if value is not None:
            found.setdefault(moment, []).append(value)
    return [sum(values) / len(values) for values in found.values()]


def _value(figures: DirectionFigures | PictureFigures, key: str) -> float | None:
    """One figure of one direction; None where it does not exist."""
    if key == "late_pct":
        return 100 * figures.late / figures.sent if figures.sent else None
    value = getattr(figures, key)
    return None if value is None else float(value)


def _view(difference: Difference) -> DifferenceView:
    values = {name: value for name, value in vars(difference).items() if name != "smallest"}
    return DifferenceView(**values, sure=difference.sure)
