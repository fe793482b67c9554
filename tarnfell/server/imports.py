"""Evidence made elsewhere, brought to a site: the streams of a capture, the samples of an echo log."""

from __future__ import annotations

import hashlib
import io
from typing import Any

import numpy as np
from flask import Blueprint, g, request

from tarnfell.core.codecs import CodecError, find_codec
from tarnfell.core.quality import MOS_SCALE, criterion_for, judge, judge_seconds
from tarnfell.exchange.capture import find_streams
from tarnfell.exchange.echolog import CAUTION, EchoLog, EchoLogError, parse_echo_log
from tarnfell.exchange.foreign import DELAY_UNKNOWN, UNKNOWN_CODEC, foreign_fields
from tarnfell.exchange.records import CAPTURE_MAGICS, CaptureError
from tarnfell.exchange.streams import FoundStream
from tarnfell.server.api import Problem, endpoint
from tarnfell.server.models.imports import (
    EchoView,
    ImportedStream,
    ImportList,
    ImportMade,
    ImportPage,
    ImportQuery,
    ImportSummary,
)
from tarnfell.server.sites import require_site
from tarnfell.store import engagements as engagement_store
from tarnfell.store import imports as import_store
from tarnfell.store import sites as site_store
from tarnfell.store.codecs import codec_of_site
from tarnfell.store.db import writing
from tarnfell.store.imports import Imported

blueprint = Blueprint("imports", __name__)

MAX_STREAMS = 500
MAX_POINTS = 1500


@endpoint(blueprint, "GET", "/api/sites/<slug>/imports", response=ImportList)
def list_imports(slug: str) -> ImportList:
    """What was brought to a site from elsewhere, newest first."""
    site = require_site(slug)
    engagement = engagement_store.engagement_by_id(g.db, site.engagement_id)
    return ImportList(
        site_slug=site.slug,
        site_name=site.name,
        engagement_slug=engagement.slug,
        engagement_name=engagement.name,
        time_zone=site.time_zone,
        imports=[
            ImportSummary(id=one.id, name=one.name, kind=one.kind, created_us=one.created_us, says=_says(one))
            for one in import_store.imports_of(g.db, site.id)
        ],
    )


@endpoint(blueprint, "POST", "/api/sites/<slug>/imports", response=ImportMade)
def import_file(slug: str, query: ImportQuery) -> ImportMade:
    """Bring a capture or an echo log to a site. The body is the file."""
    site = require_site(slug)
    body = request.get_data()
    kind, result = _read(body, query, site.id)
    with writing(g.db):
        number = import_store.keep_import(
            g.db, site.id, query.name, kind, hashlib.sha256(body).hexdigest(), result, g.user.id
        )
    return ImportMade(id=number)


@endpoint(blueprint, "GET", "/api/imports/<int:import_id>", response=ImportPage)
def show_import(import_id: int) -> ImportPage:
    """What a file from elsewhere holds."""
    try:
        one = import_store.import_by_id(g.db, import_id)
    except KeyError:
        raise Problem(404, f"There is no import {import_id}.") from None
    site = site_store.site_by_id(g.db, one.site_id)
    engagement = engagement_store.engagement_by_id(g.db, site.engagement_id)
    return ImportPage(
        id=one.id,
        site_slug=site.slug,
        site_name=site.name,
        engagement_slug=engagement.slug,
        engagement_name=engagement.name,
        time_zone=site.time_zone,
        name=one.name,
        kind=one.kind,
        created_us=one.created_us,
        mos_scale=MOS_SCALE,
        note=DELAY_UNKNOWN if one.kind == "capture" else CAUTION,
        **one.result,
    )


def _read(body: bytes, query: ImportQuery, site_id: int) -> tuple[str, dict[str, Any]]:
    """Kind and result. Raises Problem 422 with what the file is not."""
    if not body:
        raise Problem(422, "The file is empty.")
    try:
        if body[:4] in CAPTURE_MAGICS:
            return "capture", _capture(body, query.codec, site_id)
        return "echo log", _echo(parse_echo_log(body.decode("utf-8-sig")))
    except UnicodeDecodeError:
        raise Problem(422, f"{query.name} is neither a capture (pcap, pcapng) nor a text.") from None
    except (CaptureError, EchoLogError, CodecError) as error:
        raise Problem(422, str(error)) from None


def _capture(body: bytes, codec: str | None, site_id: int) -> dict[str, Any]:
    if codec is not None:
        find_codec(codec)
    found = find_streams(io.BytesIO(body))
    if not found.streams:
        raise Problem(422, f"None of the {found.packets} packets in this capture belong to an RTP stream.")
    streams = [_stream(one, one.codec or codec, site_id) for one in found.streams[:MAX_STREAMS]]
    return {
        "packets": found.packets,
        "cut_short": found.cut_short,
        "streams": [s.model_dump() for s in streams],
        "echo": None,
    }


def _stream(one: FoundStream, name: str | None, site_id: int) -> ImportedStream:
    codec = codec_of_site(g.db, site_id, name) if name else None
    criterion = UNKNOWN_CODEC
    if codec:
        ptime = min(codec.intervals_ms(), key=lambda ms: abs(ms - one.ptime_ms))
        criterion = criterion_for(codec, ptime)
    fields = foreign_fields(one, name, judge(one.trace, criterion).fields(), codec is not None, criterion.mos_scale)
    seconds = []
    if codec:
        found = judge_seconds(one.trace, criterion)
        rows = zip(found.mos.tolist(), found.lost.tolist(), found.late.tolist(), strict=True)
        seconds = [{"mos": mos, "lost": lost, "late": late} for mos, lost, late in rows]
    values = {n: fields.get(n) for n in ImportedStream.model_fields}
    return ImportedStream.model_validate({**values, "codec_title": codec.title if codec else None, "seconds": seconds})


def _echo(log: EchoLog) -> dict[str, Any]:
    points = _thinned([(e.at_s, e.rtt_ms) for e in log.samples])
    view = EchoView.model_validate(
        {
            "system": log.system, "host": log.host, "stamped": log.stamped, **log.figures(), "points": points,
            "caution": CAUTION,
        }
    )  # fmt: skip
    return {"packets": len(log.samples), "cut_short": False, "streams": [], "echo": view.model_dump()}


def _thinned(points: list[tuple[float, float | None]]) -> list[tuple[float, float | None]]:
    """Few enough for a screen: of each stretch the least, the most and one that was not answered."""
    if len(points) <= MAX_POINTS:
        return points
    keep: set[int] = set()
    for stretch in np.array_split(np.arange(len(points)), MAX_POINTS // 3):
        known = [int(i) for i in stretch if points[i][1] is not None]
        silent = [int(i) for i in stretch if points[i][1] is None]
        keep.update(silent[:1])
        if known:
            keep.add(min(known, key=lambda i: points[i][1] or 0.0))
            keep.add(max(known, key=lambda i: points[i][1] or 0.0))
    return [points[i] for i in sorted(keep)]


def _says(one: Imported) -> str:
    if one.kind == "capture":
        streams = one.result["streams"]
        worst = min((s["mos"] for s in streams if s["mos"] is not None), default=None)
        count = f"{len(streams)} RTP {'stream' if len(streams) == 1 else 'streams'}"
        return count if worst is None else f"{count}, the worst at {worst:.2f} MOS"
    echo = one.result["echo"]
    return f"{echo['sent']} echoes to {echo['host'] or 'an unnamed host'}, {echo['loss_pct']:.2f} % unanswered"
