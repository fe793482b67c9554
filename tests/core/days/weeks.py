"""Weeks of samples with a truth of their own, made by rules that share nothing with what reads them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from zoneinfo import ZoneInfo

import numpy as np

from tarnfell.core.days.episodes import Episode
from tarnfell.core.days.rounds import Place, Rounds

LONDON = ZoneInfo("Europe/London")
MONDAY = datetime(2026, 3, 2, tzinfo=LONDON)
PLACES = (
    Place("gateway", "192.0.2.1"), Place("edge", "198.51.100.1"), Place("outside", "203.0.113.53"),
    Place("outside", "203.0.113.99"), Place("far-end", "203.0.113.10"),
)  # fmt: skip
CALM_MS = (1.0, 8.0, 17.0, 23.0, 31.0)
SCATTER_MS = (0.3, 0.8, 1.2, 1.2, 1.5)
REACHES = {"inside": (0, 1, 2, 3, 4), "line": (1, 2, 3, 4), "beyond": (2, 3, 4), "far": (4,)}


@dataclass(frozen=True)
class Truth:
    """What really was, in seconds from the week's beginning."""

    from_s: float
    until_s: float
    leg: str
    kind: str


@dataclass
class Week:
    """One round a second; troubles are added, then ``rounds`` reads it as a probe would bring it."""

    seed: int
    days: int = 7
    interval_s: float = 1.0
    start: datetime = MONDAY
    truth: list[Truth] = field(default_factory=list)

    comes_back: dict[str, int] = field(default_factory=dict)
    """On how many days trouble of a leg comes at the same time of day."""

    def __post_init__(self) -> None:
        self.chance = np.random.default_rng(self.seed)
        self.at_s = np.arange(0, self.days * 86_400, self.interval_s)
        n = len(self.at_s)
        calm = np.array(CALM_MS)[:, None]
        scatter = np.array(SCATTER_MS)[:, None]
        self.rtt = calm + self.chance.gamma(1.0, scatter, (len(PLACES), n))
        self.lost = self.chance.random((len(PLACES), n)) < 0.0005
        self.there = np.ones(n, bool)
        self.mute: set[int] = set()

    def since(self, us: int) -> float:
        """Seconds from the week's beginning."""
        return us / 1e6 - self.start.timestamp()

    def among(self, from_s: float, until_s: float) -> slice:
        first, last = np.searchsorted(self.at_s, [from_s, until_s])
        return slice(int(first), int(last))

    # What is no trouble

    def wifi(self, share: float = 0.01, up_to_ms: float = 50.0) -> None:
        """Single packets come late and are lost, each by itself."""
        shape = self.rtt.shape
        self.rtt += np.where(self.chance.random(shape) < 0.1, self.chance.exponential(up_to_ms / 3, shape), 0)
        self.lost |= self.chance.random(shape) < share / 2
        self.rtt += np.where(self.chance.random(shape) < share / 2, 150.0, 0)

    def slow_edge(self) -> None:
        """It answers late for itself, and not at all one time in ten; what it passes on is fine."""
        n = self.rtt.shape[1]
        self.rtt[1] += self.chance.exponential(60.0, n)
        self.lost[1] |= self.chance.random(n) < 0.1

    def rhythm(self, most_ms: float = 12.0) -> None:
        """Busier by day: delay swells and ebbs, the same every day."""
        swell = most_ms * np.clip(np.sin((self.at_s / 86_400 - 0.3) * 2 * np.pi), 0, None)
        self.rtt[1:] += swell + self.chance.gamma(1.0, 1 + swell / 4, self.rtt[1:].shape)

    def sleeps(self, from_h: float = 22.5, until_h: float = 7.0) -> None:
        hour = self.at_s / 3600 % 24
        self.there &= ~((hour >= from_h) | (hour < until_h))

    def muted(self, place: int) -> None:
        self.mute.add(place)

    def gateway_muted(self) -> None:
        self.muted(0)

    # What is

    def outage(self, leg: str, from_s: float, seconds: float) -> None:
        self.lost[list(REACHES[leg]), self.among(from_s, from_s + seconds)] = True
        self._note(from_s, seconds, leg, "outage")

    def loses(self, leg: str, from_s: float, seconds: float, share: float) -> None:
        """Each packet by itself."""
        part = self.among(from_s, from_s + seconds)
        for place in REACHES[leg]:
            self.lost[place, part] |= self.chance.random(part.stop - part.start) < share
        self._note(from_s, seconds, leg, "loss")

    def queues(self, leg: str, from_s: float, seconds: float, most_ms: float, loss: float = 0.02) -> None:
        """Fills and empties, the same for all that pass within one instant."""
        part = self.among(from_s, from_s + seconds)
        n = part.stop - part.start
        walk = np.cumsum(self.chance.normal(0, 0.25, n))
        depth = most_ms * (0.72 + 0.28 * np.sin(walk))
        full = depth > 0.9 * most_ms
        for place in REACHES[leg]:
            self.rtt[place, part] += depth * self.chance.uniform(0.95, 1.05, n)
            self.lost[place, part] |= full & (self.chance.random(n) < loss)
        self._note(from_s, seconds, leg, "delay")

    def reroutes(self, at_s: float, by_ms: float, leg: str = "beyond") -> None:
        self.rtt[list(REACHES[leg]), self.among(at_s, self.at_s[-1] + 1)] += by_ms

    def _note(self, from_s: float, seconds: float, leg: str, kind: str) -> None:
        self.truth.append(Truth(from_s, from_s + seconds, "beyond" if leg == "far" else leg, kind))

    def rounds(self) -> Rounds:
        rtt = np.where(self.lost, np.nan, self.rtt)
        rtt[list(self.mute)] = np.nan
        there = self.there
        at_us = (self.start.timestamp() * 1e6 + self.at_s * 1e6).astype(np.int64)
        return Rounds(
            PLACES, at_us[there], np.ones((len(PLACES), int(there.sum())), bool), rtt[:, there],
            round(self.interval_s * 1e6),
        )  # fmt: skip


def hours(day: int, hour: float) -> float:
    """Seconds from the week's beginning to this hour of a day, 0 the first."""
    return (24 * day + hour) * 3600


def quiet_with(*features: str) -> Callable[[int], Week]:
    def make(seed: int, **options: float) -> Week:
        week = Week(seed, **options)
        for feature in features:
            getattr(week, feature)()
        return week

    return make


QUIET = {
    "nothing": quiet_with(),
    "Wi-Fi scatter": quiet_with("wifi"),
    "slow-to-answer edge": quiet_with("slow_edge"),
    "day and night": quiet_with("rhythm"),
    "a laptop that sleeps": quiet_with("wifi", "sleeps"),
    "mute gateway, slow edge, rhythm": quiet_with("slow_edge", "rhythm", "gateway_muted"),
}


def nightly_outage(seed: int, **options: float) -> Week:
    week = Week(seed, **options)
    nights = sorted(week.chance.choice(7, 5, replace=False).tolist())
    for night in nights:
        week.outage("line", hours(night, 1.1) + week.chance.uniform(0, 400), week.chance.uniform(90, 500))
    week.comes_back["line"] = len(nights)
    return week


def lunch_squeeze(seed: int, **options: float) -> Week:
    week = Week(seed, **options)
    week.slow_edge()
    for day in range(5):
        week.queues("inside", hours(day, 12) + week.chance.uniform(0, 600), week.chance.uniform(1500, 3000), 180)
    week.comes_back["inside"] = 5
    return week


def uploads(seed: int, **options: float) -> Week:
    """At any time of the day, so nothing comes back."""
    week = Week(seed, **options)
    week.rhythm()
    for day in range(7):
        for part in range(3):
            start = hours(day, 8 * part) + week.chance.uniform(0, 7 * 3600)
            week.queues("line", start, week.chance.uniform(120, 2400), week.chance.uniform(120, 400))
    return week


def rain(seed: int, **options: float) -> Week:
    week = Week(seed, **options)
    for day in (1, 4):
        week.loses("line", hours(day, week.chance.uniform(6, 18)), week.chance.uniform(1800, 7200), 0.15)
    return week


def weak_radio(seed: int, **options: float) -> Week:
    week = Week(seed, **options)
    week.wifi()
    for day in range(0, 7, 2):
        week.loses("inside", hours(day, week.chance.uniform(8, 18)), week.chance.uniform(900, 3600), 0.2)
    return week


def beyond_trouble(seed: int, **options: float) -> Week:
    week = Week(seed, **options)
    week.slow_edge()
    for day in range(7):
        week.queues("far", hours(day, week.chance.uniform(0, 22)), week.chance.uniform(300, 3600), 150)
    week.outage("beyond", hours(2, week.chance.uniform(0, 23)), 60)
    return week


def short_breaks(seed: int, **options: float) -> Week:
    """Eight to thirty seconds, inside and on the line."""
    week = Week(seed, **options)
    for day in range(7):
        week.outage("inside", hours(day, week.chance.uniform(0, 11)), week.chance.uniform(8, 30))
        week.outage("line", hours(day, week.chance.uniform(12, 23)), week.chance.uniform(8, 30))
    return week


def short_losses(seed: int, **options: float) -> Week:
    """Few packets, each by itself: that a neighbour lost fewer of them may be chance."""
    week = Week(seed, **options)
    for day in range(7):
        for number, leg in enumerate(("inside", "line", "beyond")):
            start = hours(day, 8 * number + week.chance.uniform(0, 7))
            week.loses(leg, start, week.chance.uniform(20, 90), week.chance.uniform(0.15, 0.35))
    return week


def overflows(seed: int, **options: float) -> Week:
    """A queue on the line is full for a moment, and drops what would have waited longest."""
    week = Week(seed, **options)
    week.slow_edge()
    for day in range(7):
        for part in range(3):
            start = hours(day, 8 * part + week.chance.uniform(0, 7))
            seconds = week.chance.uniform(10, 30)
            week.queues("line", start, seconds, 300)
            full = week.among(start, start + seconds)
            for place in REACHES["line"]:
                late = week.rtt[place, full] > CALM_MS[place] + 200
                week.lost[place, full] |= late & (week.chance.random(len(late)) < 0.5)
    return week


TROUBLES = {
    "line down on five nights": nightly_outage,
    "inside switch full at noon, slow edge": lunch_squeeze,
    "uploads at any time, day and night rhythm": uploads,
    "rain on a radio line": rain,
    "weak Wi-Fi": weak_radio,
    "far end congested, slow edge": beyond_trouble,
    "breaks of 8 to 30 seconds": short_breaks,
}
SHORT = {
    "losses of 20 to 90 seconds on any leg": short_losses,
    "a queue that overflows for 10 to 30 seconds, slow edge": overflows,
}


def match(week: Week, episodes: Sequence[Episode]) -> list[tuple[Truth, Episode]]:
    """Pairs that overlap by more than half of both; each once."""
    pairs = []
    left = list(episodes)
    for true in week.truth:
        for one in left:
            begin, end = week.since(one.from_us), week.since(one.until_us)
            both = min(end, true.until_s) - max(begin, true.from_s)
            if both > 0.5 * (true.until_s - true.from_s) and both > 0.5 * (end - begin):
                pairs.append((true, one))
                left.remove(one)
                break
    return pairs
