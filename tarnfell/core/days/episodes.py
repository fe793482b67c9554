"""Episodes: stretches in which the way would have spoiled calls, each with its leg and how sure that is."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace

import numpy as np

from tarnfell.core.causes import LegName, Way
from tarnfell.core.days.blame import MOST_EXCESS_MS, Answers, Kind, blame, kind_of
from tarnfell.core.days.calm import Calm
from tarnfell.core.days.direction import direction_of
from tarnfell.core.days.rounds import Flags, Floats, Ints, Place, Rounds
from tarnfell.core.days.spoiling import Spoiling
from tarnfell.core.days.stretches import Stretch, stretches
from tarnfell.core.quality import Criterion
from tarnfell.core.quantiles import quantiles

JOIN_US = 120_000_000
"""Two of one leg with no longer pause between them are one: a queue empties for a moment."""
SMALL_OUTAGE = 0.25
"""Of an episode: a full queue may lose everything for seconds, and is no line that went away."""
LEAST_OUTSIDE = 0.5
"""So much of the watch must be free of trouble to tell what a place has at other times: of a watch that is in trouble
throughout, the rest is trouble as well."""
MARGIN_ROUNDS = 30
ROUND_TRIPS_SEED = 1
"""Rounds are drawn anew by chance, the same at every reading of the same samples."""


@dataclass(frozen=True)
class AtPlace:
    """What one place had during an episode."""

    place: Place
    sent: int
    lost: int
    added_ms: float | None
    """Median over its calm level; None where it never answered."""


@dataclass(frozen=True)
class Episode:
    from_us: int
    until_us: int
    leg: LegName
    kind: Kind
    certainty: float
    shares: dict[LegName, float]
    end: Place
    """Of the way that it was seen on: the far end, or what was there in its stead."""
    rounds: int
    loss_pct: float
    """At the end of the way."""
    late_pct: float
    """Answered, but with more excess than the buffer takes."""
    added_ms: float | None
    """Median excess there over the calm level; None where nothing was answered."""
    added_p95_ms: float | None
    mos: float
    """Of a call that misses as much."""
    direction: Way | None
    """In which packets queued; None where that is not known."""
    places: tuple[AtPlace, ...]

    @property
    def seconds(self) -> float:
        return (self.until_us - self.from_us) / 1e6


@dataclass(frozen=True)
class _Way:
    """One way that calls take: its end, round by round, and what was missed there."""

    end: Flags
    """The places it ends at, shape (places,)."""
    stand_in: Flags
    """Those that stand in where the end was not asked."""
    numbers: Ints
    """The rounds that tell of it."""
    missed: Flags
    """Of those rounds."""
    own: Flags
    """Of those rounds: whether the end itself was asked."""


def episodes_of(rounds: Rounds, calm: Calm, criterion: Criterion, target_mos: float) -> list[Episode]:
    """In the order of time. Of several ways those that saw the same trouble on the same leg tell it once."""
    excess = rounds.rtt_ms - calm.level_ms
    with np.errstate(invalid="ignore"):
        late = np.asarray(excess > criterion.buffer_ms)
    missed: Flags = np.asarray(rounds.lost | late)
    mute = tuple(bool(np.all(np.isnan(rtt))) for rtt in rounds.rtt_ms)
    found: list[Episode] = []
    for way in _ways(rounds, mute, missed):
        spoiling = Spoiling(criterion, target_mos, _calm_ms(calm, way))
        parts = stretches(
            way.missed,
            rounds.at_us[way.numbers],
            rounds.interval_us,
            spoiling.share(),
            spoiling.spoils,
        )
        answers = _answers(rounds, excess, mute, [_slice(way, part) for part in parts])
        judge = _Judge(answers, late, way, spoiling)
        found += judge.joined([judge.episode(part) for part in parts], parts)
    found.sort(key=lambda one: (one.from_us, one.until_us))
    return _once(found)


def _ways(rounds: Rounds, mute: tuple[bool, ...], missed: Flags) -> Iterator[_Way]:
    """To each far end that ever answered; else to what lies farthest and did."""
    roles = np.array([place.role for place in rounds.places])
    speaks = ~np.array(mute)
    by_depth = [speaks & (roles == role) for role in ("far-end", "outside", "edge", "gateway")]
    far, nearer = by_depth[0], next((one for one in by_depth[1:] if one.any()), None)
    ends = [_only(len(roles), int(i)) for i in np.nonzero(far)[0]] if far.any() else [nearer]
    for end in ends:
        if end is None:  # nobody ever answered
            end = ~speaks
        stand_in = nearer if far.any() and nearer is not None and by_depth[1].any() else np.zeros(len(roles), bool)
        own: Flags = np.logical_or.reduce(rounds.sent[end], axis=0)
        other = np.logical_or.reduce(rounds.sent[stand_in], axis=0) & ~own
        numbers = np.nonzero(own | other)[0]
        of_end = _all_missed(rounds.sent[end], missed[end])
        of_other = _all_missed(rounds.sent[stand_in], missed[stand_in])
        yield _Way(end, stand_in, numbers, np.where(own, of_end, of_other)[numbers], own[numbers])


def _only(count: int, which: int) -> Flags:
    return np.asarray(np.arange(count) == which)


def _all_missed(sent: Flags, missed: Flags) -> Flags:
    """Rounds in which all places that were asked missed: where one answered in time there was a way. Shape (rounds,),
    of tables of shape (places, rounds)."""
    asked = sent.sum(axis=0)
    gone = (missed & sent).sum(axis=0)
    return np.asarray((asked > 0) & (gone == asked))


def _calm_ms(calm: Calm, way: _Way) -> float:
    levels = calm.level_ms[way.end]
    known = levels[~np.isnan(levels)]
    return float(np.median(known)) if len(known) else 0.0


def _slice(way: _Way, part: Stretch) -> slice:
    """The rounds of a stretch, those among them as well that do not tell of the way's end."""
    return slice(int(way.numbers[part.first]), int(way.numbers[part.last]) + 1)


def _answers(rounds: Rounds, excess: Floats, mute: tuple[bool, ...], parts: list[slice]) -> Answers:
    outside = np.ones(len(rounds.at_us), bool)
    for part in parts:
        outside[part] = False
    count = len(rounds.places)
    if outside.mean() < LEAST_OUTSIDE:
        usual_lost, usual_ms = np.zeros(count), np.zeros(count)
    else:
        sent = np.maximum(1, (rounds.sent & outside).sum(axis=1))
        usual_lost = (rounds.lost & outside).sum(axis=1) / sent
        known = ~np.isnan(excess) & outside
        total = np.where(known, np.clip(excess, 0, MOST_EXCESS_MS), 0.0).sum(axis=1)
        usual_ms = total / np.maximum(1, known.sum(axis=1))
    return Answers(rounds, excess, mute, usual_lost, usual_ms)


class _Judge:
    """Of the stretches of one way."""

    def __init__(self, answers: Answers, late: Flags, way: _Way, spoiling: Spoiling) -> None:
        self._answers, self._late, self._way, self._spoiling = answers, late, way, spoiling

    def episode(self, part: Stretch) -> Episode:
        """All but what each place had."""
        rounds, way = self._answers.rounds, self._way
        window = _slice(way, part)
        own = way.own[part.first : part.last + 1]
        end = way.end if own.mean() >= 0.5 or not way.stand_in.any() else way.stand_in
        sent, gone = rounds.sent[end, window], np.isnan(rounds.rtt_ms[end, window])
        asked = sent.any(axis=0)
        lost = _all_missed(sent, gone)[asked]
        missed = _all_missed(sent, gone | self._late[end, window])[asked]
        late = missed & ~lost
        kind = kind_of(lost, late)
        chance = np.random.default_rng(ROUND_TRIPS_SEED)
        told = blame(self._answers, end, window, kind, lost, chance)
        excess = self._answers.excess_ms[end][:, window]
        known = excess[~np.isnan(excess)]
        return Episode(
            from_us=int(rounds.at_us[window.start]),
            until_us=int(rounds.at_us[window.stop - 1]) + rounds.interval_us,
            leg=told.leg,
            kind=kind,
            certainty=told.certainty,
            shares=told.shares,
            end=rounds.places[int(np.nonzero(end)[0][0])],
            rounds=window.stop - window.start,
            loss_pct=100 * float(lost.mean()),
            late_pct=100 * float(late.mean()),
            added_ms=_percentile(known, 50),
            added_p95_ms=_percentile(known, 95),
            mos=self._spoiling.mos(float(missed.mean())),
            direction=self._direction(end, window) if kind == "delay" else None,
            places=(),
        )

    def _direction(self, end: Flags, window: slice) -> Way | None:
        """With a margin before and after: a queue that stands tells nothing."""
        rounds = self._answers.rounds
        if rounds.up_ms is None:
            return None
        margin = max(MARGIN_ROUNDS, (window.stop - window.start) // 4)
        wide = slice(max(0, window.start - margin), window.stop + margin)
        (at,) = np.nonzero(end)
        return direction_of(rounds.rtt_ms[at[0], wide], rounds.up_ms[at[0], wide])

    def _at_place(self, place: int, window: slice) -> AtPlace:
        rounds = self._answers.rounds
        excess = self._answers.excess_ms[place, window]
        return AtPlace(
            rounds.places[place],
            int(rounds.sent[place, window].sum()),
            int(rounds.lost[place, window].sum()),
            _percentile(excess[~np.isnan(excess)], 50),
        )

    def joined(self, found: list[Episode], parts: list[Stretch]) -> list[Episode]:
        """Neighbours of one trouble as one, as long as the whole would spoil calls too."""
        told: list[tuple[Episode, Stretch]] = []
        count = len(self._answers.rounds.places)
        for episode, part in zip(found, parts, strict=True):
            while told and _belong(told[-1][0], episode):
                whole = Stretch(told[-1][1].first, part.last)
                both = self.episode(whole)
                if both.mos >= self._spoiling.least_mos:
                    break
                told.pop()
                episode, part = both, whole
            told.append((episode, part))
        return [
            replace(one, places=tuple(self._at_place(i, _slice(self._way, part)) for i in range(count)))
            for one, part in told
        ]


def _belong(one: Episode, other: Episode) -> bool:
    if other.from_us - one.until_us > JOIN_US or (one.leg != other.leg and "unknown" not in (one.leg, other.leg)):
        return False
    if (one.kind == "outage") == (other.kind == "outage"):
        return True
    outage = one if one.kind == "outage" else other
    return outage.seconds < SMALL_OUTAGE * (one.seconds + other.seconds)


def _once(found: list[Episode]) -> list[Episode]:
    """Two ways share their first legs: what both saw there at the same time is one episode, the longer one."""
    told: list[Episode] = []
    for one in found:
        same = next(
            (
                i
                for i, other in enumerate(told)
                if other.end != one.end and other.leg == one.leg != "beyond" and other.until_us > one.from_us
            ),
            None,
        )
        if same is None:
            told.append(one)
        elif one.seconds > told[same].seconds:
            told[same] = replace(one, from_us=min(one.from_us, told[same].from_us))
    return told


def _percentile(values: Floats, percent: float) -> float | None:
    return quantiles(values, [percent])[0] if len(values) else None
