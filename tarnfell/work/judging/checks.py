"""Checks as they stand: judged by what has come back so far, and what is otherwise than at the check before."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import lru_cache
from typing import get_args

from tarnfell.core.check.judge import judge
from tarnfell.core.check.sip_calls import SipCallRecord, records_of
from tarnfell.core.check.values import Judged, Limits
from tarnfell.core.check.way import route_change
from tarnfell.store import checks as check_store
from tarnfell.store import jobs as job_store
from tarnfell.store.jobs import Job
from tarnfell.wire.kinds.check import CheckResult, Question
from tarnfell.wire.kinds.fields import read
from tarnfell.wire.kinds.signalling import SipMessage


@dataclass(frozen=True)
class Checked:
    job: Job
    judged: Judged | None
    """None before anything has come back."""
    asked: int
    """Questions that were answered, of ``QUESTIONS``."""
    signalling: tuple[SipMessage, ...]
    """With the far end."""
    registrar: tuple[SipMessage, ...]
    """With the customer's own."""
    sip_calls: tuple[SipCallRecord, ...]
    changed: tuple[str, ...]
    """What differs from the check before it by the same probe, a sentence each."""


@dataclass(frozen=True)
class DoneCheck:
    job: Job
    result: CheckResult
    judged: Judged


QUESTIONS = len(get_args(Question))
LOOKED_AT = 12


def checks_of(jobs: Sequence[Job], limits: Limits) -> list[Checked]:
    """``jobs`` are newest first, and so are these; judged by the limits that the site has now."""
    found: list[Checked] = []
    for place, job in enumerate(jobs):
        result, judged = _judged(job.result, limits) if job.result else (None, None)
        before = next((j for j in jobs[place + 1 :] if j.probe_id == job.probe_id and j.state == "done"), None)
        changed: tuple[str, ...] = ()
        if judged and result and before and before.result and job.state == "done":
            changed = _changed(result, judged, *_judged(before.result, limits))
        asked = len(result.took) if result else 0
        messages = result.signalling.messages if result and result.signalling else ()
        registrar = result.registrar.messages if result and result.registrar else ()
        calls = records_of(result) if result else ()
        found.append(Checked(job, judged, asked, messages, registrar, calls, changed))
    return found


def ladder_text(messages: Sequence[SipMessage], registrar: Sequence[SipMessage] = ()) -> str:
    """The messages as a text file: each as it was sent and, where that differs, as it arrived.

    Of those with a registrar only what the probe sent and got is known.
    """
    parts = [
        f"=== {one.at_ms:.1f} ms, {one.transport.upper()}, "
        f"{'probe → registrar' if one.way == 'up' else 'registrar → probe'}\n{one.sent or one.arrived}"
        for one in registrar
    ]
    for one in messages:
        ends = "probe → far end" if one.way == "up" else "far end → probe"
        parts.append(f"=== {one.at_ms:.1f} ms, {one.transport.upper()}, {ends}")
        if one.sent == one.arrived:
            parts.append(one.sent)
            continue
        parts += ["--- sent", one.sent or "(not told)", "--- arrived", one.arrived or "(never)"]
    return "\n".join(part.replace("\r\n", "\n").rstrip() + "\n" for part in parts)


def newest_done(db: sqlite3.Connection, site_id: int) -> DoneCheck | None:
    """The newest check of a site that came to its end; None where there is none among the newest."""
    for job in job_store.newest_of_kind(db, site_id, "check", LOOKED_AT):
        if job.state == "done" and job.result:
            return DoneCheck(job, *_judged(job.result, check_store.wish_of(db, site_id).limits))
    return None


def _judged(told: Mapping[str, object], limits: Limits) -> tuple[CheckResult, Judged]:
    """What came of a check, and how it is judged. A page of checks asks this of each of them at every look, and once
    more for the one after it; reading and judging one takes a hundredth of a second."""
    return _judged_before(json.dumps(told), limits)


@lru_cache(maxsize=64)
def _judged_before(told: str, limits: Limits) -> tuple[CheckResult, Judged]:
    result = read(CheckResult, json.loads(told))
    return result, judge(result, limits)


def _changed(result: CheckResult, now: Judged, earlier: CheckResult, before: Judged) -> tuple[str, ...]:
    were = {rung.key: rung.state for rung in before.rungs}
    words = [
        f"{rung.title}: {were[rung.key]} before, {rung.state} now."
        for rung in now.rungs
        if rung.key in were and were[rung.key] != rung.state
    ]
    same_way = result.path and earlier.path and result.path.address == earlier.path.address
    route = route_change(result.path, earlier.path) if result.path and earlier.path and same_way else None
    return (*words, route) if route else tuple(words)
