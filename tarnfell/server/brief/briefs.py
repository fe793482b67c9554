"""Briefs: writing a site down, the arithmetic of what is written, targets and their presets."""

from __future__ import annotations

import dataclasses
import sqlite3
from collections.abc import Mapping

from flask import Blueprint, g

from tarnfell.core.targets import BOUNDS, PRESETS
from tarnfell.core.video import video_profiles
from tarnfell.server.access import require_engagement, require_site
from tarnfell.server.brief.arithmetic import arithmetic_of
from tarnfell.server.brief.form import empty_form, form_of, site_values, targets_of, time_zones
from tarnfell.server.brief.models.brief import (
    Archive,
    Arithmetic,
    BriefForm,
    BriefPage,
    Duplicate,
    KeepPreset,
    Made,
    PresetList,
    PresetView,
    TargetsForm,
    VideoProfileView,
)
from tarnfell.server.brief.words import changes_between
from tarnfell.server.http.api import Problem, endpoint
from tarnfell.store import briefs as brief_store
from tarnfell.store import cells as cell_store
from tarnfell.store import engagements as engagement_store
from tarnfell.store import fills as fill_store
from tarnfell.store import runs as run_store
from tarnfell.store import sites as site_store
from tarnfell.store import survey as survey_store
from tarnfell.store.db import writing
from tarnfell.store.engagements import Engagement
from tarnfell.store.sites import Site

blueprint = Blueprint("brief", __name__)


@endpoint(blueprint, "GET", "/api/engagements/<slug>/brief", response=BriefPage)
def new_brief(slug: str) -> BriefPage:
    """An empty brief for one more site, and what it may hold."""
    return _page(require_engagement(slug), None)


@endpoint(blueprint, "GET", "/api/sites/<slug>/brief", response=BriefPage)
def show_brief(slug: str) -> BriefPage:
    """A site's brief, and what it may hold."""
    site = require_site(slug)
    return _page(engagement_store.engagement_by_id(g.db, site.engagement_id), site)


@endpoint(blueprint, "POST", "/api/engagements/<slug>/sites", response=Made)
def make_site(slug: str, body: BriefForm) -> Made:
    """Write a new site down."""
    engagement = require_engagement(slug)
    values = site_values(body)
    with writing(g.db):
        free_name(engagement.id, body.name)
        new = site_store.free_slug(g.db, "site", body.name)
        site_store.add_site(g.db, engagement.id, slug=new, **values)
    return Made(slug=new)


@endpoint(blueprint, "PUT", "/api/sites/<slug>/brief", response=Made)
def change_brief(slug: str, body: BriefForm) -> Made:
    """Change a site's brief; its address stays."""
    site = require_site(slug)
    values = site_values(body)
    with writing(g.db):
        free_name(site.engagement_id, body.name, site.id)
        rewrite_brief(g.db, site, values, g.user.id)
    return Made(slug=site.slug)


def free_name(engagement_id: int, name: str, but: int | None = None) -> None:
    """Raises Problem 422 for a name that another site of the engagement has: nobody could tell them apart."""
    for archived in (False, True):
        for other in site_store.sites_of(g.db, engagement_id, archived):
            if other.id != but and other.name.strip().lower() == name.strip().lower():
                which = "an archived site" if archived else "a site"
                raise Problem(422, f"There is already {which} called “{other.name}” in this engagement.")


def rewrite_brief(db: sqlite3.Connection, site: Site, values: Mapping[str, object], by: int | None) -> bool:
    """Whether anything was changed; what the brief said before is kept."""
    before = {name: getattr(site, name) for name in values}
    changes = changes_between(before, values)
    if not changes:
        return False
    site_store.change_site(db, site.id, **values)
    fill_store.judge_again(db, site.id)
    survey_store.judge_again(db, site.id)
    cell_store.read_again(db, site.id)
    brief_store.keep_change(db, site.id, changes, by)
    return True


@endpoint(blueprint, "POST", "/api/sites/<slug>/duplicate", response=Made)
def duplicate_site(slug: str, body: Duplicate) -> Made:
    """A new site with this one's brief: not its probes, not its evidence."""
    site = require_site(slug)
    values = site_values(form_of(site).model_copy(update={"name": body.name}))
    with writing(g.db):
        free_name(site.engagement_id, body.name)
        new = site_store.free_slug(g.db, "site", body.name)
        site_store.add_site(g.db, site.engagement_id, slug=new, **values)
    return Made(slug=new)


@endpoint(blueprint, "POST", "/api/sites/<slug>/archive", response=Made)
def archive_site(slug: str, body: Archive) -> Made:
    """Put a site away, or take it out again. Nothing of it is lost."""
    site = require_site(slug)
    if body.archived and run_store.open_runs(g.db, site.id):
        raise Problem(409, "A run is in progress at this site. Wait for it to end, or stop it, then archive the site.")
    with writing(g.db):
        site_store.archive_site(g.db, site.id, body.archived)
    return Made(slug=site.slug)


@endpoint(blueprint, "POST", "/api/arithmetic", response=Arithmetic)
def arithmetic(body: BriefForm) -> Arithmetic:
    """What a brief asks of its line, and what its evidence takes. Nothing is kept."""
    return arithmetic_of(body)


@endpoint(blueprint, "PUT", "/api/engagements/<slug>/presets", response=PresetList)
def keep_preset(slug: str, body: KeepPreset) -> PresetList:
    """Keep targets under a name, for all sites of this engagement."""
    engagement = require_engagement(slug)
    targets = targets_of(body.targets)
    if any(body.title.lower() == p.title.lower() for p in PRESETS):
        raise Problem(422, f"“{body.title}” comes with the program. Choose another name.")
    with writing(g.db):
        engagement_store.keep_preset(g.db, engagement.id, body.title, targets)
    return PresetList(presets=_presets(engagement))


@endpoint(blueprint, "DELETE", "/api/engagements/<slug>/presets/<int:preset_id>", response=PresetList)
def drop_preset(slug: str, preset_id: int) -> PresetList:
    """Forget a preset; sites that were set by it keep their targets."""
    engagement = require_engagement(slug)
    with writing(g.db):
        engagement_store.drop_preset(g.db, engagement.id, preset_id)
    return PresetList(presets=_presets(engagement))


def _page(engagement: Engagement, site: Site | None) -> BriefPage:
    return BriefPage(
        engagement_slug=engagement.slug,
        engagement_name=engagement.name,
        changes=[*(brief_store.changes_of(g.db, site.id) if site else [])],
        site_slug=site.slug if site else None,
        archived=bool(site and site.archived_us),
        form=form_of(site) if site else empty_form(),
        bounds=list(BOUNDS),
        presets=_presets(engagement),
        video_profiles=[VideoProfileView.model_validate(p) for p in video_profiles().values()],
        time_zones=sorted(time_zones()),
    )


def _presets(engagement: Engagement) -> list[PresetView]:
    ours = [
        PresetView(id=None, title=p.title, says=p.says, targets=TargetsForm(**dataclasses.asdict(p.targets)))
        for p in PRESETS
    ]
    own = [
        PresetView(id=p.id, title=p.title, says="", targets=TargetsForm(**dataclasses.asdict(p.targets)))
        for p in engagement_store.presets_of(g.db, engagement.id)
    ]
    return ours + own
