"""What calls can be made of: codecs with their values as an engagement judges them, and profiles of video."""

from __future__ import annotations

from flask import Blueprint, g

from tarnfell.core.codecs import Codec, CodecError, codec_table, find_codec, with_values
from tarnfell.core.emodel import mos_from_r, mos_wideband_from_r
from tarnfell.core.quality import criterion_for
from tarnfell.core.video import video_profiles
from tarnfell.server.access import require_engagement
from tarnfell.server.brief.models.brief import VideoProfileView
from tarnfell.server.brief.models.codecs import (
    CodecList,
    CodecQuery,
    CodecValues,
    CodecView,
    ValuesPage,
    ValueView,
)
from tarnfell.server.http.api import Problem, endpoint
from tarnfell.store import codecs as codec_store
from tarnfell.store.db import writing
from tarnfell.store.engagements import Engagement

blueprint = Blueprint("codecs", __name__)

SHOWN_LOSS_PCT = (0.0, 1.0, 3.0)
SHOWN_DELAY_MS = 100.0


@endpoint(blueprint, "GET", "/api/codecs", response=CodecList)
def list_codecs(query: CodecQuery) -> CodecList:
    """The codecs calls can be placed with, and the profiles of video beside them."""
    codecs = list(codec_table().values())
    if query.engagement:
        codecs = codec_store.codecs_of(g.db, require_engagement(query.engagement).id)
    return CodecList(
        codecs=[_view(codec) for codec in codecs],
        video_profiles=[VideoProfileView.model_validate(p) for p in video_profiles().values()],
    )


@endpoint(blueprint, "GET", "/api/engagements/<slug>/codecs", response=ValuesPage)
def show_values(slug: str) -> ValuesPage:
    """By which values an engagement judges each codec, and what they make of loss."""
    return _page(require_engagement(slug))


@endpoint(blueprint, "PUT", "/api/engagements/<slug>/codecs/<name>", response=ValuesPage)
def keep_values(slug: str, name: str, body: CodecValues) -> ValuesPage:
    """Put own values in place of planning values. Every run and imported stream of that codec is judged again."""
    engagement = require_engagement(slug)
    try:
        codec = with_values(find_codec(name), body.ie, body.bpl, body.why)
    except CodecError as error:
        raise Problem(422, str(error)) from None
    with writing(g.db):
        codec_store.keep_values(g.db, engagement.id, codec, codec.source, g.user.id)
    return _page(engagement)


@endpoint(blueprint, "DELETE", "/api/engagements/<slug>/codecs/<name>", response=ValuesPage)
def drop_values(slug: str, name: str) -> ValuesPage:
    """Back to the planning values; every run of that codec is judged again."""
    engagement = require_engagement(slug)
    with writing(g.db):
        codec_store.drop_values(g.db, engagement.id, name)
    return _page(engagement)


def _page(engagement: Engagement) -> ValuesPage:
    counts = codec_store.run_counts(g.db, engagement.id)
    table = codec_table()
    values = []
    for codec in codec_store.codecs_of(g.db, engagement.id):
        runs, stale = counts.get(codec.name, (0, 0))
        values.append(
            ValueView(
                name=codec.name,
                title=codec.title,
                band=codec.band,
                origin=codec.origin,
                ie=codec.ie,
                bpl=codec.bpl,
                source=codec.source,
                planning_ie=table[codec.name].ie,
                planning_bpl=table[codec.name].bpl,
                planning_source=table[codec.name].source,
                mos=[float(mos_from_r(_rating(codec, loss))) for loss in SHOWN_LOSS_PCT],
                mos_wide=[float(mos_wideband_from_r(_rating(codec, loss))) for loss in SHOWN_LOSS_PCT],
                runs=runs,
                stale=stale,
            )
        )
    return ValuesPage(
        engagement_slug=engagement.slug,
        engagement_name=engagement.name,
        loss_pct=list(SHOWN_LOSS_PCT),
        delay_ms=SHOWN_DELAY_MS,
        codecs=values,
    )


def _rating(codec: Codec, loss_pct: float) -> float:
    criterion = criterion_for(codec, codec.intervals_ms()[0])
    return float(criterion.rating(SHOWN_DELAY_MS, loss_pct, 1.0))


def _view(codec: Codec) -> CodecView:
    intervals = codec.intervals_ms()
    return CodecView(
        name=codec.name,
        title=codec.title,
        intervals_ms=intervals,
        payload_bytes=[codec.payload_bytes(p) for p in intervals],
        ie=codec.ie,
        bpl=codec.bpl,
        origin=codec.origin,
        source=codec.source,
    )
