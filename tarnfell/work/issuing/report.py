"""A site's report as its records are now."""

from __future__ import annotations

import hashlib
import sqlite3
from collections.abc import Sequence
from datetime import UTC, datetime
from zoneinfo import ZoneInfo

from tarnfell.core.causes import LEG_WORDS
from tarnfell.core.days.depths import PathDepth
from tarnfell.core.rates import call_rate
from tarnfell.report.brand import Brand
from tarnfell.report.build import (
    BEHIND,
    SOUND_AWAITED,
    Added,
    BriefChanged,
    Noted,
    Recording,
    Report,
    SiteFacts,
    build_report,
)
from tarnfell.report.measured import Measured
from tarnfell.store import brands as brand_store
from tarnfell.store import briefs as brief_store
from tarnfell.store import decisions as decision_store
from tarnfell.store import engagements as engagement_store
from tarnfell.store import issued as issued_store
from tarnfell.store import notes as note_store
from tarnfell.store import own_causes as own_cause_store
from tarnfell.store import places as place_store
from tarnfell.store import watches as watch_store
from tarnfell.store.codecs import codec_of_site
from tarnfell.store.db import now_us
from tarnfell.store.sites import Site
from tarnfell.work.evidence.evaluations import Evaluated, evaluate, evaluate_to_date
from tarnfell.work.issuing.measured import MEASURED
from tarnfell.work.issuing.recording import recording_lately, recording_of
from tarnfell.work.judging.site_words import business_hours, measured_from
from tarnfell.work.watch.reading import kept_legs


def report_of(db: sqlite3.Connection, site: Site) -> Report:
    """The report as the evidence is now or lately was: one that is behind says so."""
    evaluated, (measured, behind) = evaluate(db, site), MEASURED.lately(db, site)
    recording, awaited = recording_lately(db, site)
    says = [BEHIND] if evaluated.behind or behind else []
    return _report(db, site, evaluated, measured, recording, [*says, SOUND_AWAITED] if awaited else says)


def report_to_date(db: sqlite3.Connection, site: Site) -> Report:
    """As the evidence is now, whatever time it takes."""
    return _report(db, site, evaluate_to_date(db, site), MEASURED.now(db, site), recording_of(db, site))


def report_is_behind(db: sqlite3.Connection, site: Site) -> bool:
    """Whether evidence or the brief has changed and the clerk has yet to follow."""
    return evaluate(db, site).behind or MEASURED.lately(db, site)[1]


def _report(
    db: sqlite3.Connection,
    site: Site,
    evaluated: Evaluated,
    measured: Measured,
    recording: Recording | None,
    behind: Sequence[str] = (),
) -> Report:
    draft = issued_store.draft_of(db, site.id)
    return build_report(
        _site_facts(db, site),
        evaluated.evaluation,
        now_us(),
        _brief_changes(db, site),
        behind=behind,
        written=[line for line in draft.summary.splitlines() if line.strip()],
        note=draft.note,
        path=watched_path(db, site),
        dismissed=evaluated.dismissed,
        noted=_noted(db, site),
        added=_added(db, site),
        paper=engagement_store.engagement_by_id(db, site.engagement_id).paper,
        brand=brand_of(db, site.engagement_id),
        recording=recording,
        measured=measured,
    )


def brand_of(db: sqlite3.Connection, engagement_id: int) -> Brand:
    kept = brand_store.brand_of(db, engagement_id)
    return Brand(kept.name, kept.contact, kept.colour, kept.logo, kept.locale)


def watched_path(db: sqlite3.Connection, site: Site) -> PathDepth | None:
    """As the probe with most samples in business hours has it."""
    watches = watch_store.watches_of(db, site.id)
    told = [one for watch in watches if (one := kept_legs(db, watch.probe_id)) is not None]
    return max(told, key=lambda one: (one.in_business_hours, one.moments), default=None)


def report_mark(db: sqlite3.Connection, site: Site) -> str:
    """Differs whenever the report would say something else."""
    written = issued_store.draft_of(db, site.id), watched_path(db, site), decision_store.decisions_of(db, site.id)
    paper = engagement_store.engagement_by_id(db, site.engagement_id).paper
    brand = brand_of(db, site.engagement_id)
    parts = (
        MEASURED.mark(db, site),
        _site_facts(db, site),
        _brief_changes(db, site),
        written,
        _noted(db, site),
        paper,
        brand,
        _added(db, site),
    )
    return hashlib.sha256(repr(parts).encode()).hexdigest()


def _added(db: sqlite3.Connection, site: Site) -> list[Added]:
    return [
        Added(one.title, one.says, one.remedy, one.who, one.by) for one in own_cause_store.own_causes_of(db, site.id)
    ]


def _noted(db: sqlite3.Connection, site: Site) -> list[Noted]:
    """In site time, those that are to stand in the report."""
    zone = ZoneInfo(site.time_zone)
    return [
        Noted(
            span_words(one.from_us, one.until_us, zone),
            f"call {one.call_number} of run {one.run_id}"
            if one.call_id is not None
            else LEG_WORDS[one.leg]
            if one.leg
            else "",
            one.words,
            one.by,
        )
        for one in note_store.notes_of(db, site.id)
        if one.in_report
    ]


def span_words(from_us: int, until_us: int, zone: ZoneInfo) -> str:
    """Day and time of a stretch of time, no finer than it needs."""
    begins, ends = (datetime.fromtimestamp(us / 1e6, UTC).astimezone(zone) for us in (from_us, until_us))
    if until_us - from_us < 60_000_000:
        return f"{begins:%d %B %Y, %H:%M:%S}"
    if begins.date() == ends.date():
        return f"{begins:%d %B %Y, %H:%M} to {ends:%H:%M}"
    return f"{begins:%d %B %Y, %H:%M} to {ends:%d %B %Y, %H:%M}"


def _site_facts(db: sqlite3.Connection, site: Site) -> SiteFacts:
    far_ends = place_store.far_ends_of(db, site.id)
    codec = codec_of_site(db, site.id, site.codec)
    return SiteFacts(
        engagement=engagement_store.engagement_by_id(db, site.engagement_id).name,
        name=site.name,
        place=site.place,
        time_zone=site.time_zone,
        business_hours=business_hours(site),
        open_minute=site.open_minute,
        close_minute=site.close_minute,
        open_days=site.open_days,
        medium=site.medium,
        down_kbps=site.down_kbps,
        up_kbps=site.up_kbps,
        provider=site.provider,
        test_point=measured_from(db, site),
        far_end=far_ends[0].name if far_ends else "",
        codec=codec,
        ptime_ms=site.ptime_ms,
        rate=call_rate(codec, site.ptime_ms, site.link),
    )


def _brief_changes(db: sqlite3.Connection, site: Site) -> list[BriefChanged]:
    zone = ZoneInfo(site.time_zone)
    return [
        BriefChanged(
            f"{datetime.fromtimestamp(change.at_us / 1e6, UTC).astimezone(zone):%d %B %Y, %H:%M}",
            change.by,
            "; ".join(f"{one.what} from {one.before} to {one.after}" for one in change.changes),
        )
        for change in brief_store.changes_of(db, site.id)
    ]
