"""How many calls a site needs at once: from its people and their busy hour, by Erlang B."""

from __future__ import annotations

from dataclasses import dataclass

from tarnfell.core.stats import concurrent_calls, erlang_b

MAX_ERLANGS = 2_000.0


class NeedError(ValueError):
    """Calling habits that cannot be; the text says why."""


@dataclass(frozen=True)
class BlockedAt:
    """With this many calls carried at once, the share of attempts that find no room."""

    calls: int
    blocked_pct: float


@dataclass(frozen=True)
class Need:
    erlangs: float
    """Busy-hour traffic: calls going on at once in the mean (ITU-T E.600)."""
    calls: int
    """Fewest calls at once that block no more than was accepted."""
    curve: tuple[BlockedAt, ...]
    """Blocking around that number, for a picture."""


def need_of(people: int, calls_per_hour: float, minutes_per_call: float, accepted_blocking_pct: float) -> Need:
    """Calls at once for ``people`` who each make ``calls_per_hour`` in the busy hour.

    Offered traffic is arrivals times mean holding time (ITU-T E.501); the number follows from Erlang B.
    Raises NeedError.
    """
    if people < 1 or calls_per_hour < 0 or minutes_per_call < 0:
        raise NeedError("People are at least 1; calls an hour and minutes a call are not negative.")
    if not 0 < accepted_blocking_pct < 100:
        raise NeedError("The share of attempts that may be blocked lies between 0 and 100 %.")
    erlangs = people * calls_per_hour * minutes_per_call / 60
    if erlangs > MAX_ERLANGS:
        raise NeedError(f"{erlangs:.0f} erlangs at one site cannot be right: check calls an hour and minutes a call.")
    calls = max(1, concurrent_calls(erlangs, accepted_blocking_pct / 100))
    last = max(calls + 4, int(calls * 1.5))
    step = max(1, last // 40)
    shown = sorted({*range(0, last + 1, step), calls})
    return Need(erlangs, calls, tuple(BlockedAt(n, 100 * erlang_b(erlangs, n)) for n in shown))
