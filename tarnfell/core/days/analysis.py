"""From samples to what a consultant tells: what is usual, when it was not, on which leg, and whether it comes back."""

from __future__ import annotations

from dataclasses import dataclass
from zoneinfo import ZoneInfo

import numpy as np

from tarnfell.core.days.baseline import Baseline, baseline_of
from tarnfell.core.days.calm import calm_of
from tarnfell.core.days.episodes import Episode, episodes_of
from tarnfell.core.days.findings import Finding, Medium, findings_of
from tarnfell.core.days.large import Sizes, large_findings
from tarnfell.core.days.not_faults import NotFault, not_faults_of
from tarnfell.core.days.recurrence import Recurrence, recurrences_of
from tarnfell.core.days.rounds import Floats, Gap, Place, Rounds
from tarnfell.core.days.steps import Step
from tarnfell.core.quality import Criterion


@dataclass(frozen=True)
class PlaceFigures:
    """One place over the whole watch. Delays are None where it never answered."""

    place: Place
    sent: int
    lost: int
    min_ms: float | None
    p50_ms: float | None
    p95_ms: float | None
    max_ms: float | None
    baseline: Baseline


@dataclass(frozen=True)
class Analysis:
    places: tuple[PlaceFigures, ...]
    rounds: int
    from_us: int
    until_us: int
    gaps: tuple[Gap, ...]
    episodes: tuple[Episode, ...]
    recurrences: tuple[Recurrence, ...]
    steps: tuple[Step, ...]
    """Of the delay, by the number of their place."""
    findings: tuple[Finding, ...]
    not_faults: tuple[NotFault, ...]


def analyse(
    rounds: Rounds,
    criterion: Criterion,
    target_mos: float,
    zone: ZoneInfo,
    medium: Medium | None = None,
    sizes: Sizes | None = None,
) -> Analysis:
    """``medium`` is that between test point and gateway, where it is known, ``sizes`` what became of large packets."""
    calm = calm_of(rounds)
    episodes = episodes_of(rounds, calm, criterion, target_mos)
    recurrences = recurrences_of(episodes, rounds, zone)
    outside = np.ones(len(rounds.at_us), bool)
    for one in episodes:
        outside &= (rounds.at_us < one.from_us) | (rounds.at_us >= one.until_us)
    return Analysis(
        places=tuple(
            _figures(rounds, place, baseline_of(calm.blocks, place, zone)) for place in range(len(rounds.places))
        ),
        rounds=len(rounds.at_us),
        from_us=int(rounds.at_us[0]),
        until_us=int(rounds.at_us[-1]) + rounds.interval_us,
        gaps=rounds.gaps(),
        episodes=tuple(episodes),
        recurrences=tuple(recurrences),
        steps=calm.steps,
        findings=(
            *findings_of(rounds, calm, episodes, recurrences, criterion, target_mos, zone, medium),
            *(large_findings(rounds.places, sizes) if sizes else ()),
        ),
        not_faults=tuple(not_faults_of(rounds, outside)),
    )


def _figures(rounds: Rounds, place: int, baseline: Baseline) -> PlaceFigures:
    rtt = rounds.rtt_ms[place]
    known: Floats = rtt[~np.isnan(rtt)]
    least, middle, high, most = (
        [float(value) for value in np.percentile(known, [0, 50, 95, 100])] if len(known) else [None] * 4
    )
    sent, lost = int(rounds.sent[place].sum()), int(rounds.lost[place].sum())
    return PlaceFigures(rounds.places[place], sent, lost, least, middle, high, most, baseline)
