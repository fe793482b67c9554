"""A check judged: each rung passed, failed or unproven, the causes that follow, and what looks like one and is none.

A rung fails only by what was seen to fail. What did not answer, while all beyond it did, proves nothing against it.
"""

from __future__ import annotations

from dataclasses import replace
from typing import get_args

from tarnfell.core.check.asked import names, services
from tarnfell.core.check.behind import translation
from tarnfell.core.check.case import Case
from tarnfell.core.check.far import far_end, marking
from tarnfell.core.check.near import edge, gateway, outside, own_stack
from tarnfell.core.check.signalling import signalling
from tarnfell.core.check.values import USUAL, Judged, Limits, RungKey
from tarnfell.core.check.way import packet_size, path
from tarnfell.wire.kinds.check import CheckResult, Question

JUDGED = (
    own_stack,
    gateway,
    edge,
    outside,
    names,
    path,
    packet_size,
    services,
    far_end,
    signalling,
    translation,
    marking,
)
"""What explains another rung's trouble goes before it: a hole for large packets stalls services."""
RESTS_ON: dict[RungKey, Question] = {
    "gateway": "echoes",
    "edge": "echoes",
    "outside": "echoes",
    "names": "names",
    "services": "services",
    "path": "path",
    "packet-size": "large-echoes",
    "far-end": "far-end",
    "marking": "far-end",
    "translation": "translation",
    "signalling": "signalling",
}
"""By what question a rung is answered; the machine's own addresses are read and not asked for."""


def judge(result: CheckResult, limits: Limits = USUAL) -> Judged:
    """From the machine itself outwards."""
    case = Case(result, limits)
    took = {one.question: one.ms for one in result.took}
    rungs = {rung.key: rung for rung in (rung(case) for rung in JUDGED)}
    for key, question in RESTS_ON.items():
        rungs[key] = replace(rungs[key], took_ms=took.get(question))
    return Judged(tuple(rungs[key] for key in get_args(RungKey)), tuple(case.causes), tuple(case.not_faults))
