"""Routes declared with their models, so that OpenAPI and the front end's types are generated from one place.

Errors leave as RFC 9457 problem details with a sentence a person can act on.
"""

from __future__ import annotations

import inspect
import math
import re
import sqlite3
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any, Literal, TypeVar

from flask import Blueprint, Flask, Response, jsonify, request
from pydantic import BaseModel, ValidationError
from pydantic.json_schema import GenerateJsonSchema, models_json_schema
from werkzeug.exceptions import HTTPException

from tarnfell import __version__
from tarnfell.server.http.attribute_docs import attribute_docs
from tarnfell.server.http.sentences import in_words, what_is_wrong
from tarnfell.store.members import Role

Audience = Literal["anyone", "user", "probe", "monitor"]
MAX_BODY_BYTES = 64 * 1024


class Problem(Exception):
    """An answer of no: status and the sentence that says why and what to do."""

    def __init__(self, status: int, detail: str) -> None:
        super().__init__(detail)
        self.status = status
        self.detail = detail


@dataclass(frozen=True)
class Endpoint:
    method: str
    path: str
    summary: str
    audience: Audience
    body: type[BaseModel] | None
    query: type[BaseModel] | None
    response: type[BaseModel] | None
    produces: str
    needs: Role
    """Of a user: in the engagement that the address is of."""


ENDPOINTS: list[Endpoint] = []


def endpoint(
    blueprint: Blueprint,
    method: str,
    path: str,
    *,
    audience: Audience = "user",
    needs: Role = "colleague",
    response: type[BaseModel] | None = None,
    produces: str = "application/json",
    max_body: int = MAX_BODY_BYTES,
) -> Callable[[Callable[..., Any]], Callable[..., Any]]:
    """Register a view. Parameters named ``body`` and ``query`` are parsed from the request by their annotation.

    ``max_body`` is of the request in bytes; nothing of it is read before the sender is known.
    """

    def register(view: Callable[..., Any]) -> Callable[..., Any]:
        hints = inspect.get_annotations(view, eval_str=True)
        body, query = hints.get("body"), hints.get("query")
        summary = (view.__doc__ or "").strip().split("\n")[0]
        ENDPOINTS.append(Endpoint(method, path, summary, audience, body, query, response, produces, needs))

        def handle(**values: Any) -> Response:
            if body is not None:
                values["body"] = _parse(body, _json())
            if query is not None:
                values["query"] = _parse(query, request.args.to_dict())
            result = view(**values)
            if isinstance(result, BaseModel):
                return Response(result.model_dump_json(), mimetype="application/json")
            if isinstance(result, Response):
                return result
            return jsonify({})

        opened_to(audience, max_body, needs)(handle)
        handle.summary = summary  # type: ignore[attr-defined]
        blueprint.add_url_rule(path, view.__name__, handle, methods=[method])
        return view

    return register


View = TypeVar("View", bound=Callable[..., Any])


def opened_to(audience: Audience, max_body: int = MAX_BODY_BYTES, needs: Role = "colleague") -> Callable[[View], View]:
    """Says with a view who may use it; one that says nothing is closed (``auth.guard``)."""

    def mark(view: View) -> View:
        view.audience, view.max_body, view.needs = audience, max_body, needs  # type: ignore[attr-defined]
        return view

    return mark


def _json() -> Any:
    try:
        return request.get_json(silent=True)
    except RecursionError:
        raise Problem(400, "The request nests deeper than anything that is kept here.") from None


def _parse(model: type[BaseModel], value: Any) -> BaseModel:
    if not isinstance(value, dict):
        raise Problem(400, "The request must carry a JSON object.")
    try:
        parsed = model.model_validate(value)
    except ValidationError as error:
        raise Problem(422, what_is_wrong(error)) from None
    for name, one in parsed:
        if not _can_be_kept(one):
            raise Problem(
                422, f"{in_words((name,))} holds a number that is none, or larger than any that is kept here."
            )
    return parsed


def _can_be_kept(value: Any) -> bool:
    """No number in it is beyond what the database and JSON can hold."""
    match value:
        case int():
            return -(2**63) <= value < 2**63
        case float():
            return math.isfinite(value)
        case dict():
            return all(map(_can_be_kept, value.values()))
        case list() | tuple() | BaseModel():
            return all(_can_be_kept(one[1] if isinstance(value, BaseModel) else one) for one in value)
    return True


def problem_response(status: int, detail: str) -> Response:
    if len(detail) > _LONGEST_DETAIL:  # what was asked is quoted, and may have been anything
        detail = detail[:_LONGEST_DETAIL] + "…"
    response = jsonify(
        {"type": "about:blank", "title": _TITLES.get(status, "Error"), "status": status, "detail": detail}
    )
    response.status_code = status
    response.mimetype = "application/problem+json"
    return response


_LONGEST_DETAIL = 600
_TITLES = {
    400: "Bad request",
    401: "Not signed in",
    403: "Not allowed",
    404: "Not found",
    405: "Wrong method",
    409: "Not now",
    413: "Too large",
    422: "Cannot be",
    429: "Too often",
    500: "Our fault",
    503: "Not now",
}


_FAULT = "Something went wrong on the server; it is in its log. Nothing was half written."
_CANNOT = (503, "The server cannot read or write its data now; its log says why. Nothing was half written; try again.")
_BUSY = (503, "The server is busy writing. Nothing was half written; try again.")
_DAMAGED = (500, "The server's database is damaged. Whoever runs it finds more in its log, and puts back a copy.")
# 503 a probe waits out and delivers again.
_DATABASE_FAULTS = {
    sqlite3.SQLITE_FULL: (503, "The server's disk is full. Nothing was half written; try again."),
    sqlite3.SQLITE_BUSY: _BUSY,
    sqlite3.SQLITE_LOCKED: _BUSY,
    sqlite3.SQLITE_IOERR: _CANNOT,
    sqlite3.SQLITE_READONLY: _CANNOT,
    sqlite3.SQLITE_CANTOPEN: _CANNOT,
    sqlite3.SQLITE_CORRUPT: _DAMAGED,
    sqlite3.SQLITE_NOTADB: _DAMAGED,
}


def install_errors(app: Flask) -> None:
    @app.errorhandler(Problem)
    def _problem(error: Problem) -> Response:
        return problem_response(error.status, error.detail)

    @app.errorhandler(HTTPException)
    def _http(error: HTTPException) -> Response:
        words = {
            404: "There is nothing at this address.",
            405: "This address does not take that kind of request.",
            413: f"That is more than this address takes ({(request.max_content_length or 0) >> 10} KiB).",
        }
        code = error.code or 500
        return problem_response(code, words.get(code, error.description or "The request could not be served."))

    @app.errorhandler(sqlite3.Error)
    def _database(error: sqlite3.Error) -> Response:
        app.logger.exception("the database")
        # The low byte is the kind of error, the rest says more of it (sqlite.org/rescode.html).
        status, words = _DATABASE_FAULTS.get(getattr(error, "sqlite_errorcode", -1) & 0xFF, (500, _FAULT))
        return problem_response(status, words)

    @app.errorhandler(OSError)
    def _disk(error: OSError) -> Response:
        app.logger.exception("the disk")
        return problem_response(
            503, f"The server cannot use its files now: {error.strerror or error}. Nothing was half written; try again."
        )

    @app.errorhandler(Exception)
    def _unexpected(error: Exception) -> Response:
        app.logger.exception("unexpected error")
        return problem_response(500, _FAULT)


class Described(GenerateJsonSchema):
    """A value of ours has all its fields in an answer; its defaults are for those who make it."""

    def field_is_required(self, field: Any, total: bool) -> bool:
        ours = field["type"] == "dataclass-field" and self.mode == "serialization"
        return ours or super().field_is_required(field, total)

    def model_schema(self, schema: Any) -> dict[str, Any]:
        return _with_docs(schema["cls"], super().model_schema(schema))

    def dataclass_schema(self, schema: Any) -> dict[str, Any]:
        return _with_docs(schema["cls"], super().dataclass_schema(schema))


def _with_docs(model: type, described: dict[str, Any]) -> dict[str, Any]:
    for name, text in attribute_docs(model).items():
        described["properties"][name].setdefault("description", text)
    return described


def openapi() -> dict[str, object]:
    """The OpenAPI 3.1 description of every registered endpoint."""
    models = {m for e in ENDPOINTS for m in (e.body, e.query, e.response) if m is not None}
    inputs = {m for e in ENDPOINTS for m in (e.body, e.query) if m is not None}
    ordered = sorted(models, key=lambda m: m.__name__)
    _, schemas = models_json_schema(
        [(m, "validation" if m in inputs else "serialization") for m in ordered],
        ref_template="#/components/schemas/{model}",
        schema_generator=Described,
    )
    definitions = schemas.get("$defs", {})
    definitions["Problem"] = {
        "type": "object",
        "required": ["type", "title", "status", "detail"],
        "properties": {
            "type": {"type": "string"},
            "title": {"type": "string"},
            "status": {"type": "integer"},
            "detail": {"type": "string"},
        },
    }
    paths: dict[str, dict[str, object]] = {}
    for e in ENDPOINTS:
        paths.setdefault(_template(e.path), {})[e.method.lower()] = _operation(e, definitions)
    return {
        "openapi": "3.1.0",
        "info": {"title": "Tarnfell", "version": __version__},
        "paths": dict(sorted(paths.items())),
        "components": {
            "schemas": dict(sorted(definitions.items())),
            "securitySchemes": {
                "session": {"type": "apiKey", "in": "cookie", "name": "tarnfell"},
                "probe": {"type": "http", "scheme": "bearer"},
                "monitor": {"type": "http", "scheme": "bearer"},
            },
        },
    }


def _template(path: str) -> str:
    return path.replace("<int:", "{").replace("<", "{").replace(">", "}")


def _operation(e: Endpoint, definitions: Mapping[str, Any]) -> dict[str, object]:
    parameters: list[dict[str, object]] = []
    for kind, name in re.findall(r"<(int:)?(\w+)>", e.path):
        schema = {"type": "integer" if kind else "string"}
        parameters.append({"name": name, "in": "path", "required": True, "schema": schema})
    if e.query is not None:
        schema = definitions[e.query.__name__]
        required = schema.get("required", [])
        parameters += [
            {"name": name, "in": "query", "required": name in required, "schema": one}
            for name, one in schema["properties"].items()
        ]
    content: dict[str, object] = {"schema": {"type": "object"}}
    if e.response is not None:
        content = {"schema": {"$ref": f"#/components/schemas/{e.response.__name__}"}}
    elif e.produces != "application/json":
        content = {}
    operation: dict[str, object] = {
        "summary": e.summary,
        "parameters": parameters,
        "responses": {
            "200": {"description": "Done", "content": {e.produces: content}},
            "default": {
                "description": "Problem details (RFC 9457)",
                "content": {"application/problem+json": {"schema": {"$ref": "#/components/schemas/Problem"}}},
            },
        },
    }
    if e.body is not None:
        operation["requestBody"] = {
            "required": True,
            "content": {"application/json": {"schema": {"$ref": f"#/components/schemas/{e.body.__name__}"}}},
        }
    if e.audience != "anyone":
        operation["security"] = [{{"user": "session"}.get(e.audience, e.audience): []}]
    return operation
