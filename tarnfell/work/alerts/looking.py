"""Each spell of a rule becomes one alert, told once when it begins and once when it is over.

Samples may come late, in any order, or twice; a look again at what has been looked at changes nothing. What was told is
not taken back: an alert that late samples speak against stays as it was told.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Collection, Iterable
from dataclasses import replace
from zoneinfo import ZoneInfo

from tarnfell.core.alerts.rules import FOR_MINUTES, KINDS, OF_A_PLACE, Kind
from tarnfell.core.alerts.spells import MINUTE_US, Spell
from tarnfell.core.alerts.words import says
from tarnfell.core.days.local import local_time
from tarnfell.store import alerts as alert_store
from tarnfell.store import cells as cell_store
from tarnfell.store import checks as check_store
from tarnfell.store import jobs as job_store
from tarnfell.store import outbox, presence, targets
from tarnfell.store import probes as probe_store
from tarnfell.store import sites as site_store
from tarnfell.store import watches as watch_store
from tarnfell.store.alerts import Alert, Changed, KeptRule, RuleSpec
from tarnfell.store.db import now_us, writing
from tarnfell.store.outbox import Channel, What
from tarnfell.store.sites import Site
from tarnfell.wire.kinds.fields import plain
from tarnfell.work.alerts.evidence import Seen, at_site, place_subject
from tarnfell.work.placing.presence import is_online

OFTEN: tuple[Kind, ...] = FOR_MINUTES
SELDOM: tuple[Kind, ...] = tuple(kind for kind in KINDS if kind not in OFTEN)
"""Kinds of which nothing is new within seconds: runs and planned loads are minutes apart."""
LOOK_BACK_US = 2 * 86_400 * 1_000_000
"""How far before what is new the beginning of an alert is looked for."""
FIRST_LOOK_US = 86_400 * 1_000_000
"""How far back a rule that is new looks, for the beginning of what is on already."""
COLLECT_AGAIN_US = 3_600 * 1_000_000


def look(db: sqlite3.Connection, kinds: Collection[Kind] = KINDS, back_us: int = LOOK_BACK_US) -> None:
    """Hold what is new against the rules at work; of what is no sample, what is not older than ``back_us``."""
    with writing(db):
        presence.note_up(db)
    changed = alert_store.changed_watches(db)
    by_site: dict[int, list[Changed]] = {}
    for one in changed:
        by_site.setdefault(one.site_id, []).append(one)
    for rule in (one for one in alert_store.rules_at_work(db) if one.spec.rule.kind in kinds):
        for site in sites_of(db, rule):
            _look_at(db, rule, site, by_site.get(site.id, []), back_us)
    if changed and set(OF_A_PLACE) <= set(kinds):
        with writing(db):
            for one in changed:
                alert_store.note_looked(db, one)


def sites_of(db: sqlite3.Connection, rule: KeptRule) -> list[Site]:
    """Those it is about, without those that are archived."""
    found = site_store.sites_of(db, rule.engagement_id)
    return [site for site in found if rule.spec.site_id in (None, site.id)]


def _look_at(db: sqlite3.Connection, kept: KeptRule, site: Site, changed: list[Changed], back_us: int) -> None:
    rule, at_us = kept.spec.rule, now_us()
    new_us = at_us - back_us
    if rule.kind in OF_A_PLACE:
        _end_unwatched(db, kept, site)
        if not changed:
            return
        new_us = min(one.from_us for one in changed) - 2 * rule.minutes * MINUTE_US
    before = alert_store.alerts_since(db, kept.id, site.id, new_us)
    # An alert that is open has its figures from its beginning on, unless that is long ago.
    from_us = max(new_us - LOOK_BACK_US, min([new_us, *(one.began_us for one in before)]))
    watch_ids = {one.watch_id for one in changed} if rule.kind in OF_A_PLACE else None
    opened = [one for one in before if one.ended_us is None]
    on = {one.subject for one in opened if rule.kind not in OF_A_PLACE or one.began_us < from_us}
    subjects = set()
    for seen in at_site(db, rule, site, from_us, at_us, watch_ids, past=False, on=on):
        subjects.add(seen.subject)
        own = [one for one in before if one.subject == seen.subject]
        _settle(db, kept, site, seen, own, from_us, new_us)
    if rule.kind not in OF_A_PLACE:
        _end_all(db, kept, [one for one in before if one.subject not in subjects])  # a probe that was retired


def _end_unwatched(db: sqlite3.Connection, kept: KeptRule, site: Site) -> None:
    """Nobody looks any more at what they are about."""
    opened = [one for one in alert_store.alerts_since(db, kept.id, site.id, now_us()) if one.ended_us is None]
    if opened:
        watched = {
            place_subject(watch.id, place.number)
            for probe in probe_store.probes_of(db, site.id)
            if (watch := watch_store.watch_of(db, probe.id)) is not None and watch.wanted
            for place in cell_store.places_of(db, watch.id)
        }
        _end_all(db, kept, [one for one in opened if one.subject not in watched])


def _end_all(db: sqlite3.Connection, kept: KeptRule, alerts: Iterable[Alert]) -> None:
    for alert in alerts:
        if alert.ended_us is None:
            with writing(db):
                _end(db, kept, alert, now_us(), alert.says)


def _settle(
    db: sqlite3.Connection, kept: KeptRule, site: Site, seen: Seen, before: list[Alert], from_us: int, new_us: int
) -> None:
    zone = ZoneInfo(site.time_zone)
    known: set[int] = set()
    before = list(before)
    for spell in seen.spells:
        own = [one for one in before if _overlap(one, spell)]
        is_open = [one for one in own if one.ended_us is None]
        if spell.until_us is not None and spell.until_us < new_us and not is_open:
            continue  # older than what is new
        known |= {one.id for one in own}
        words = says(kept.spec.rule, spell, seen.name, zone)
        if is_open:
            one = is_open[0]
            _go_on(db, kept, one, spell, words if one.began_us >= from_us else one.says)
            before[before.index(one)] = replace(one, ended_us=spell.until_us)  # the next spell is another alert
        elif own and spell.until_us is None:
            # Its all-clear was told, and late samples say that it went on.
            later = replace(spell, from_us=max(one.ended_us or 0 for one in own))
            _begin(db, kept, site, seen, later, says(kept.spec.rule, later, seen.name, zone))
        elif not own and (spell.until_us is None or spell.until_us > kept.made_us):
            _begin(db, kept, site, seen, spell, words)
    _end_all(db, kept, [one for one in before if one.id not in known])


def _overlap(alert: Alert, spell: Spell) -> bool:
    if alert.began_us == spell.from_us:
        return True
    ends_after = spell.until_us is None or alert.began_us < spell.until_us
    return ends_after and (alert.ended_us is None or alert.ended_us > spell.from_us)


def _begin(db: sqlite3.Connection, kept: KeptRule, site: Site, seen: Seen, spell: Spell, words: str) -> None:
    with writing(db):
        alert_id = alert_store.add_alert(db, kept.id, site.id, seen.subject, spell.from_us, spell.until_us, words)
        _tell(db, kept, site, alert_id, "begun")
        if kept.spec.collect and spell.until_us is None and seen.probe_id is not None:
            _collect(db, site, seen.probe_id)


def _go_on(db: sqlite3.Connection, kept: KeptRule, alert: Alert, spell: Spell, words: str) -> None:
    if (alert.ended_us, alert.says) == (spell.until_us, words):
        return
    with writing(db):
        if spell.until_us is not None:
            _end(db, kept, alert, spell.until_us, words)
        else:
            alert_store.change_alert(db, alert.id, None, words)


def _end(db: sqlite3.Connection, kept: KeptRule, alert: Alert, ended_us: int, words: str) -> None:
    alert_store.change_alert(db, alert.id, max(ended_us, alert.began_us), words)
    _tell(db, kept, site_store.site_by_id(db, alert.site_id), alert.id, "ended")


def _tell(db: sqlite3.Connection, kept: KeptRule, site: Site, alert_id: int, what: What) -> None:
    """To whom the engagement's alerts go at this moment."""
    to, due_us = targets.targets_of(db, kept.engagement_id), due_after_quiet(kept.spec, site, now_us())
    channels: list[Channel] = []
    if kept.spec.mail and to.addresses:
        channels.append("mail")
    if kept.spec.webhook and to.webhook_url:
        channels.append("webhook")
    for channel in channels:
        outbox.add(db, kept.engagement_id, alert_id, what, channel, due_us)


def due_after_quiet(spec: RuleSpec, site: Site, at_us: int) -> int:
    """When a message may go: now, or at the end of the quiet hours that it is in, by the site's clock."""
    if spec.quiet_from is None or spec.quiet_until is None or spec.quiet_from == spec.quiet_until:
        return at_us
    here = local_time(at_us, ZoneInfo(site.time_zone))
    minute = here.hour * 60 + here.minute
    into, length = (minute - spec.quiet_from) % 1440, (spec.quiet_until - spec.quiet_from) % 1440
    if into >= length:
        return at_us
    return at_us + (length - into) * MINUTE_US - here.second * 1_000_000 - here.microsecond


def _collect(db: sqlite3.Connection, site: Site, probe_id: int) -> None:
    """Have the probe check its network now, unless it does, or did a short while ago."""
    probe, watch = probe_store.probe_by_id(db, probe_id), watch_store.watch_of(db, probe_id)
    newest = job_store.newest_of_kind(db, site.id, "check", 1)
    recent = newest and newest[0].created_us > now_us() - COLLECT_AGAIN_US
    if watch is None or recent or not is_online(probe):
        return
    job_store.ask(db, site.id, probe_id, "check", None, plain(check_store.Asked(watch.far_end_id)))
