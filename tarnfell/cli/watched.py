"""Samples of a watch, taken here or read from a file: episodes, what comes back, and the causes behind."""

from __future__ import annotations

import argparse
import signal
import socket
import sys
import time
from collections.abc import Iterator, Mapping
from datetime import UTC, datetime
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any, TextIO
from zoneinfo import ZoneInfo

from tarnfell.cli.common import DONE, FAILED, host_port, print_report
from tarnfell.core.causes import LEG_WORDS
from tarnfell.core.codecs import find_codec
from tarnfell.core.days.analysis import Analysis, PlaceFigures, analyse
from tarnfell.core.days.episodes import Episode
from tarnfell.core.days.recurrence import clock
from tarnfell.core.playout import MAX_BUFFER_MS
from tarnfell.core.quality import Criterion, criterion_for
from tarnfell.core.targets import BOUNDS
from tarnfell.exchange.samples import HEADER, NotSamples, read_samples
from tarnfell.media.keys import read_key
from tarnfell.media.tracing.errors import CannotAsk
from tarnfell.media.tracing.tracer import path as trace
from tarnfell.probe.asking.ladder import edge_of
from tarnfell.probe.sampler.sample import Orders, sample
from tarnfell.probe.surroundings import surroundings
from tarnfell.wire.control import DEFAULT_MEDIA_PORTS
from tarnfell.wire.kinds.fields import KindError, plain, read
from tarnfell.wire.kinds.watch import ANSWERED, FATE, LOST, STAMPS, TARGET, EchoTarget, Watch, WatchTarget
from tarnfell.wire.record import Record

USUAL_CODEC = "g711a"


def watch(options: argparse.Namespace) -> int:
    """Ctrl-C ends it and keeps what there is."""
    if options.seconds < 0:
        raise ValueError(f"{options.seconds:g} seconds cannot be watched: choose 0, for until stopped, or more.")
    wanted = _wanted(options)
    with TemporaryDirectory() as folder:
        path = Path(options.out) if options.out else Path(folder) / "samples.csv"
        with open(path, "w", encoding="utf-8", newline="") as file:
            _sample(wanted, options.host, options.seconds, file)
        try:
            return analyse_samples(options, path)
        except ValueError as error:
            raise ValueError(str(error).replace(f"{path}: ", "")) from None


def _wanted(options: argparse.Namespace) -> Watch:
    host, port = host_port(options.host)
    try:
        address = str(socket.getaddrinfo(host, None)[0][4][0])
    except socket.gaierror:
        raise ValueError(f"The name {host} cannot be looked up. Check the spelling, or give the address.") from None
    key = read_key(options.key_file).decode() if options.key_file else ""
    gateway = options.gateway or surroundings().gateway
    edge = options.edge or _edge(address, gateway)
    echoes = [EchoTarget("gateway", gateway)] if gateway else []
    echoes += [EchoTarget("edge", edge)] if edge else []
    echoes += [EchoTarget("outside", one) for one in options.outside or ()]
    echoes += [] if key else [EchoTarget("far-end", address)]
    targets = (WatchTarget(1, host, port, key, options.dscp),) if key else ()
    wanted = Watch(1, 1, round(1000 * options.interval), targets, tuple(echoes))
    try:
        return read(Watch, plain(wanted), "The watch")
    except KindError as error:
        raise ValueError(str(error)) from None


def _edge(address: str, gateway: str | None) -> str | None:
    try:
        return edge_of(trace(address, DEFAULT_MEDIA_PORTS[0], 2, 0), gateway)
    except CannotAsk:
        return None


def _sample(wanted: Watch, far_end: str, seconds: float, file: TextIO) -> None:
    file.write(",".join(HEADER) + "\n")
    names = [(far_end, "far-end") for _ in wanted.targets] + [(one.address, one.role) for one in wanted.echoes]
    until = time.monotonic() + seconds
    stopped = False

    def go_on() -> bool:
        return not stopped and (not seconds or time.monotonic() < until)

    def keep(_first_us: int, batch: bytes) -> None:
        file.writelines(_lines(batch, names))
        file.flush()

    def tell(trouble: str | None) -> None:
        if trouble:
            print(f"tarnfell: {trouble}", file=sys.stderr)

    def stop(*_: object) -> None:
        nonlocal stopped
        stopped = True

    before = signal.signal(signal.SIGINT, stop)
    try:
        sample(wanted, Orders(go_on, lambda: 0, keep, tell), to_the_last=True)
    finally:
        signal.signal(signal.SIGINT, before)


def _lines(batch: bytes, names: list[tuple[str, str]]) -> Iterator[str]:
    """What was sent and answered, or lost; what could not be sent is a gap."""
    record = Record.parse(batch)
    for target, fate, t1, t2, t3, t4 in zip(*(record.values(name) for name in (TARGET, FATE, *STAMPS)), strict=True):
        if fate in (ANSWERED, LOST):
            at = datetime.fromtimestamp(t1 / 1e9, UTC).isoformat(timespec="microseconds").replace("+00:00", "Z")
            rtt = "" if fate == LOST else f"{((t4 - t1) - (t3 - t2)) / 1e6:.3f}"
            yield f"{at},{names[target][0]},{names[target][1]},{rtt}\n"


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
            {"key": one.key, "leg": leg(one.leg), "direction": one.direction, "title": one.title, "says": one.says,
             "remedy": one.remedy, "who": one.who, "episodes": len(one.episodes)}
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
