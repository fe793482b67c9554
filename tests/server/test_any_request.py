"""Whatever is asked, the server answers with what was asked for or with a sentence, and stays whole.

Requests are made from the server's own description of its addresses: mostly right, with something spoilt in them.
"""

from __future__ import annotations

import json
import math
import sqlite3
from collections.abc import Iterator
from contextlib import closing
from typing import Any

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from tarnfell.server.http.api import ENDPOINTS, Endpoint, openapi
from tarnfell.store.db import FILE_NAME
from tests.server.conftest import House, built_house, record_file
from tests.server.test_runs import deliver

ODD: list[Any] = [
    None, True, 0, -1, 1, 2**31, 2**63, -(2**63) - 1, 10**400, 0.1, -0.0, 1e308, math.nan, math.inf, "", " ", "0",
    "\x00", "\ud800", "‮", "a" * 5000, "2026-02-30", "0000-00-00T00:00:00Z", "9999-12-31T23:59:59.999999Z",
    "Nowhere/Place", "FREQ=SECONDLY", "FREQ=DAILY;COUNT=0", "127.0.0.1", "::1", "../..", "<b>&", [], {}, [[]], [None],
]  # fmt: skip
odd = st.sampled_from(ODD) | st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats() | st.text(max_size=20),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.text(max_size=8), inner, max_size=3),
    max_leaves=5,
)
names = st.sampled_from(["pier", "customer", "g711a", "desk", "nowhere", "0", "%00", "é", "a" * 300])
numbers = st.sampled_from([0, 1, 2, 3, 10**6, 2**63 - 1, 2**63, 10**30])
DEFINITIONS: dict[str, Any] = openapi()["components"]["schemas"]


def right(schema: dict[str, Any]) -> st.SearchStrategy[Any]:
    """What a JSON schema asks for."""
    if "$ref" in schema:
        return st.deferred(lambda: right(DEFINITIONS[schema["$ref"].rsplit("/", 1)[1]]))
    if "anyOf" in schema:
        return st.one_of([right(one) for one in schema["anyOf"]])
    if "const" in schema:
        return st.just(schema["const"])
    if "enum" in schema:
        return st.sampled_from(schema["enum"])
    low, high = schema.get("minimum", schema.get("exclusiveMinimum")), schema.get("maximum")
    match schema.get("type"):
        case "object" if "properties" in schema:
            wanted = {name: right(one) for name, one in schema["properties"].items()}
            needed = {name: wanted.pop(name) for name in schema.get("required", [])}
            return st.fixed_dictionaries(needed, optional=wanted)
        case "object":
            return st.dictionaries(names, odd, max_size=2)
        case "array":
            most = min(schema.get("maxItems", 3), 3)
            return st.lists(
                right(schema.get("items", {})), min_size=min(schema.get("minItems", 0), most), max_size=most
            )
        case "integer":
            return st.integers(0 if low is None else math.ceil(low), 200 if high is None else high)
        case "number":
            return st.floats(0 if low is None else low, 1000 if high is None else high)
        case "boolean":
            return st.booleans()
        case "null":
            return st.none()
        case "string":
            return names | st.text(min_size=schema.get("minLength", 0), max_size=20)
    return odd


@st.composite
def spoilt(draw: st.DrawFn, value: Any) -> Any:
    """The same with one thing in it replaced, left out or added."""
    match value:
        case dict() if value:
            name = draw(st.sampled_from(sorted(value)))
            rest = {k: v for k, v in value.items() if k != name}
            how = draw(st.integers(0, 9))
            if how == 0:
                return rest
            if how == 1:
                return {**value, "more": draw(odd)}
            return {**rest, name: draw(spoilt(value[name]))}
        case list() if value and draw(st.booleans()):
            at = draw(st.integers(0, len(value) - 1))
            return [*value[:at], draw(spoilt(value[at])), *value[at + 1 :]]
    return draw(odd)


@st.composite
def mostly(draw: st.DrawFn, model: Any) -> Any:
    value = draw(right({"$ref": f"#/{model.__name__}"}))
    return draw(spoilt(value)) if draw(st.integers(0, 3)) else value


@pytest.fixture(scope="module")
def full(tmp_path_factory: pytest.TempPathFactory) -> House:
    """A site with a run done and a run waiting, a plan, a far end and a probe."""
    house = built_house(tmp_path_factory.mktemp("any"))
    house.app.config["PROPAGATE_EXCEPTIONS"] = False
    house.heartbeat()
    house.place()
    job = house.heartbeat()
    assert job is not None
    deliver(house, int(job["id"]), record_file())
    house.place()
    plan = {"probe_id": 1, "far_end_id": 1, "codec": "g711a", "shape": "hold", "calls": 2, "call_s": 2, "when": "draft"}
    assert house.post("/api/sites/pier/plans", plan).status_code == 200
    return house


@pytest.fixture(autouse=True)
def _nothing_is_read_any_more(full: House) -> Iterator[None]:
    """By a connection that was given back: who has it next would be told what was true then."""
    yield
    with closing(sqlite3.connect(full.folder / FILE_NAME, timeout=1, isolation_level=None)) as other:
        other.execute("UPDATE user SET name = name || '.'")  # what a reader of before would not see
        assert other.execute("PRAGMA wal_checkpoint(TRUNCATE)").fetchone()[0] == 0


def filled(path: str, data: st.DataObject) -> str:
    parts = []
    for part in path.split("/"):
        if not part.startswith("<"):
            parts.append(part)
            continue
        kind, _, rest = part[1:].partition(">")
        given_value = data.draw(numbers if kind.startswith("int:") else names)
        parts.append(f"{given_value}{rest}".replace("%", "%25"))
    return "/".join(parts)


# Signing out would end the session the other requests need; a PDF takes a second, and its page is asked for as HTML.
ASKED = [e for e in ENDPOINTS if (e.method, e.path) != ("DELETE", "/api/session") and not e.path.endswith(".pdf")]


@pytest.mark.parametrize("one", ASKED, ids=lambda e: f"{e.method} {e.path}")
@settings(max_examples=16, suppress_health_check=list(HealthCheck))
@given(data=st.data())
def test_every_request_gets_an_answer(full: House, one: Endpoint, data: st.DataObject) -> None:
    path = filled(one.path, data)
    options: dict[str, Any] = {}
    if one.query is not None:
        asked = data.draw(mostly(one.query))
        if isinstance(asked, dict):
            options["query_string"] = {k: str(v).encode("utf-8", "replace") for k, v in asked.items()}
    if one.body is not None:
        options["data"] = json.dumps(data.draw(mostly(one.body)))
        options["content_type"] = "application/json"
    elif one.method in ("POST", "PUT"):
        options["data"] = data.draw(st.binary(max_size=200))
    if one.audience == "probe":
        answer = full.probe(one.method, path, **options)
    else:
        answer = full.person.open(path, method=one.method, headers={"X-CSRF-Token": full.csrf}, **options)
    assert answer.status_code < 500, answer.text
    if answer.status_code >= 400:
        assert answer.mimetype == "application/problem+json"
        detail = answer.json["detail"]
        assert detail.strip()
        assert len(detail) < 1000
        assert "Traceback" not in detail
    elif answer.mimetype == "application/json":
        json.loads(answer.text, parse_constant=lambda name: pytest.fail(f"{name} is not JSON"))
