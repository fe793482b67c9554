"""Two issued reports side by side, from what was frozen with each: what changed, and whether it is more than chance."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Literal

from tarnfell.core.compare import NOTHING, Difference, share_change
from tarnfell.core.verdict.moments import Share

SMALLEST_PCT = 1.0
"""Percentage points of acceptable calls that matter."""
Fate = Literal["gone", "new", "still there"]

_OF_BRIEF = {
    "needed_calls": "concurrent calls needed",
    "target_mos": "target MOS",
    "required_share_pct": "required share, %",
    "max_delay_ms": "one-way delay at most, ms",
    "max_loss_pct": "loss at most, %",
    "max_variation_ms": "delay variation at most, ms",
    "video": "video",
    "up_kbps": "upload, kbit/s",
    "down_kbps": "download, kbit/s",
}


@dataclass(frozen=True)
class ComparedSide:
    """Of one report, as its frozen figures have it."""

    number: str
    site: str
    made: str
    word: str
    provisional: bool
    low: int
    high: int
    good: int
    calls: int
    sustained: int | None
    """Concurrent calls shown; None where no number is."""


@dataclass(frozen=True)
class ComparedState:
    title: str
    first: str
    """Empty: the report has no such requirement."""
    second: str


@dataclass(frozen=True)
class ComparedCause:
    title: str
    fate: Fate


@dataclass(frozen=True)
class Compared:
    first: ComparedSide
    second: ComparedSide
    share: Difference
    """Of acceptable calls in business hours."""
    says: str
    states: tuple[ComparedState, ...]
    """Of the requirements, those that changed first."""
    causes: tuple[ComparedCause, ...]
    cautions: tuple[str, ...]
    """What the comparison cannot be asked."""


def compared(first: bytes, second: bytes, first_calls: bytes | None, second_calls: bytes | None) -> Compared:
    """Figures as they were frozen; calls where they were kept. Raises ValueError for figures that cannot be read."""
    a, b = _read(first), _read(second)
    share = _share(a, b)
    return Compared(
        _side(a), _side(b), share, _says(share), _states(a, b), _causes(a, b),
        tuple(_cautions(a, b, first_calls, second_calls)),
    )  # fmt: skip


def _read(figures: bytes) -> Mapping[str, Any]:
    told = json.loads(figures)
    if not isinstance(told, dict) or not isinstance(told.get("verdict"), dict):
        raise ValueError("These are no figures of a report.")
    return told


def _side(told: Mapping[str, Any]) -> ComparedSide:
    verdict, share = told["verdict"], told["verdict"]["share"]
    return ComparedSide(
        str(told["number"]), str(told["site"]["name"]), str(told["made_local"]), str(verdict["word"]),
        bool(verdict["provisional"]),
        int(verdict["low"]), int(verdict["high"]), int(share["good"]), int(share["calls"]),
        (verdict.get("capacity") or {}).get("sustained"),
    )  # fmt: skip


def _share(a: Mapping[str, Any], b: Mapping[str, Any]) -> Difference:
    first, second = (Share(**told["verdict"]["share"]) for told in (a, b))
    if first.pct is None or second.pct is None:
        return NOTHING
    return share_change(first, second, SMALLEST_PCT)


def _says(share: Difference) -> str:
    if share.change is None or share.low is None or share.high is None:
        return "One of the reports has no calls in business hours, so their shares cannot be compared."
    moved = "rose" if share.change > 0 else "fell"
    told = (
        f"The share of acceptable calls in business hours {moved} from {share.first:.1f} % to {share.second:.1f} % "
        f"({_signed(share.change)} points, 95 % interval {_signed(share.low)} to {_signed(share.high)})"
    )
    if share.sure:
        return f"{told}: more than chance."
    if abs(share.change) < SMALLEST_PCT:
        return (
            f"The share of acceptable calls in business hours is the same within {SMALLEST_PCT:g} point: "
            f"{share.first:.1f} % and {share.second:.1f} %."
        )
    return f"{told}: chance alone explains that."


def _signed(value: float) -> str:
    return f"{value:+.1f}".replace("-", "−")


def _states(a: Mapping[str, Any], b: Mapping[str, Any]) -> tuple[ComparedState, ...]:
    first, second = ({one["key"]: one for one in told["verdict"]["requirements"]} for told in (a, b))
    found = [
        ComparedState(
            str((second.get(key) or first[key])["title"]),
            str(first[key]["state"]) if key in first else "",
            str(second[key]["state"]) if key in second else "",
        )
        for key in dict.fromkeys([*second, *first])
    ]
    return tuple(sorted(found, key=lambda one: one.first == one.second))


def _causes(a: Mapping[str, Any], b: Mapping[str, Any]) -> tuple[ComparedCause, ...]:
    """Of the network. One that took another leg or direction is another."""
    first, second = (_titles(told["causes"]) for told in (a, b))
    gone = [ComparedCause(title, "gone") for name, title in first.items() if name not in second]
    new = [ComparedCause(title, "new") for name, title in second.items() if name not in first]
    still = [ComparedCause(title, "still there") for name, title in second.items() if name in first]
    return (*gone, *new, *still)


def _titles(causes: Sequence[Mapping[str, Any]]) -> dict[tuple[str, str, str], str]:
    return {(one["key"], one["leg"], one["direction"]): str(one["title"]) for one in causes if one.get("network", True)}


def _cautions(
    a: Mapping[str, Any], b: Mapping[str, Any], first_calls: bytes | None, second_calls: bytes | None
) -> list[str]:
    told = []
    if a["site"]["name"] != b["site"]["name"]:
        told.append("They are of two sites: what differs may be the sites and not what was done.")
    changed = [
        f"{words} {_plain(a['brief'].get(key))} → {_plain(b['brief'].get(key))}"
        for key, words in _OF_BRIEF.items()
        if a["brief"].get(key) != b["brief"].get(key)
    ]
    if changed:
        told.append(f"The briefs differ: {'; '.join(changed)}.")
    if first_calls is None or second_calls is None:
        told.append("Which calls they rest on was not kept with both, so whether they share some is not known.")
    else:
        one, other = _calls(first_calls), _calls(second_calls)
        shared = len(one & other)
        if shared:
            told.append(
                f"They share {shared} {'call' if shared == 1 else 'calls'} of {len(one)} and {len(other)}: what both "
                "count is no before and after, and their shares differ less than the site may."
            )
    return told


def _calls(body: bytes) -> set[tuple[str, str]]:
    return {(row["run"], row["call"]) for row in csv.DictReader(io.StringIO(body.decode())) if row["counts"] == "yes"}


def _plain(value: Any) -> str:
    if value is None:
        return "none"
    return ("yes" if value else "no") if isinstance(value, bool) else f"{value:.10g}"
