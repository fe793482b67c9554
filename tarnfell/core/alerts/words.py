"""What an alert says: of what, how much, since when."""

from __future__ import annotations

from datetime import datetime
from zoneinfo import ZoneInfo

from tarnfell.core.alerts.rules import Rule
from tarnfell.core.alerts.spells import Spell
from tarnfell.core.days.local import local_time


def says(rule: Rule, spell: Spell, name: str, zone: ZoneInfo) -> str:
    """``name`` is of what the rule was kept: a place and its probe, a probe, a plan."""
    began = local_time(spell.from_us, zone)
    when = f"since {_clock(began)}"
    if spell.until_us is not None:
        ended = local_time(spell.until_us, zone)
        when = f"from {_clock(began)} to {ended:%H:%M}" + ("" if ended.date() == began.date() else f" on {_day(ended)}")
    match rule.kind:
        case "loss":
            return f"{name}: {spell.value:.1f} % lost {when}; the limit is {rule.limit:g} %."
        case "delay":
            return f"{name}: median round trip {spell.value:.0f} ms {when}; the limit is {rule.limit:g} ms."
        case "above-normal":
            return (
                f"{name}: median round trip {spell.value:.0f} ms {when}; normal for the hour is {spell.usual:.0f} ms."
            )
        case "calls-below":
            return f"{name}: median {spell.value:.2f} MOS over the tests below {rule.limit:g} MOS, {when}."
        case "no-samples":
            return f"{name}: no samples {when}."
        case "offline":
            return f"{name}: offline {when}."
        case "missed":
            return f"{name}: missed, due at {_clock(began)}."


def _clock(at: datetime) -> str:
    return f"{at:%H:%M} on {_day(at)}"


def _day(at: datetime) -> str:
    return f"{at.day} {at:%B}"
