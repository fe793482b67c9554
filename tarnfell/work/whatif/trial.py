"""One change tried on all evidence of a site, and what its answer cannot know."""

from __future__ import annotations

import json
import logging
import sqlite3
from collections.abc import Sequence
from dataclasses import asdict, dataclass, replace

from pydantic import TypeAdapter

from tarnfell.core.causes import DIRECTIONS, Direction
from tarnfell.core.codecs import find_codec
from tarnfell.core.verdict.decisions import decided
from tarnfell.core.verdict.facts import CallFact
from tarnfell.core.verdict.moments import Moment, Share, Watched
from tarnfell.core.verdict.requirements import Requirement
from tarnfell.core.verdict.score import Word
from tarnfell.core.verdict.site import Evaluation, evaluate_site
from tarnfell.core.verdict.told import Told
from tarnfell.core.whatif.change import Change, changed_fields
from tarnfell.store import decisions as decision_store
from tarnfell.store import sites as site_store
from tarnfell.store import what_if as store
from tarnfell.store.db import writing
from tarnfell.store.sites import Site
from tarnfell.store.what_if import MAX_TRIES
from tarnfell.work.evidence.evaluations import EVALUATIONS
from tarnfell.work.evidence.facts import Facts, facts_of
from tarnfell.work.whatif.pictures import replayed_video
from tarnfell.work.whatif.replay import in_period, replayed
from tarnfell.work.whatif.words import cautions

log = logging.getLogger(__name__)


@dataclass(frozen=True)
class TriedOutcome:
    """How a site would stand."""

    word: Word
    provisional: bool
    low: int
    high: int
    share: Share
    required_share_pct: float
    sustained: int | None
    requirements: tuple[Requirement, ...]
    causes: tuple[str, ...]


@dataclass(frozen=True)
class Result:
    measured: TriedOutcome
    at_least: TriedOutcome
    at_best: TriedOutcome
    """The same as at least where the change leaves nothing open."""
    cautions: tuple[str, ...]


RESULT = TypeAdapter(Result)
CHANGE = TypeAdapter(Change)


def to_text(change: Change) -> str:
    return json.dumps(changed_fields(change), sort_keys=True)


def mark_now(db: sqlite3.Connection, site: Site) -> str:
    """Of the evidence and the brief as they are."""
    return EVALUATIONS.mark(db, site)


def try_next(db: sqlite3.Connection) -> bool:
    """Try the change that has waited longest. Whether there was one.

    Raises what goes wrong with this machine and not with the change, which is put off.
    """
    one = store.next_open(db)
    if one is None:
        return False
    with writing(db):
        store.note_try(db, one)
    if one.tries >= MAX_TRIES:
        with writing(db):
            store.fail(db, one)
        return True
    site = site_store.site_by_id(db, one.site_id)
    try:
        mark = mark_now(db, site)
        result = tried(db, site, CHANGE.validate_json(one.change))
    except (OSError, sqlite3.Error):
        with writing(db):
            store.put_off(db, one)
        raise
    except Exception:  # one record that cannot be read must not hold up what others ask
        log.exception("what if %s of %s", one.change, site.slug)
        with writing(db):
            store.fail(db, one)
        return True
    with writing(db):
        store.finish(db, one, mark, RESULT.dump_json(result).decode())
    return True


def tried(db: sqlite3.Connection, site: Site, change: Change) -> Result:
    """Whatever time it takes."""
    other = changed_site(site, change)
    now, then = facts_of(db, site), facts_of(db, other)
    measured = _judged(db, site, now, now.calls)
    then = _in_period(then, change)
    found = replayed(db, other, change, then.calls, measured.causes)
    pictures = replayed_video(db, other, change, then.video, measured.causes)
    calm = _without_mended(then, change)
    at_least = outcome_of(_judged(db, other, replace(calm, video=pictures.at_least), found.at_least))
    at_best = at_least
    if found.at_best != found.at_least or pictures.at_best != pictures.at_least:
        at_best = outcome_of(_judged(db, other, replace(calm, video=pictures.at_best), found.at_best))
    return Result(
        measured=outcome_of(measured),
        at_least=at_least,
        at_best=at_best,
        cautions=tuple(cautions(site, other, change, found, pictures, then)),
    )


def changed_site(site: Site, change: Change) -> Site:
    """With the brief that is asked about."""
    chosen = {
        name: value
        for name, value in asdict(change).items()
        if value is not None
        and name
        in ("codec", "target_mos", "required_share_pct", "needed_calls", "open_minute", "close_minute", "open_days")
    }
    if change.codec is not None:
        codec = find_codec(change.codec)
        # The rate on the line is that of whole frames; packets stay as they were recorded.
        chosen["ptime_ms"] = -(-site.ptime_ms // codec.frame_ms) * codec.frame_ms
    return replace(
        site,
        **chosen,
        up_kbps=round(site.up_kbps * change.line_up) if site.up_kbps else site.up_kbps,
        down_kbps=round(site.down_kbps * change.line_down) if site.down_kbps else site.down_kbps,
    )


def _in_period(facts: Facts, change: Change) -> Facts:
    def of(days: Sequence[str]) -> list[bool]:
        return in_period(change, days)

    def among(moments: frozenset[Moment]) -> frozenset[Moment]:
        listed = list(moments)
        return frozenset(m for m, counts in zip(listed, of([day for day, _ in listed]), strict=True) if counts)

    return replace(
        facts,
        calls=[one for one, counts in zip(facts.calls, of([c.day for c in facts.calls]), strict=True) if counts],
        video=[one for one, counts in zip(facts.video, of([v.day for v in facts.video]), strict=True) if counts],
        fills=[one for one, counts in zip(facts.fills, of([f.day for f in facts.fills]), strict=True) if counts],
        watches=[Watched(among(one.moments), among(one.troubled)) for one in facts.watches],
    )


def _without_mended(facts: Facts, change: Change) -> Facts:
    """Without what told of queues that would be gone: a watch's findings, and lines that were filled."""
    mended = [one for one in facts.told if _is_mended(one, change)]
    well = frozenset[Moment]().union(*(one.moments for one in mended))
    return replace(
        facts,
        told=[one for one in facts.told if one not in mended],
        watches=[replace(one, troubled=one.troubled - well) for one in facts.watches],
        fills=[one for one in facts.fills if not change.mends_line(one.direction)],
    )


def _is_mended(told: Told, change: Change) -> bool:
    if told.leg == "inside":
        return told.key == "inside-congested" and change.first_inside
    ways: tuple[Direction, ...] = ("up",) if told.direction == "up" else ("down",)
    if told.direction == "both":
        ways = DIRECTIONS
    queues = told.key in ("uplink-queue", "downlink-queue", "delay-swings")
    return told.leg == "line" and queues and all(change.mends_line(way) for way in ways)


def _judged(db: sqlite3.Connection, site: Site, facts: Facts, calls: Sequence[CallFact]) -> Evaluation:
    evaluation = evaluate_site(calls, site.brief, facts.video, facts.aside, facts.fills, facts.told, facts.watches)
    return decided(evaluation, decision_store.decisions_of(db, site.id)).evaluation


def outcome_of(evaluation: Evaluation) -> TriedOutcome:
    verdict = evaluation.verdict
    return TriedOutcome(
        word=verdict.word,
        provisional=verdict.provisional,
        low=verdict.low,
        high=verdict.high,
        share=verdict.share,
        required_share_pct=evaluation.brief.required_share_pct,
        sustained=verdict.capacity.sustained,
        requirements=verdict.requirements,
        causes=tuple(cause.title for cause in evaluation.faults),
    )
