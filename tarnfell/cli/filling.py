"""The line filled with calls beside it, from the command line."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Mapping
from dataclasses import asdict
from typing import Any, Literal, cast

from tarnfell.cli.common import DONE, FAILED, host_port, print_report
from tarnfell.core.codecs import find_codec
from tarnfell.core.line.values import FillLimits, LineFilled, PhaseFigures
from tarnfell.core.quality import criterion_for
from tarnfell.core.rates import call_rate
from tarnfell.media.keys import read_key
from tarnfell.probe.fill import fill
from tarnfell.probe.works.fill import told_of
from tarnfell.wire.kinds.calls import LiveSecond
from tarnfell.wire.kinds.fields import KindError, plain, read
from tarnfell.wire.kinds.fill import FillArguments, FillPhase, FillPlan
from tarnfell.work.ingest.fills import judge_fill
from tarnfell.work.placing.fill_plan import calls_beside

WAYS = ("up", "down", "both")


def bloat(options: argparse.Namespace) -> int:
    host, port = host_port(options.host)
    codec = find_codec(options.codec)
    codec.check_ptime(options.ptime)
    plan = _plan(options)
    limits = _limits(options, call_rate(codec, options.ptime).ipv4_kbps)
    arguments = FillArguments(
        calls_beside(codec, options.ptime, plan, options.dscp), plan, host, port, read_key(options.key_file).decode(),
        options.gateway or "", options.edge or "",
    )  # fmt: skip
    tell = _Progress(plan) if sys.stderr.isatty() else (lambda phases, second: None)
    run, phases, echoes = fill(arguments, tell=tell)
    result = told_of(run, phases, echoes)
    criterion = criterion_for(codec, options.ptime)
    filled = judge_fill(result, codec, options.ptime, criterion, limits, ceiling=bool(plan.ceiling_kbps))
    print_report(options, report_of(filled), _text)
    return FAILED if run.cut or filled.causes or any(one.failure for one in phases) else DONE


def _plan(options: argparse.Namespace) -> FillPlan:
    ways = tuple(options.ways.split(","))
    if not ways or any(way not in WAYS for way in ways) or len(set(ways)) != len(ways):
        raise ValueError(f"--ways takes {', '.join(WAYS)}, each once; not “{options.ways}”.")
    told = plain(
        FillPlan(
            float(options.seconds), options.streams, ways=cast("tuple[Literal['up', 'down', 'both'], ...]", ways),
            ceiling_kbps=options.ceiling,
        )
    )  # fmt: skip
    try:
        return read(FillPlan, told)
    except KindError as error:
        raise ValueError(str(error)) from None


def _limits(options: argparse.Namespace, call_kbps: float) -> FillLimits:
    if not 1 <= options.calls <= 10_000:
        raise ValueError("Choose 1 to 10000 concurrent calls.")
    if not 1 <= options.target <= 4.5:
        raise ValueError("The target is a MOS from 1 to 4.5.")
    up = down = 0.0
    if options.line:
        parts = options.line.split(",")
        if len(parts) != 2 or not all(part.isdigit() and int(part) > 0 for part in parts):
            raise ValueError(f"“{options.line}” is not as “10000,50000”: the line’s rates up and down in kbit/s.")
        up, down = (float(part) for part in parts)
    return FillLimits(options.target, options.calls * call_kbps, up, down)


class _Progress:
    def __init__(self, plan: FillPlan) -> None:
        self._seconds = plan.length_s

    def __call__(self, phases: tuple[FillPhase, ...], second: LiveSecond) -> None:
        done = ", ".join(one.way for one in phases) or "idle"
        print(f"{second.second:>4} of {self._seconds:.0f} s · done: {done}", file=sys.stderr)


def report_of(filled: LineFilled) -> dict[str, object]:
    idle = filled.phase("idle")
    report: dict[str, object] = {
        "idle": {
            "rtt_p50_ms": idle.rtt_p50_ms if idle else None,
            "rtt_p95_ms": idle.rtt_p95_ms if idle else None,
            "mos": _least(idle.up.mos, idle.down.mos) if idle else None,
            "mos_up": idle.up.mos if idle else None,
            "mos_down": idle.down.mos if idle else None,
        }
    }
    for phase in filled.phases:
        if phase.way != "idle":
            report[phase.way] = _phase(phase)
    return {
        **report,
        "bytes": filled.moved_bytes,
        "says": list(filled.says),
        "invalid": list(filled.spoiled),
        "causes": [asdict(cause) for cause in filled.causes],
    }


def _phase(phase: PhaseFigures) -> dict[str, object]:
    rates = [one.throughput_kbps for one in phase.filled if one.throughput_kbps is not None]
    return {
        "throughput_kbps": sum(rates) if rates else None,
        "added_delay_p50_ms": phase.added_delay_p50_ms,
        "added_delay_p95_ms": phase.added_delay_p95_ms,
        "loss_pct": phase.loss_pct,
        "rpm": phase.rpm,
        "mos_loaded": phase.mos_loaded,
        "mos_marked": phase.mos_marked,
        "rtt_p50_ms": phase.rtt_p50_ms,
        "exchanges": phase.exchanges,
        "failure": phase.failure,
        "sides": {"up": asdict(phase.up), "down": asdict(phase.down)},
    }


def _least(*values: float | None) -> float | None:
    return min((one for one in values if one is not None), default=None)


def _text(report: Mapping[str, Any]) -> str:
    idle = report["idle"]
    lines = [f"idle  round trip {_ms(idle['rtt_p50_ms'])}, {_mos(idle['mos'])} MOS"]
    for way in WAYS:
        if way in report:
            one = report[way]
            rate = "no throughput" if one["throughput_kbps"] is None else f"{one['throughput_kbps']:.0f} kbit/s"
            lines.append(
                f"{way:<5} {rate}, {_ms(one['added_delay_p50_ms'])} added (95th percentile "
                f"{_ms(one['added_delay_p95_ms'])}), {_mos(one['mos_loaded'])} MOS, marked {_mos(one['mos_marked'])}"
            )
    lines += ["", *report["says"]]
    if report["invalid"]:
        lines.append("Invalid: " + " ".join(report["invalid"]))
    for cause in report["causes"]:
        lines += ["", f"{cause['title']}. {cause['says']}", f"  What to do: {cause['remedy']} ({cause['who']})"]
    return "\n".join([*lines, "", f"{report['bytes'] / 1e6:.1f} MB were moved."])


def _ms(value: float | None) -> str:
    return "–" if value is None else f"{value:.0f} ms"


def _mos(value: float | None) -> str:
    return "–" if value is None else f"{value:.2f}"
