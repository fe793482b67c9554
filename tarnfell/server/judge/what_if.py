"""What if: a change asked of a site's evidence, tried by the clerk."""

from __future__ import annotations

from flask import Blueprint, g
from pydantic import ValidationError

from tarnfell.core.codecs import CodecError, find_codec
from tarnfell.core.playout import DEFAULT_BUFFER_MS
from tarnfell.core.whatif.change import Change, ChangeError, check_change
from tarnfell.server.access import require_site
from tarnfell.server.http.api import Problem, endpoint
from tarnfell.server.judge.models.what_if import CodecChoice, WhatIfForm, WhatIfPage, WhatIfView
from tarnfell.store import codecs as codec_store
from tarnfell.store import engagements as engagement_store
from tarnfell.store import what_if as what_if_store
from tarnfell.store.db import writing
from tarnfell.store.sites import Site
from tarnfell.store.what_if import WhatIf
from tarnfell.work.evidence.evaluations import evaluate
from tarnfell.work.whatif.trial import CHANGE, RESULT, Result, mark_now, outcome_of, to_text
from tarnfell.work.whatif.words import in_words

blueprint = Blueprint("what_if", __name__)


@endpoint(blueprint, "GET", "/api/sites/<slug>/what-if", response=WhatIfPage)
def show_what_if(slug: str) -> WhatIfPage:
    """What was asked of a site's evidence, beside what was measured."""
    return _page(require_site(slug))


@endpoint(blueprint, "POST", "/api/sites/<slug>/what-if", response=WhatIfPage)
def ask_what_if(slug: str, body: WhatIfForm) -> WhatIfPage:
    """Ask what a change would make of the site's evidence. The clerk tries it; nothing else changes."""
    site = require_site(slug)
    change = _change(site, body)
    try:
        check_change(change, site.up_kbps, site.down_kbps)
    except ChangeError as error:
        raise Problem(422, str(error)) from None
    with writing(g.db):
        what_if_store.ask(g.db, site.id, to_text(change), g.user.id)
    return _page(site)


@endpoint(blueprint, "DELETE", "/api/sites/<slug>/what-if/<int:what_if_id>", response=WhatIfPage)
def remove_what_if(slug: str, what_if_id: int) -> WhatIfPage:
    """Remove a what-if."""
    site = require_site(slug)
    with writing(g.db):
        if not what_if_store.remove(g.db, site.id, what_if_id):
            raise Problem(404, f"{site.name} has no what-if {what_if_id}.")
    return _page(site)


def _change(site: Site, body: WhatIfForm) -> Change:
    """What is asked as the brief already has it is no change."""
    values = body.model_dump()
    for name in (
        "codec", "target_mos", "required_share_pct", "needed_calls", "open_minute", "close_minute", "open_days",
    ):  # fmt: skip
        if values[name] == getattr(site, name):
            values[name] = None
    if values["codec"] is not None:
        try:
            find_codec(values["codec"])
        except CodecError as error:
            raise Problem(422, str(error)) from None
    return Change(**values)


def _page(site: Site) -> WhatIfPage:
    engagement = engagement_store.engagement_by_id(g.db, site.engagement_id)
    evaluation = evaluate(g.db, site).evaluation
    days = [day.day for day in evaluation.sheet]
    mark = mark_now(g.db, site)
    return WhatIfPage(
        site_name=site.name,
        engagement_slug=engagement.slug,
        engagement_name=engagement.name,
        time_zone=site.time_zone,
        codec=site.codec,
        codecs=[CodecChoice(name=one.name, title=one.title) for one in codec_store.codecs_of(g.db, site.engagement_id)],
        buffer_ms=DEFAULT_BUFFER_MS,
        up_kbps=site.up_kbps,
        down_kbps=site.down_kbps,
        target_mos=site.target_mos,
        required_share_pct=site.required_share_pct,
        needed_calls=site.needed_calls,
        open_minute=site.open_minute,
        close_minute=site.close_minute,
        open_days=site.open_days,
        first_day=min(days, default=None),
        last_day=max(days, default=None),
        measured=outcome_of(evaluation),
        tried=[_tried(site, one, mark) for one in what_if_store.of_site(g.db, site.id)],
    )


def _tried(site: Site, one: WhatIf, mark: str) -> WhatIfView:
    result = _read(one)
    return WhatIfView(
        id=one.id,
        says=in_words(CHANGE.validate_json(one.change), site),
        state=one.state,
        behind=one.state == "ready" and (one.mark != mark or result is None),
        measured=result.measured if result else None,
        at_least=result.at_least if result else None,
        at_best=result.at_best if result and result.at_best != result.at_least else None,
        cautions=list(result.cautions) if result else [],
    )


def _read(one: WhatIf) -> Result | None:
    """None also of one that another version kept in another form."""
    try:
        return RESULT.validate_json(one.result) if one.result else None
    except ValidationError:
        return None
