"""The application factory: a database connection for each request, headers, static front end, resources."""

from __future__ import annotations

import functools
import json
import re
import secrets
from pathlib import Path
from typing import Any

from flask import Flask, Response, current_app, g, request, send_from_directory
from werkzeug.routing import IntegerConverter, Map

import tarnfell
from tarnfell.server.alerts import metrics
from tarnfell.server.alerts import rules as alert_rules
from tarnfell.server.alerts import targets as alert_targets
from tarnfell.server.brief import briefs, codecs, engagements, site_list
from tarnfell.server.check import checks, looks, survey
from tarnfell.server.http import auth, health, request_log
from tarnfell.server.http.api import MAX_BODY_BYTES, Problem, install_errors, openapi, opened_to, problem_response
from tarnfell.server.http.cookies import Cookies
from tarnfell.server.judge import compare, decisions, notes, own_causes, remedies, sites, what_if
from tarnfell.server.load import (
    call_list,
    calls,
    fills,
    flows,
    hearing,
    imports,
    live,
    plans,
    run_capture,
    runs,
    videos,
)
from tarnfell.server.people import account, members, shown, trail, welcome
from tarnfell.server.place import bench, browser_links, desk, desk_begin, desk_streams, join, places, relays
from tarnfell.server.probe_api import probes
from tarnfell.server.report import brands, documents, issued, reports, shared
from tarnfell.server.today import today
from tarnfell.server.watch import pages as watch_pages
from tarnfell.server.watch import watches
from tarnfell.store.connections import Connections

WEB_FOLDER = Path(tarnfell.__file__).resolve().parent / "web"
_CSP = (
    "default-src 'self'; img-src 'self' data:; style-src 'self' 'unsafe-inline'; font-src 'self' data:; "
    "media-src 'self' data:; frame-ancestors 'self'; base-uri 'none'; form-action 'self'; object-src 'none'"
)

_HOST = re.compile(r"[\w.-]+(:\d+)?|\[[0-9A-Fa-f:]+\](:\d+)?")


class RowNumber(IntegerConverter):
    """Numbers in addresses are of rows; beyond what the database counts to there is nothing."""

    def __init__(self, map: Map, **options: Any) -> None:  # noqa: A002 - werkzeug's name
        super().__init__(map, max=2**63 - 1, **options)


def _csp() -> str:
    """Of this request's answer. A WebSocket is at a port of its own; behind a proxy at the page's own host, for which
    not every browser takes 'self'."""
    socket_port, public_address = current_app.config["SOCKET_PORT"], current_app.config["PUBLIC_ADDRESS"]
    if socket_port is None:
        return _CSP
    if not public_address:
        return f"{_CSP}; connect-src 'self' ws://*:{socket_port}"
    by = "wss" if public_address.startswith("https:") else "ws"
    host = f" {by}://{request.host}" if _HOST.fullmatch(request.host) else ""
    return f"{_CSP}; connect-src 'self'{host}"


def create_app(
    data: Path, web: Path = WEB_FOLDER, public_address: str | None = None, socket_port: int | None = None
) -> Flask:
    """The server over the data in ``data``. Raises SchemaError or OSError.

    ``public_address`` is the URL by which sites reach it; without it, the one in the browser's address line.
    ``socket_port`` is where tests over WebSocket are taken on this machine; None where they are not.
    """
    app = Flask(__name__, static_folder=None)
    app.extensions["connections"] = Connections(data)
    app.config.update(
        DATA=data,
        WEB=web,
        PUBLIC_ADDRESS=public_address,
        SOCKET_PORT=socket_port,
        SECRET_KEY=_secret(data),
        SESSION_COOKIE_NAME="tarnfell",
        SESSION_COOKIE_HTTPONLY=True,
        SESSION_COOKIE_SAMESITE="Lax",
        SESSION_COOKIE_SECURE=(public_address or "").startswith("https:"),
        PERMANENT_SESSION_LIFETIME=14 * 24 * 3600,
        MAX_CONTENT_LENGTH=MAX_BODY_BYTES,
    )
    app.session_interface = Cookies()
    app.url_map.converters["int"] = RowNumber
    install_errors(app)
    request_log.install(app)

    @app.before_request
    def _open() -> None:
        g.db = current_app.extensions["connections"].take()

    @app.teardown_request
    def _close(_: BaseException | None) -> None:
        if "db" in g:
            current_app.extensions["connections"].give_back(g.db)

    @app.after_request
    def _headers(response: Response) -> Response:
        response.headers.setdefault("Content-Security-Policy", _csp())
        response.headers["X-Content-Type-Options"] = "nosniff"
        response.headers["Referrer-Policy"] = "same-origin"
        response.headers["X-Frame-Options"] = "SAMEORIGIN"
        if request.path.startswith("/api/"):
            response.headers.setdefault("Cache-Control", "no-store")
        return response

    auth.guard(app)
    for module in (
        auth,
        account,
        welcome,
        members,
        trail,
        shown,
        today,
        engagements,
        briefs,
        codecs,
        site_list,
        sites,
        places,
        join,
        browser_links,
        relays,
        desk,
        desk_begin,
        desk_streams,
        bench,
        checks,
        looks,
        survey,
        plans,
        runs,
        fills,
        flows,
        live,
        call_list,
        calls,
        hearing,
        watches,
        watch_pages,
        alert_rules,
        alert_targets,
        metrics,
        videos,
        compare,
        imports,
        run_capture,
        remedies,
        decisions,
        notes,
        what_if,
        own_causes,
        documents,
        reports,
        issued,
        brands,
        shared,
        probes,
        health,
    ):
        app.register_blueprint(module.blueprint)
    _serve_description(app)
    _serve_front_end(app)
    return app


@functools.cache
def _described() -> str:
    """It takes most of a second to make, and changes with the program alone."""
    return json.dumps(openapi())


def _serve_description(app: Flask) -> None:
    @app.get("/api/openapi.json")
    @opened_to("anyone")
    def _description() -> Response:
        return Response(_described(), mimetype="application/json")


def _serve_front_end(app: Flask) -> None:
    """Built files by name; every other address outside /api is a screen of the one page, or the page for tests."""

    @app.get("/", defaults={"path": ""})
    @app.get("/<path:path>")
    @opened_to("anyone")
    def _page(path: str) -> Response:
        if path.startswith("api/"):
            return problem_response(404, "There is nothing at this address.")
        web: Path = current_app.config["WEB"]
        if path and _is_built(web, path):
            response = send_from_directory(web, path)
            if path.startswith("assets/"):
                response.headers["Cache-Control"] = "public, max-age=31536000, immutable"
            return response
        if not (web / "index.html").is_file():
            raise Problem(404, "The front end has not been built: run `make web`.")
        # Whoever tests from a browser is sent that page alone.
        response = send_from_directory(web, "test.html" if path.startswith("test/") else "index.html")
        response.headers["Cache-Control"] = "no-cache"
        return response


def _is_built(web: Path, path: str) -> bool:
    try:
        return (web / path).is_file()
    except OSError:
        return False  # a name longer than any file's


def _secret(data: Path) -> bytes:
    """The key of the session cookies, made once and kept beside the data."""
    file = data / "session.key"
    if not file.exists():
        aside = data / "session.key.new"  # a key half written would let nobody sign in, ever
        aside.unlink(missing_ok=True)
        aside.touch(mode=0o600)
        aside.write_text(secrets.token_hex(32))
        aside.replace(file)
    return file.read_text().encode()
