"""Causes of calls that were not carried at all: the connection down, or media that never arrives."""

from __future__ import annotations

from tarnfell.core.causes import DIRECTIONS, WAY_WORDS, CauseKey, Way
from tarnfell.core.verdict.case import Case, in_words, way_of
from tarnfell.core.verdict.causes import Cause, firewall_owner, owner
from tarnfell.core.verdict.facts import Brief
from tarnfell.core.verdict.readings import CallReading, Reading, Trouble
from tarnfell.core.verdict.when import when


def down(readings: list[Reading], calls: list[CallReading], brief: Brief) -> list[Cause]:
    """Calls that were cut or could not be placed, by which side was away."""
    bad = [r for r in readings if r.trouble is Trouble.DOWN]
    found: list[Cause] = []
    for blame in ("site", "far end", "unknown"):
        of = [r for r in bad if r.fact.blame == blame]
        if not of:
            continue
        case = Case("both", of, readings, readings, calls, brief)
        cut = len({r.fact.call_id for r in of if r.fact.outcome == "cut"})
        counts = f"{case.of} were not carried: {cut} were cut, {case.hit - cut} could not be placed."
        runs = len({r.fact.run_id for r in of})
        told = f"The probe reported: “{of[0].fact.reason}”" if of[0].fact.reason else ""
        says = [counts, *([told] if told else []), when(of)]
        if blame == "far end":
            cause = case.cause(
                "beyond-down",
                "beyond",
                f"The far end was unreachable in {runs} {_runs(runs)} while the site was online",
                says,
                ("Not the site’s line: the probe reached this server at the same instant, through the same line.",),
                "Ask whoever runs the far end for its log at these times; place calls to a second far end beside it.",
                "whoever runs the far end",
            )
        elif blame == "site":
            cause = case.cause(
                "line-down",
                "inside or line",
                f"The site was offline in {runs} {_runs(runs)}",
                says,
                ("Not the far end alone: the probe could not reach this server at the same instant either.",),
                "Ask for the line’s log at these times and look at the router’s; then check power and uplink inside.",
                owner(brief, "inside or line"),
                open_legs="The line and the network inside are not told apart: sampling the gateway beside calls "
                "would.",
            )
        else:
            cause = case.cause(
                "line-down",
                "unknown",
                f"Connection lost in {runs} {_runs(runs)}",
                says,
                (
                    "Line, network inside and far end are not told apart: whether the server could be reached at that "
                    "instant is not known.",
                ),
                "Compare the router’s log and the far end’s at these times.",
                owner(brief, "unknown"),
            )
        found.append(cause)
    return found


def silent(readings: list[Reading], calls: list[CallReading], brief: Brief) -> list[Cause]:
    """Calls that carried no sound: one way, some ports, or UDP altogether."""
    bad = [r for r in readings if r.trouble is Trouble.SILENT]
    if not bad:
        return []
    heard_in_run = {(r.fact.run_id, r.fact.direction) for r in readings if r.fact.received > 0}
    silent_ways: dict[int, set[str]] = {}
    for r in bad:
        silent_ways.setdefault(r.fact.call_id, set()).add(r.fact.direction)
    ports: list[Reading] = []
    everything: list[Reading] = []
    one_way: dict[Way, list[Reading]] = {}
    for r in bad:
        if (r.fact.run_id, r.fact.direction) in heard_in_run:
            ports.append(r)
        elif len(silent_ways[r.fact.call_id]) == len(DIRECTIONS):
            everything.append(r)
        else:
            one_way.setdefault(r.fact.direction, []).append(r)
    groups: list[tuple[CauseKey, Way, list[Reading]]] = [("one-way", way, of) for way, of in one_way.items()]
    if ports:
        groups.append(("port-blocked", way_of({r.fact.direction for r in ports}), ports))
    if everything:
        groups.append(("udp-blocked", "both", everything))
    return [_tell_silent(key, way, of, readings, calls, brief) for key, way, of in groups]


def _tell_silent(
    key: CauseKey, way: Way, bad: list[Reading], readings: list[Reading], calls: list[CallReading], brief: Brief
) -> Cause:
    same = [r for r in readings if way == "both" or r.fact.direction == way]
    case = Case(way, bad, same, readings, calls, brief)
    compared = case.compared()
    never = sum(r.fact.sent == 0 for r in bad)
    began = (
        f" In {never} of {len(bad)} silent directions sending never began, because the media port did not answer."
        if never
        else ""
    )
    says = [f"No audio arrived {in_words(way)} in {case.of}.{began}", *compared.says, when(bad)]
    who = firewall_owner(brief)
    if key == "port-blocked":
        return case.cause(
            key,
            compared.leg,
            f"Some media ports carry no audio ({WAY_WORDS[way]})",
            says,
            ("Not UDP altogether: other calls of the same runs carried audio in the same direction.",),
            "Allow the far end’s whole range of UDP media ports in the firewall, then place calls again.",
            who,
            dimensions=("reachability", "voice", "steadiness"),
        )
    if key == "udp-blocked":
        told = next((r.fact.reason for r in bad if r.fact.reason), "")
        if told:
            says.insert(1, f"It was reported: “{told}”")
        answered = "when they were asked for" if all(r.fact.reason for r in bad) else "on its control port (TCP)"
        return case.cause(
            key,
            compared.leg,
            "No audio in either direction",
            says,
            (f"The far end answered {answered} in these calls, so it was up and could be reached.",),
            "Allow UDP to and from the far end’s media ports in the firewall, then place calls again.",
            who,
            dimensions=("reachability", "voice", "steadiness"),
        )
    other = "download" if way == "up" else "upload"
    ids = {r.fact.call_id for r in bad}
    alive = len({r.fact.call_id for r in readings if r.fact.call_id in ids and r.fact.received > 0})
    return case.cause(
        "one-way",
        compared.leg,
        f"No audio in one direction: {WAY_WORDS[way]}",
        says,
        (f"Not a dead line: {other} audio arrived in {alive} of the same {len(ids)} calls.",),
        f"Allow UDP media {'towards' if way == 'up' else 'from'} the far end in every firewall on the path, "
        "including its state timeout, then place calls again.",
        who,
        dimensions=("reachability", "voice", "steadiness"),
    )


def _runs(count: int) -> str:
    return "run" if count == 1 else "runs"
