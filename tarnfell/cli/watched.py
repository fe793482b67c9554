"""Samples of a watch, from a file: episodes, what comes back, and the causes behind."""

from __future__ import annotations

import argparse
from collections.abc import Mapping
from datetime import UTC, datetime
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

from tarnfell.cli.common import DONE, FAILED, print_report
from tarnfell.core.causes import LEG_WORDS
from tarnfell.core.codecs import find_codec
from tarnfell.core.days.analysis import Analysis, PlaceFigures, analyse
from tarnfell.core.days.episodes import Episode
from tarnfell.core.days.recurrence import clock
from tarnfell.core.playout import MAX_BUFFER_MS
from tarnfell.core.quality import Criterion, criterion_for
from tarnfell.core.targets import BOUNDS
from tarnfell.exchange.samples import NotSamples, read_samples

USUAL_CODEC = "g711a"


def analyse_samples(options: argparse.Namespace, path: Path) -> int:
    zone = _zone(options.time_zone)
    bound = next(one for one in BOUNDS if one.key == "target_mos")
    if not bound.low <= options.target <= bound.high:
        raise ValueError(f"A target of {options.target:g} MOS cannot be used: choose {bound.low:g} to {bound.high:g}.")
    try:
        with open(path, encoding="utf-8-sig", newline="") as file:
            rounds = read_samples(file)
    except NotSamples as error:
        raise ValueError(f"{path}: {error}") from None
    told = analyse(rounds, _criterion(options), options.target, zone, options.medium)
    report = _report(told, zone)
    print_report(options, report, _text)
    heard = any(place.p50_ms is not None for place in told.places)
    return DONE if heard and not told.episodes and not told.findings else FAILED


def _zone(name: str) -> ZoneInfo:
    try:
        return ZoneInfo(name)
    except (KeyError, ValueError, OSError):
        raise ValueError(f"“{name}” is not a time zone, such as Europe/London.") from None


def _criterion(options: argparse.Namespace) -> Criterion:
    if not 0 <= options.buffer <= MAX_BUFFER_MS:
        raise ValueError(f"A buffer of {options.buffer:g} ms cannot be used: choose 0 to {MAX_BUFFER_MS:g} ms.")
    codec = find_codec(options.codec or USUAL_CODEC)
    ptime = options.ptime or (20 if 20 in codec.intervals_ms() else codec.intervals_ms()[0])
    codec.check_ptime(ptime)
    return criterion_for(codec, ptime, options.buffer)


def _report(told: Analysis, zone: ZoneInfo) -> dict[str, Any]:
    def at(us: int) -> str:
        return datetime.fromtimestamp(us / 1e6, UTC).astimezone(zone).isoformat(timespec="milliseconds")

    def leg(one: str) -> str:
        return "unknown" if one == "inside or line" else one

    def episode(one: Episode) -> dict[str, Any]:
        return {
            "from": at(one.from_us),
            "until": at(one.until_us),
            "leg": leg(one.leg),
            "where": LEG_WORDS[one.leg],
            "kind": one.kind,
            "certainty": round(one.certainty, 3),
            "shares": {name: round(share, 3) for name, share in one.shares.items()},
            "loss_pct": one.loss_pct,
            "late_pct": one.late_pct,
            "added_ms": one.added_ms,
            "added_p95_ms": one.added_p95_ms,
            "mos": one.mos,
            "seen_at": one.end.name,
            "targets": [
                {"role": seen.place.role, "target": seen.place.name, "sent": seen.sent, "lost": seen.lost,
                 "added_ms": seen.added_ms}
                for seen in one.places
            ],
        }  # fmt: skip

    return {
        "from": at(told.from_us),
        "until": at(told.until_us),
        "rounds": told.rounds,
        "targets": [_target(place) for place in told.places],
        "gaps": [{"from": at(gap.from_us), "until": at(gap.until_us)} for gap in told.gaps],
        "episodes": [episode(one) for one in told.episodes],
        "recurrences": [
            {"leg": leg(one.leg), "days": one.days, "of": one.of, "on": one.kind_of_days,
             "from": clock(one.from_minute), "until": clock(one.until_minute), "p": one.p, "says": one.says}
            for one in told.recurrences
        ],
        "causes": [
            {"key": one.key, "leg": leg(one.leg), "title": one.title, "says": one.says, "remedy": one.remedy,
             "who": one.who, "episodes": len(one.episodes)}
            for one in told.findings
        ],
        "not_faults": [{"key": one.key, "says": one.says} for one in told.not_faults],
    }  # fmt: skip


def _target(place: PlaceFigures) -> dict[str, Any]:
    return {
        "target": place.place.name,
        "role": place.place.role,
        "sent": place.sent,
        "lost": place.lost,
        "loss_pct": 100 * place.lost / place.sent if place.sent else None,
        "min_ms": place.min_ms,
        "p50_ms": place.p50_ms,
        "p95_ms": place.p95_ms,
        "max_ms": place.max_ms,
        "baseline": {"by": place.baseline.by, "days": place.baseline.days, "forming": place.baseline.forming},
    }


def _text(r: Mapping[str, Any]) -> str:
    lines = [f"{r['from']} to {r['until']}: {r['rounds']} rounds, {len(r['gaps'])} gaps"]
    for place in r["targets"]:
        took = "no answer" if place["p50_ms"] is None else f"{place['p50_ms']:.1f} ms, p95 {place['p95_ms']:.1f} ms"
        base = f"baseline by {place['baseline']['by']}" + (", forming" if place["baseline"]["forming"] else "")
        lines.append(
            f"{place['role']:<8} {place['target']:<24} {place['lost']} of {place['sent']} lost · {took} · {base}"
        )
    for one in r["episodes"]:
        added = "" if one["added_p95_ms"] is None else f", {one['added_p95_ms']:.0f} ms added (p95)"
        lines.append(
            f"{one['from']} to {one['until']}  {one['kind']}, {one['where']} ({100 * one['certainty']:.0f} %): "
            f"{one['loss_pct']:.1f} % lost{added}, {one['mos']:.2f} MOS"
        )
    for one in r["causes"]:
        lines += ["", f"{one['title']}. {one['says']}", f"  What to do: {one['remedy']} ({one['who']})"]
    lines += [f"\nNo fault: {one['says']}" for one in r["not_faults"]]
    if not r["episodes"] and not r["causes"]:
        lines.append("Nothing in it would have spoiled a call.")
    return "\n".join(lines)
