"""Lists of services to ask, as TOML (``[[service]]``) and as CSV with a line that names the columns."""

from __future__ import annotations

import csv
import io
import json
import re
import tomllib
from collections.abc import Sequence
from dataclasses import fields

from tarnfell.exchange.cells import guarded, without_guard
from tarnfell.wire.kinds.check import MAX_SERVICES, ServiceAsked
from tarnfell.wire.kinds.fields import KindError, plain, read

COLUMNS = tuple(field.name for field in fields(ServiceAsked))
NEEDED = ("name", "host", "port")


class NotAList(ValueError):
    """The text is no list of services; it says why, and where."""


def read_services(text: str) -> tuple[ServiceAsked, ...]:
    """From either form. Raises NotAList."""
    text = text.lstrip("\ufeff")
    first = next((line for line in text.splitlines() if line.strip()), "").lower()
    named = [name.strip(' "') for name in first.replace(";", ",").replace("\t", ",").split(",")]
    told = _rows_of(text) if set(NEEDED) <= set(named) else _tables_of(text)
    if not told:
        raise NotAList("The list holds no service.")
    if len(told) > MAX_SERVICES:
        raise NotAList(f"The list holds {len(told)} services; at most {MAX_SERVICES} are asked.")
    return tuple(_service(where, one) for where, one in told)


def _service(where: str, told: object) -> ServiceAsked:
    try:
        one = read(ServiceAsked, told, where)
    except KindError as error:
        raise NotAList(str(error)) from None
    if not re.fullmatch(r"/[\x21-\x7e]*", one.path):
        raise NotAList(f"{where}: a path begins with “/” and holds no spaces; “{one.path[:40]}” is none.")
    return one


def _tables_of(text: str) -> list[tuple[str, object]]:
    try:
        told = tomllib.loads(text).get("service", [])
    except tomllib.TOMLDecodeError as error:
        raise NotAList(f"It is neither TOML nor a CSV whose first line names {', '.join(NEEDED)}: {error}.") from None
    if not isinstance(told, list):
        raise NotAList("In TOML each service is a table of its own, [[service]].")
    return [(f"Service {number}", one) for number, one in enumerate(told, 1)]


def _rows_of(text: str) -> list[tuple[str, object]]:
    head = text.lstrip().split("\n", 1)[0]
    reader = csv.DictReader(io.StringIO(text.lstrip()), delimiter=max(",;\t", key=head.count), strict=True)
    rows: list[tuple[str, object]] = []
    try:
        reader.fieldnames = [name.strip().lower() for name in reader.fieldnames or []]
        for row in reader:
            where = f"Line {reader.line_num}"
            if None in row:
                raise NotAList(f"{where} has more cells than there are columns.")
            told = {name: without_guard(value) for name, value in row.items() if value and value.strip()}
            if not told:
                continue
            port = told.get("port", "")
            if not (port.isascii() and port.isdigit() and len(port) <= 5):
                raise NotAList(f"{where}: “{port[:40]}” is no port.")
            rows.append((where, {**told, "port": int(port)}))
            if len(rows) > MAX_SERVICES:
                break
    except csv.Error as error:
        raise NotAList(f"Line {reader.line_num} cannot be read as CSV: {error}.") from None
    return rows


def as_toml(services: Sequence[ServiceAsked]) -> str:
    """Strings are written as JSON writes them, which TOML reads (basic strings, TOML 1.0)."""
    parts = []
    for one in services:
        values = {"name": one.name, "host": one.host, **plain(one), "protocol": one.protocol}
        lines = [f"{key} = {json.dumps(value, ensure_ascii=False)}" for key, value in values.items()]
        parts.append("\n".join(["[[service]]", *lines]))
    return "\n\n".join(parts) + "\n" if parts else ""


def as_csv(services: Sequence[ServiceAsked]) -> str:
    text = io.StringIO()
    out = csv.writer(text)
    out.writerow(COLUMNS)
    for one in services:
        out.writerow([guarded(str(getattr(one, column))) for column in COLUMNS])
    return text.getvalue()
