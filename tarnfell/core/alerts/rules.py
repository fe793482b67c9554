"""What an alert may be asked for: a closed list of rules, each a sentence with its numbers in it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from tarnfell.core.legs import ROLE_WORDS, Role

Kind = Literal["calls-below", "loss", "delay", "above-normal", "no-samples", "offline", "missed"]
KINDS: tuple[Kind, ...] = ("calls-below", "loss", "delay", "above-normal", "no-samples", "offline", "missed")
OF_A_PLACE: tuple[Kind, ...] = ("loss", "delay", "above-normal")
"""Rules about one of the places that a watch asks, minute by minute."""
FOR_MINUTES: tuple[Kind, ...] = (*OF_A_PLACE, "no-samples", "offline")
LIMITS: dict[Kind, tuple[float, float]] = {"calls-below": (1.0, 4.5), "loss": (0.0, 99.0), "delay": (1.0, 5000.0)}
MOST_MINUTES = 24 * 60
MOST_TESTS = 50


class RuleError(ValueError):
    """A rule that cannot be; the text says what can."""


@dataclass(frozen=True)
class Rule:
    """Numbers that its kind has no use for are 0."""

    kind: Kind
    role: Role | None = None
    limit: float = 0.0
    """MOS, percent or milliseconds."""
    minutes: int = 0
    count: int = 0
    of: int = 0


def checked(rule: Rule) -> Rule:
    """The rule without what its kind has no use for. Raises RuleError."""
    if rule.kind in OF_A_PLACE and rule.role is None:
        raise RuleError("Choose the place that the alert is about.")
    if rule.kind in LIMITS:
        low, high = LIMITS[rule.kind]
        if not low <= rule.limit <= high:
            raise RuleError(f"Choose a limit of {low:g} to {high:g}.")
    if rule.kind in FOR_MINUTES and not 1 <= rule.minutes <= MOST_MINUTES:
        raise RuleError(f"Choose 1 to {MOST_MINUTES} minutes.")
    if rule.kind == "calls-below" and not 1 <= rule.count <= rule.of <= MOST_TESTS:
        raise RuleError(f"Choose 1 to {MOST_TESTS} tests, and no more of them than are looked at.")
    return Rule(
        rule.kind,
        rule.role if rule.kind in OF_A_PLACE else None,
        rule.limit if rule.kind in LIMITS else 0.0,
        rule.minutes if rule.kind in FOR_MINUTES else 0,
        rule.count if rule.kind == "calls-below" else 0,
        rule.of if rule.kind == "calls-below" else 0,
    )


def sentence(rule: Rule) -> str:
    place = ROLE_WORDS[rule.role] if rule.role else ""
    match rule.kind:
        case "calls-below":
            tests = "a test" if rule.of == 1 else f"{rule.count} of {rule.of} tests"
            return f"When calls fall below {rule.limit:g} MOS in {tests}."
        case "loss":
            return f"When {place} loses more than {rule.limit:g} % for {_minutes(rule)}."
        case "delay":
            return f"When the round trip to {place} is over {rule.limit:g} ms for {_minutes(rule)}."
        case "above-normal":
            return f"When {place} is slower than normal for the hour for {_minutes(rule)}."
        case "no-samples":
            return f"When a watch brings no samples for {_minutes(rule)}."
        case "offline":
            return f"When a probe is offline for {_minutes(rule)}."
        case "missed":
            return "When a planned load is missed."


def _minutes(rule: Rule) -> str:
    return "a minute" if rule.minutes == 1 else f"{rule.minutes} minutes"
