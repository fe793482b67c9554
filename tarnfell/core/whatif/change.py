"""What is asked: a site as it was measured, but for these."""

from __future__ import annotations

from dataclasses import dataclass, fields
from datetime import date

from tarnfell.core.causes import DIRECTIONS, Direction
from tarnfell.core.playout import MAX_BUFFER_MS
from tarnfell.core.targets import BOUNDS

MOST_FACTOR = 100.0
LINE_FACTORS = (0.9, 1.1)
"""What others offer is read from one call's packets: a tenth less and a tenth more are tried."""


class ChangeError(ValueError):
    """A change that cannot be tried; the text says why and what can."""


@dataclass(frozen=True, kw_only=True)
class Change:
    """None and the values given here: as it is."""

    codec: str | None = None
    buffer_ms: float | None = None
    """Of a fixed buffer; the most of an adaptive one."""
    adaptive: bool = False
    first_up: bool = False
    """At the router, media is sent first."""
    first_down: bool = False
    first_inside: bool = False
    """The site's switches send media first, both ways."""
    line_up: float = 1.0
    """Times the line's rate."""
    line_down: float = 1.0
    target_mos: float | None = None
    required_share_pct: float | None = None
    needed_calls: int | None = None
    open_minute: int | None = None
    close_minute: int | None = None
    open_days: str | None = None
    """ISO weekdays, Monday 1, as digits."""
    from_day: str | None = None
    """First and last day at the site that count, ISO dates."""
    until_day: str | None = None

    @property
    def replays(self) -> bool:
        """Whether packets are judged anew; else only what is asked of them is another."""
        return self.changes_listener or self.touches_queues

    @property
    def changes_listener(self) -> bool:
        """Whether every call is judged by another codec or buffer."""
        return self.codec is not None or self.buffer_ms is not None

    @property
    def touches_queues(self) -> bool:
        return self.first_inside or any(self.first(d) or self.line(d) > 1 for d in DIRECTIONS)

    def first(self, direction: Direction) -> bool:
        return self.first_up if direction == "up" else self.first_down

    def line(self, direction: Direction) -> float:
        return self.line_up if direction == "up" else self.line_down

    def mends_line(self, direction: Direction) -> bool:
        return self.first(direction) or self.line(direction) > 1


def check_change(change: Change, up_kbps: int | None, down_kbps: int | None) -> None:
    """Whether it can be tried at a site with a line of these rates. Raises ChangeError."""
    if change == Change():
        raise ChangeError("Nothing is changed. Choose what should be different.")
    if change.adaptive and change.buffer_ms is None:
        raise ChangeError("Give the most an adaptive buffer may grow to, in ms.")
    if change.buffer_ms is not None and not 0 < change.buffer_ms <= MAX_BUFFER_MS:
        raise ChangeError(f"The buffer must be more than 0 and at most {MAX_BUFFER_MS:g} ms.")
    for factor in (change.line_up, change.line_down):
        if not 1 <= factor <= MOST_FACTOR:
            raise ChangeError(
                f"Choose 1 to {MOST_FACTOR:g} times the line’s rate. What a smaller line would do cannot be told: how "
                "much passed while the queue was empty is not in a call’s packets."
            )
    if (change.first_up and not up_kbps) or (change.first_down and not down_kbps):
        raise ChangeError("Enter the line’s rates in the brief: they say how long one full packet takes.")
    for bound, value in (("target_mos", change.target_mos), ("required_share_pct", change.required_share_pct)):
        _check_bound(bound, value)
    if change.needed_calls is not None and not 1 <= change.needed_calls <= 10_000:
        raise ChangeError("Concurrent calls: choose 1 to 10,000.")
    _check_hours(change)
    first, last = (_day(text) for text in (change.from_day, change.until_day))
    if first and last and last < first:
        raise ChangeError(f"The last day, {last:%d %b %Y}, lies before the first, {first:%d %b %Y}.")


def _check_bound(key: str, value: float | None) -> None:
    bound = next(one for one in BOUNDS if one.key == key)
    if value is not None and not bound.low <= value <= bound.high:
        raise ChangeError(f"{bound.title}: choose {bound.low:g} to {bound.high:g} {bound.unit}.")


def _check_hours(change: Change) -> None:
    for minute in (change.open_minute, change.close_minute):
        if minute is not None and not 0 <= minute <= 1440:
            raise ChangeError("Business hours: choose times of a day.")
    if change.open_minute is not None and change.open_minute == change.close_minute:
        raise ChangeError("Business hours end when they begin. Choose another time.")
    days = change.open_days
    if days is not None and (not days or set(days) - set("1234567") or len(set(days)) < len(days)):
        raise ChangeError("Business days: choose one weekday at least, each once.")


def _day(text: str | None) -> date | None:
    if text is None:
        return None
    try:
        return date.fromisoformat(text)
    except ValueError:
        raise ChangeError(f"“{text}” is no day. Write it as 2026-11-20.") from None


def changed_fields(change: Change) -> dict[str, object]:
    """Only what is not as it is, for keeping."""
    return {f.name: getattr(change, f.name) for f in fields(change) if getattr(change, f.name) != f.default}
