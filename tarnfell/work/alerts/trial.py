"""A rule tried on the past week before anybody keeps it: how often it would have fired, and when."""

from __future__ import annotations

import sqlite3
from dataclasses import dataclass, fields, replace
from zoneinfo import ZoneInfo

from tarnfell.core.alerts.rules import OF_A_PLACE, Rule, sentence
from tarnfell.core.alerts.words import says
from tarnfell.core.days.baseline import USABLE_DAYS
from tarnfell.store import probes as probe_store
from tarnfell.store import sites as site_store
from tarnfell.store import watches as watch_store
from tarnfell.store.sites import Site
from tarnfell.work.alerts.evidence import at_site
from tarnfell.work.answers import Answers, Question
from tarnfell.work.watch.reading import kept_reading

WEEK_US = 7 * 86_400 * 1_000_000
SHOWN = 200


@dataclass(frozen=True)
class Fired:
    """``until_us`` None: it is on now."""

    site_name: str
    time_zone: str
    from_us: int
    until_us: int | None
    says: str


@dataclass(frozen=True)
class Trial:
    sentence: str
    from_us: int
    until_us: int
    count: int
    fired: list[Fired]
    """The newest first, and no more than can be looked at."""
    note: str
    """What the count does not tell; may be empty."""


SITES_AT_ONCE = 3
"""With a watch each takes about 15 ms."""
STEP_US = 600 * 1_000_000


@dataclass(frozen=True)
class TrialChoice(Rule):
    """A rule, and what it is tried on."""

    site_slug: str | None = None
    """None: all sites of the engagement."""
    until_us: int = 0


@dataclass(frozen=True)
class TrialAsked(Question[Trial]):
    """A rule to be tried on the sites of an engagement, or on one of them."""

    db: sqlite3.Connection
    engagement_id: int
    choice: TrialChoice
    sites: tuple[Site, ...]

    @property
    def number(self) -> int:
        return self.engagement_id

    @property
    def owner(self) -> dict[str, int]:
        return {"engagement_id": self.engagement_id}

    @property
    def depends_on(self) -> object:
        return [(site.id, site.name, site.time_zone) for site in self.sites]

    @property
    def is_long(self) -> bool:
        return len(self.sites) > SITES_AT_ONCE

    def answer(self) -> Trial:
        rule = Rule(**{one.name: getattr(self.choice, one.name) for one in fields(Rule)})
        return try_on(self.db, rule, list(self.sites), self.choice.until_us)


def trial_of(db: sqlite3.Connection, engagement_id: int, rule: Rule, site_slug: str | None, at_us: int) -> TrialAsked:
    """A trial on the week up to now; a long one up to the last ten minutes, so that it is the same when it is made."""
    asked = _found(db, engagement_id, TrialChoice(**vars(rule), site_slug=site_slug, until_us=at_us))
    if not asked.is_long:
        return asked
    return replace(asked, choice=replace(asked.choice, until_us=at_us // STEP_US * STEP_US))


def _found(db: sqlite3.Connection, engagement_id: int, choice: TrialChoice) -> TrialAsked:
    sites = site_store.sites_of(db, engagement_id)
    own = tuple(site for site in sites if choice.site_slug in (None, site.slug))
    return TrialAsked(db, engagement_id, choice, own)


TRIALS = Answers("trial of a rule", Trial, TrialChoice, _found)


def try_on(db: sqlite3.Connection, rule: Rule, sites: list[Site], until_us: int) -> Trial:
    """On what is known by now of the week before."""
    from_us = until_us - WEEK_US
    fired = [
        Fired(
            site.name,
            site.time_zone,
            spell.from_us,
            spell.until_us,
            says(rule, spell, seen.name, ZoneInfo(site.time_zone)),
        )
        for site in sites
        for seen in at_site(db, rule, site, from_us, until_us)
        for spell in seen.spells
        if spell.until_us is None or spell.until_us >= from_us
    ]
    fired.sort(key=lambda one: one.from_us, reverse=True)
    return Trial(sentence(rule), from_us, until_us, len(fired), fired[:SHOWN], _note(db, rule, sites))


def _note(db: sqlite3.Connection, rule: Rule, sites: list[Site]) -> str:
    if rule.kind == "offline":
        return "Absences are kept from the first start of this version on; those before are not counted."
    if rule.kind != "no-samples" and rule.kind not in OF_A_PLACE:
        return ""
    watches = [
        (site, watch)
        for site in sites
        for probe in probe_store.probes_of(db, site.id)
        if (watch := watch_store.watch_of(db, probe.id)) is not None
    ]
    if not watches:
        return "No site is watched yet: there was nothing to try it on."
    if rule.kind != "above-normal":
        return ""
    forming = []
    for site, watch in watches:
        reading = kept_reading(db, watch.id)
        if reading is None or all(place.forming for place in reading.places):
            forming.append(site.name)
    if not forming:
        return ""
    return f"Normal is not known yet at {', '.join(sorted(set(forming)))}: it takes {USABLE_DAYS} days."
