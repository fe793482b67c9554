"""Trouble that comes back at a time of day: on how many days, and how likely chance alone would do as much.

Episodes of one leg are counted by the days on which one begins within a window of the day. The most unlikely window of
all widths and kinds of days is held against what the same search finds when each day's episodes are moved round the
clock by chance (a permutation test), so having looked everywhere is paid for. Trouble that begins at any time and
fills hours is counted by the time it takes instead: how far the days' hours of it agree, against days moved alike.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TypeVar
from zoneinfo import ZoneInfo

import numpy as np
from numpy.typing import NDArray

from tarnfell.core.causes import LEG_WORDS, LegName
from tarnfell.core.days.episodes import Episode
from tarnfell.core.days.local import DAY_MINUTES, day_and_minute, weekday
from tarnfell.core.days.rounds import Floats, Ints, Rounds
from tarnfell.core.figures import count

BIN_MINUTES = 10
BINS = DAY_MINUTES // BIN_MINUTES
WIDTHS = (2, 3, 6, 12, 18)
"""Bins of a window: twenty minutes to three hours."""
SHUFFLES = 999
MOST_P = 0.01
LEAST_DAYS = 3
LEAST_WATCHED = 0.5
"""Of a window on a day, so that the day counts as watched."""
MOST_TOLD = 6
LEAST_TAKEN = 0.02
"""Of all time must be in trouble to be told by the time it takes."""
DAY_TAKEN = 0.2
"""Of the hours told of, on a day that counts as one of them."""
COVERED = 0.5
"""Of the hours of what comes back, told already: what is left over within them is the same trouble."""
Table = TypeVar("Table", NDArray[np.bool_], NDArray[np.float64])
_DAYS: tuple[tuple[str, str, tuple[int, ...]], ...] = (
    ("days", "days", tuple(range(7))),
    ("weekdays", "weekdays", tuple(range(5))),
    *(
        (name, f"{name}s", (number,))
        for number, name in enumerate(("Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday"))
    ),
)
NIGHT = (22 * 60, 6 * 60)


@dataclass(frozen=True)
class Recurrence:
    leg: LegName
    days: int
    """On which it came."""
    of: int
    """That were watched at that time."""
    kind_of_days: str
    """days, weekdays, or the name of one."""
    from_minute: int
    until_minute: int
    """Of the local day: from the earliest beginning to the latest end; may lie beyond midnight."""
    p: float
    says: str
    episodes: tuple[Episode, ...]


def recurrences_of(episodes: Sequence[Episode], rounds: Rounds, zone: ZoneInfo) -> list[Recurrence]:
    """Of each leg, the most certain first; an episode belongs to one at most."""
    watched = _Watched(rounds, zone)
    found: list[Recurrence] = []
    for leg in dict.fromkeys(one.leg for one in episodes):
        left = [one for one in episodes if one.leg == leg]
        for search in (_strongest, _busiest):
            while len(found) < MOST_TOLD * len(LEG_WORDS) and (one := search(leg, left, watched, zone)):
                found.append(one)
                left = [episode for episode in left if episode not in one.episodes]
    told: list[Recurrence] = []
    for one in sorted(found, key=lambda one: (one.p, -one.days)):
        if not any(_covers(other, one) for other in told):
            told.append(one)
    return told


def _covers(told: Recurrence, later: Recurrence) -> bool:
    """The later one says nothing new: the same leg, no more days, and half of its hours are among those told."""
    if told.leg != later.leg or told.days < later.days:
        return False
    hours = _minutes_of(later)
    return bool(np.isin(hours, _minutes_of(told)).mean() >= COVERED)


def _minutes_of(one: Recurrence) -> Ints:
    lasts = (one.until_minute - one.from_minute) % DAY_MINUTES or DAY_MINUTES
    return np.asarray((one.from_minute + np.arange(lasts)) % DAY_MINUTES)


class _Watched:
    """Which bins of which days were watched: shape (days, bins), for days from the first on."""

    def __init__(self, rounds: Rounds, zone: ZoneInfo) -> None:
        days, minutes = day_and_minute(rounds.at_us, zone)
        self.first = int(days.min())
        self.bins = np.zeros((int(days.max()) - self.first + 1, BINS), bool)
        self.bins[days - self.first, minutes // BIN_MINUTES] = True
        self.bins_a_day = float(self.bins.sum() / max(1, self.bins.any(axis=1).sum()))
        """How many of a day are watched, in the mean."""
        self.weekdays = weekday(np.arange(self.first, self.first + len(self.bins)))

    def windows(self, width: int) -> Floats:
        """The watched share of the window that begins at each bin, which may reach into the next day."""
        flat = np.concatenate([self.bins.ravel(), np.zeros(width, bool)]).astype(float)
        sums = np.concatenate([[0.0], np.cumsum(flat)])
        share = (sums[width : width + self.bins.size] - sums[: self.bins.size]) / width
        return np.asarray(share.reshape(self.bins.shape))


def _strongest(leg: LegName, episodes: list[Episode], watched: _Watched, zone: ZoneInfo) -> Recurrence | None:
    if len(episodes) < LEAST_DAYS:
        return None
    days, minutes = day_and_minute(np.array([one.from_us for one in episodes], np.int64), zone)
    starts = np.zeros((1, *watched.bins.shape), bool)
    starts[0, days - watched.first, minutes // BIN_MINUTES] = True
    seen = _least_likely(starts, watched)
    if not np.isfinite(seen.log_p[0]) or seen.hits[0] < LEAST_DAYS:
        return None
    chance = np.random.default_rng(1)
    as_low = 0
    batch = max(1, min(SHUFFLES, 4_000_000 // starts.size))
    done = 0
    while done < SHUFFLES:
        moved = _moved(starts[0], watched.bins, min(batch, SHUFFLES - done), chance)
        as_low += int(np.sum(_least_likely(moved, watched).log_p <= seen.log_p[0] + 1e-9))
        done += len(moved)
    p = (as_low + 1) / (SHUFFLES + 1)
    if p > MOST_P:
        return None
    kind, first, width = seen.kind[0], int(seen.first[0]), int(seen.width[0])
    name, words, on = _DAYS[kind]
    since = (minutes - first * BIN_MINUTES) % DAY_MINUTES
    # One that begins past midnight belongs to the night before.
    of_day = np.where(minutes < first * BIN_MINUTES, days - 1, days)
    chosen = (since < width * BIN_MINUTES) & np.isin(weekday(of_day), on)
    own = tuple(one for one, is_own in zip(episodes, chosen, strict=True) if is_own)
    hit = sorted(set(of_day[chosen].tolist()))
    seen_days = watched.windows(width)[:, first] >= LEAST_WATCHED
    of = int(seen.of[0]) + sum(
        not 0 <= day - watched.first < len(seen_days) or not seen_days[day - watched.first] for day in hit
    )
    lasts = np.array([one.seconds / 60 for one in own])
    begins = (first * BIN_MINUTES + int(since[chosen].min())) % DAY_MINUTES
    ends = int(np.ceil(first * BIN_MINUTES + float((since[chosen] + lasts).max()))) % DAY_MINUTES
    says = _says(leg, len(hit), of, words, begins, ends, p)
    return Recurrence(leg, len(hit), of, name, begins, ends, p, says, own)


def _busiest(leg: LegName, episodes: list[Episode], watched: _Watched, zone: ZoneInfo) -> Recurrence | None:
    """The hours that hold most of the time in trouble, where the days agree on them beyond chance."""
    if len(episodes) < LEAST_DAYS:
        return None
    taken = _time_taken(episodes, watched, zone)
    told = [one for kind in _DAYS[:2] if (one := _hours_agreed(leg, episodes, taken, kind, watched, zone))]
    # Of all days and of weekdays those that it holds for the more surely.
    return max(told, key=lambda one: one.days / one.of, default=None)


def _hours_agreed(
    leg: LegName,
    episodes: list[Episode],
    taken: Floats,
    kind: tuple[str, str, tuple[int, ...]],
    watched: _Watched,
    zone: ZoneInfo,
) -> Recurrence | None:
    name, words, on = kind
    rows = np.isin(watched.weekdays, on) & watched.bins.any(axis=1)
    own, seen = taken[rows], watched.bins[rows]
    if len(own) < LEAST_DAYS or own.mean() < LEAST_TAKEN:
        return None
    by_chance = _agreement(_moved(own, seen, SHUFFLES, np.random.default_rng(1)))
    p = (int(np.sum(by_chance >= _agreement(own[None])[0] - 1e-12)) + 1) / (SHUFFLES + 1)
    first, width = _hours_of(own.mean(axis=0))
    chosen = (first + np.arange(width)) % BINS
    of = seen[:, chosen].mean(axis=1) >= LEAST_WATCHED
    hit = of & (own[:, chosen].mean(axis=1) >= DAY_TAKEN)
    days, minutes = day_and_minute(np.array([one.from_us for one in episodes], np.int64), zone)
    begins, ends = first * BIN_MINUTES, (first + width) * BIN_MINUTES % DAY_MINUTES
    within = ((minutes - begins) % DAY_MINUTES < width * BIN_MINUTES) & rows[days - watched.first]
    mine = tuple(one for one, is_own in zip(episodes, within, strict=True) if is_own)
    if p > MOST_P or hit.sum() < LEAST_DAYS or not mine:
        return None
    says = _says(leg, int(hit.sum()), int(of.sum()), words, begins, ends, p)
    return Recurrence(leg, int(hit.sum()), int(of.sum()), name, begins, ends, p, says, mine)


def _time_taken(episodes: list[Episode], watched: _Watched, zone: ZoneInfo) -> Floats:
    """The share of each bin of each day that is in trouble."""
    taken = np.zeros(watched.bins.size + 1)
    for one in episodes:
        (day,), (minute,) = day_and_minute(np.array([one.from_us], np.int64), zone)
        begin = (int(day) - watched.first) * DAY_MINUTES + int(minute)
        at, left = begin / BIN_MINUTES, one.seconds / 60 / BIN_MINUTES
        while left > 0 and at < watched.bins.size:
            part = min(left, int(at) + 1 - at)
            taken[int(at)] += part
            at, left = int(at) + 1, left - part
    return np.minimum(1.0, taken[:-1]).reshape(watched.bins.shape)


def _agreement(taken: Floats) -> Floats:
    """How unevenly the mean day is in trouble: shape (shuffles,) of (shuffles, days, bins)."""
    return np.asarray(taken.mean(axis=1).var(axis=1))


def _hours_of(mean: Floats) -> tuple[int, int]:
    """The longest stretch of the day, round midnight as well, that has at least half of what its worst hour has."""
    hour = np.convolve(np.concatenate([mean[-3:], mean, mean[:3]]), np.ones(6) / 6, "same")[3:-3]
    high = hour >= hour.max() / 2
    if high.all():
        return 0, BINS
    best = (0, 0)
    start = int(np.nonzero(~high)[0][0])
    run = 0
    for step in range(1, BINS + 1):
        at = (start + step) % BINS
        run = run + 1 if high[at] else 0
        if run > best[1]:
            best = ((at - run + 1) % BINS, run)
    return best


@dataclass(frozen=True)
class _Found:
    """For each shuffle its least likely window."""

    log_p: Floats
    hits: Ints
    of: Ints
    first: Ints
    width: Ints
    kind: Ints


def _least_likely(starts: NDArray[np.bool_], watched: _Watched) -> _Found:
    """``starts`` has shape (shuffles, days, bins)."""
    tables = len(starts)
    best = np.full(tables, np.inf)
    hits, of, first, widths, kinds = (np.zeros(tables, np.int64) for _ in range(5))
    flat = starts.reshape(tables, -1)
    sums = np.concatenate([np.zeros((tables, 1), np.int32), np.cumsum(flat, axis=1, dtype=np.int32)], axis=1)
    total = np.maximum(1, starts.sum(axis=2))
    for width in WIDTHS:
        until = np.minimum(np.arange(flat.shape[1]) + width, flat.shape[1])
        hit = (sums[:, until] - sums[:, :-1] > 0).reshape(starts.shape)
        seen = watched.windows(width) >= LEAST_WATCHED
        for kind, (_, _, on) in enumerate(_DAYS):
            rows = np.isin(watched.weekdays, on)
            if rows.sum() < LEAST_DAYS:
                continue
            n = (seen & rows[:, None]).sum(axis=0)
            k = (hit & (seen & rows[:, None])[None]).sum(axis=1)
            # By chance a day with so many beginnings has one in a window of this width.
            usual = 1 - (1 - np.minimum(1.0, width / watched.bins_a_day)) ** total[:, rows].mean(axis=1)
            log_p = _tails(k, n, usual)
            at = log_p.argmin(axis=1)
            low = log_p[np.arange(tables), at]
            better = low < best - 1e-9
            best = np.where(better, low, best)
            for kept, value in ((hits, k[np.arange(tables), at]), (of, n[at]), (first, at)):
                kept[better] = value[better]
            widths[better], kinds[better] = width, kind
    return _Found(best, hits, of, first, widths, kinds)


def _tails(hits: Ints, of: Ints, usual: Floats) -> Floats:
    """Logarithms of the chance of so many hits or more; infinite where there are too few to tell of."""
    from scipy.special import bdtrc  # loaded late, as in moments

    log_p = np.full(hits.shape, np.inf)
    row, at = np.nonzero((hits >= LEAST_DAYS) & (of >= LEAST_DAYS))
    with np.errstate(divide="ignore"):
        log_p[row, at] = np.log(bdtrc(hits[row, at] - 1.0, of[at], usual[row]))
    return log_p


def _moved(starts: Table, watched: NDArray[np.bool_], times: int, chance: np.random.Generator) -> Table:
    """What each day has, moved round the hours that were watched by a step of its own: (times, days, bins)."""
    moved = np.zeros((times, *starts.shape), starts.dtype)
    for day in np.nonzero(starts.any(axis=1))[0]:
        (bins,) = np.nonzero(watched[day])
        own = starts[day, bins]
        steps = chance.integers(0, len(bins), (times, 1))
        moved[:, day, bins] = own[(np.arange(len(bins))[None] - steps) % len(bins)]
    return moved


def _says(leg: LegName, hit: int, of: int, words: str, begins: int, until: int, p: float) -> str:
    night = words == "days" and (begins >= NIGHT[0] or begins < NIGHT[1])
    chance = f"less than 1 in {count(SHUFFLES + 1)}" if p <= 1 / (SHUFFLES + 1) + 1e-9 else f"{100 * p:.1f} %"
    return (
        f"On {hit} of {of} {'nights' if night else words} between {clock(begins)} and {clock(until)}, "
        f"{LEG_WORDS[leg]} (by chance alone: {chance})."
    )


def clock(minute: int) -> str:
    """HH:MM."""
    return f"{minute // 60:02d}:{minute % 60:02d}"
