"""Imported files of a site: the streams of a capture, the answers of a log of ping."""

from __future__ import annotations

from dataclasses import fields, replace
from datetime import datetime
from pathlib import Path
from typing import Literal, cast
from zoneinfo import ZoneInfo

from flask import Blueprint, Response, current_app, g, request

from tarnfell.core.codecs import Codec, CodecError
from tarnfell.core.imported import Choices, EchoFigures, FileContents, ImportedEcho
from tarnfell.core.legs import EchoPath, Role
from tarnfell.exchange.echolog import CAUTION
from tarnfell.exchange.foreign import DELAY_UNKNOWN
from tarnfell.server.access import require_import, require_site
from tarnfell.server.http.api import Problem, endpoint
from tarnfell.server.load.models.imports import (
    EchoPathView,
    EchoView,
    ImportChange,
    ImportList,
    ImportMade,
    ImportPage,
    ImportQuery,
    ImportSummary,
    PathPlace,
    TestPointChoice,
)
from tarnfell.store import engagements as engagement_store
from tarnfell.store import imports as import_store
from tarnfell.store import places as place_store
from tarnfell.store import sites as site_store
from tarnfell.store.calls import MAX_UPLOAD_BYTES
from tarnfell.store.codecs import codec_of_site
from tarnfell.store.db import writing
from tarnfell.store.files import IMPORTS
from tarnfell.store.imports import Imported
from tarnfell.store.sites import Site
from tarnfell.work.ingest.files import FileError, cells_of, kind_of, path_of, read_file, started_us

blueprint = Blueprint("imports", __name__)

READ_AT_ONCE_BYTES = 128 << 10
"""What takes longer to read than a request should last is read by the clerk."""


@endpoint(blueprint, "GET", "/api/sites/<slug>/imports", response=ImportList)
def list_imports(slug: str) -> ImportList:
    """Imported files of a site, newest first, and what its logs of ping say together."""
    site = require_site(slug)
    engagement = engagement_store.engagement_by_id(g.db, site.engagement_id)
    imports = import_store.imports_of(g.db, site.id)
    return ImportList(
        site_slug=site.slug,
        site_name=site.name,
        engagement_slug=engagement.slug,
        engagement_name=engagement.name,
        time_zone=site.time_zone,
        imports=[
            ImportSummary(
                id=one.id,
                name=one.name,
                kind=one.kind,
                created_us=one.created_us,
                state=_state(one),
                says=_says(one),
                shown=one.choices.shown,
                roles=list(one.choices.roles.values()),
            )
            for one in imports
        ],
        path=_path_view(imports, ZoneInfo(site.time_zone)),
    )


@endpoint(blueprint, "POST", "/api/sites/<slug>/imports", response=ImportMade, max_body=MAX_UPLOAD_BYTES)
def import_file(slug: str, query: ImportQuery) -> ImportMade:
    """Upload a capture or a log of ping to a site. The body is the file."""
    site = require_site(slug)
    body = request.get_data()
    said = Choices(codecs={"*": query.codec} if query.codec else {}, roles={"0": query.role} if query.role else {})
    if len(body) > READ_AT_ONCE_BYTES:
        return _leave_to_the_clerk(site, query.name, body, said)
    kind, result = _read(body, query.name, said, site)
    sha256 = IMPORTS.keep(_data(), [body])
    with writing(g.db):
        number = import_store.keep_import(g.db, site.id, query.name, kind, sha256, result, said, g.user.id)
    return ImportMade(id=number)


def _leave_to_the_clerk(site: Site, name: str, body: bytes, said: Choices) -> ImportMade:
    _check_codecs(said, site)
    try:
        kind = kind_of(body, name)
    except FileError as error:
        raise Problem(422, str(error)) from None
    sha256 = IMPORTS.keep(_data(), [body])
    with writing(g.db):
        return ImportMade(id=import_store.keep_unread(g.db, site.id, name, kind, sha256, said, g.user.id))


@endpoint(blueprint, "GET", "/api/imports/<int:import_id>", response=ImportPage)
def show_import(import_id: int) -> ImportPage:
    """What an imported file holds."""
    one = require_import(import_id)
    site = site_store.site_by_id(g.db, one.site_id)
    engagement = engagement_store.engagement_by_id(g.db, site.engagement_id)
    choices, zone, result = one.choices, ZoneInfo(site.time_zone), one.result
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
        state=_state(one),
        failure=one.failure,
        packets=result.packets,
        cut_short=result.cut_short,
        note=DELAY_UNKNOWN if one.kind == "capture" else CAUTION,
        notes=result.notes,
        streams=result.streams,
        pairs=choices.pairs if choices.pairs is not None else result.pairs,
        echoes=[
            EchoView(
                **{f.name: getattr(echo, f.name) for f in fields(EchoFigures)},
                role=choices.roles.get(str(i)),
                started_us=started_us(echo, choices, zone),
            )
            for i, echo in enumerate(result.echoes)
        ],
        test_points=[
            TestPointChoice(id=test_point.id, name=test_point.name)
            for test_point in place_store.test_points_of(g.db, site.id)
        ],
        test_point_id=choices.test_point_id,
        shown=choices.shown,
        starts_local=choices.starts_local,
        days=sorted({cell.day for cell in cells_of(result, choices, zone)}),
        can_change=IMPORTS.read(_data(), one.sha256) is not None,
    )


@endpoint(blueprint, "PUT", "/api/imports/<int:import_id>", response=ImportMade)
def change_import(import_id: int, body: ImportChange) -> ImportMade:
    """Rename a file, name its codecs, pair its streams, say where its hosts stand and what it speaks for."""
    one = require_import(import_id)
    site = site_store.site_by_id(g.db, one.site_id)
    _check(body, one, site)
    untold = vars(Choices())
    told = {field: getattr(body, field) for field in body.model_fields_set - {"name"}}
    said = {field: value for field, value in told.items() if value is not None or untold[field] is None}
    read = None
    if "codecs" in said:
        file = IMPORTS.read(_data(), one.sha256)
        if file is None:
            raise Problem(409, "This file was imported before files were kept. Upload it again to name a codec.")
        choices = replace(one.choices, **said)
        if len(file) <= READ_AT_ONCE_BYTES:
            _, read = _read(file, body.name or one.name, choices, site)
        else:
            _check_codecs(choices, site)
    with writing(g.db):
        one = require_import(import_id)  # it may have been changed, or read anew, since this was asked
        choices = replace(one.choices, **said)
        import_store.change_import(g.db, one.id, body.name or one.name, choices, read or one.result)
        if "codecs" in said and read is None:
            import_store.read_again(g.db, one.id)
    return ImportMade(id=one.id)


@endpoint(blueprint, "DELETE", "/api/imports/<int:import_id>", response=ImportMade)
def remove_import(import_id: int) -> ImportMade:
    """Delete a file and what was read in it."""
    one = require_import(import_id)
    with writing(g.db):
        last = import_store.remove_import(g.db, one.id)
    if last:
        IMPORTS.drop(_data(), one.sha256)
    return ImportMade(id=one.id)


@endpoint(blueprint, "GET", "/api/imports/<int:import_id>/file", produces="application/octet-stream")
def download_import(import_id: int) -> Response:
    """The file as it came."""
    one = require_import(import_id)
    file = IMPORTS.read(_data(), one.sha256)
    if file is None:
        raise Problem(404, "This file was imported before files were kept.")
    answer = Response(file, mimetype="application/octet-stream")
    answer.headers.set("Content-Disposition", "attachment", filename=one.name)
    return answer


def _data() -> Path:
    return cast(Path, current_app.config["DATA"])


def _read(body: bytes, name: str, choices: Choices, site: Site) -> tuple[str, FileContents]:
    """Kind and result. Raises Problem 422 with what the file is not."""

    def codec_of(wanted: str) -> Codec:
        return codec_of_site(g.db, site.id, wanted)

    try:
        return read_file(body, name, choices, codec_of)
    except (FileError, CodecError) as error:
        raise Problem(422, str(error)) from None


def _check_codecs(choices: Choices, site: Site) -> None:
    """Raises Problem 422."""
    try:
        for codec in choices.codecs.values():
            codec_of_site(g.db, site.id, codec)
    except CodecError as error:
        raise Problem(422, str(error)) from None


def _check(said: ImportChange, one: Imported, site: Site) -> None:
    """Raises Problem 422 for what cannot be said of this file."""
    count = len(one.result.streams)
    paired = [i for pair in said.pairs or [] for i in pair]
    if len(set(paired)) != len(paired) or any(not 0 <= i < count for i in paired):
        raise Problem(422, "Each stream can be one direction of one call only.")
    if any(not key.isdigit() or int(key) >= count for key in said.codecs or {} if key != "*"):
        raise Problem(422, "There is no such stream in this capture.")
    hosts = len(one.result.echoes)
    if any(not key.isdigit() or int(key) >= hosts for key in said.roles or {}):
        raise Problem(422, "There is no such log in this file.")
    if said.test_point_id is not None and said.test_point_id not in [
        s.id for s in place_store.test_points_of(g.db, site.id)
    ]:
        raise Problem(422, "This site has no such test point.")
    if said.starts_local:
        try:
            datetime.fromisoformat(said.starts_local)
        except ValueError:
            raise Problem(422, f"“{said.starts_local}” is no time: write it as 2026-11-25 09:30.") from None


def _path_view(imports: list[Imported], zone: ZoneInfo) -> EchoPathView | None:
    logs: list[tuple[ImportedEcho, Role, int | None]] = []
    for one in imports:
        choices, echoes = one.choices, one.result.echoes
        logs += [
            (echoes[int(place)], role, started_us(echoes[int(place)], choices, zone))
            for place, role in choices.roles.items()
            if int(place) < len(echoes)
        ]
    path = path_of(logs)
    return view_of_path(path) if path else None


def view_of_path(path: EchoPath) -> EchoPathView:
    return EchoPathView(
        places=[
            PathPlace(
                role=p.role,
                host=p.host,
                sent=p.own.sent,
                lost=p.own.lost,
                p50_ms=p.own.p50_ms,
                p95_ms=p.own.p95_ms,
                through_loss_pct=p.through_loss_pct,
                through_p50_ms=p.through_p50_ms,
                through_p95_ms=p.through_p95_ms,
            )
            for p in path.places
        ],
        legs=list(path.legs),
        minutes=path.minutes,
        not_faults=path.not_faults,
        says=path.says,
    )


def _state(one: Imported) -> Literal["read", "reading", "failed"]:
    if one.failure is not None:
        return "failed"
    return "reading" if one.stale else "read"


def _says(one: Imported) -> str:
    if one.failure is not None:
        return one.failure
    if one.reading:
        return "being read"
    if one.kind == "capture":
        streams = one.result.streams
        worst = min((s.mos for s in streams if s.mos is not None), default=None)
        count = f"{len(streams)} RTP {'stream' if len(streams) == 1 else 'streams'}"
        return count if worst is None else f"{count}, the worst at {worst:.2f} MOS"
    return "; ".join(
        f"{echo.sent} echoes to {echo.host or 'an unnamed host'}, {echo.loss_pct:.2f} % unanswered"
        for echo in one.result.echoes
    )
