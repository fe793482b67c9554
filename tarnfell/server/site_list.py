"""Many sites at once, as a CSV file: read line by line, with a sentence for each that cannot be; and written."""

from __future__ import annotations

import csv
import io
from typing import Any

from flask import Blueprint, Response, g
from pydantic import ValidationError

from tarnfell.server.api import Problem, endpoint
from tarnfell.server.brief import form_of, site_values
from tarnfell.server.engagements import require_engagement
from tarnfell.server.models.brief import BriefForm, ImportLine, SiteImport, SiteImportAnswer, TargetsForm
from tarnfell.server.sentences import what_is_wrong
from tarnfell.store import sites as site_store
from tarnfell.store.db import writing

blueprint = Blueprint("site_list", __name__)

MAX_SITES = 1000
_HOURS = {"opens": "open_minute", "closes": "close_minute"}
_RENAMED = {"business_days": "open_days", "needed_calls": "stated_calls"}
COLUMNS = (
    "name", "place", "address", "time_zone", "opens", "closes", "business_days", "medium", "down_kbps", "up_kbps",
    "provider", "people", "calls_per_hour", "minutes_per_call", "blocking_pct", "needed_calls", "codec", "ptime_ms",
    "ceiling_pct", "srtp", "pppoe", "vlan_tags", "tunnel_bytes", "ipv6", "switches_by", "firewall_by", "line_by",
    *TargetsForm.model_fields,
)  # fmt: skip
"""In the order they are written; a file may hold any of them in any order, ``name`` always."""


@endpoint(blueprint, "POST", "/api/engagements/<slug>/site-list", response=SiteImportAnswer)
def import_sites(slug: str, body: SiteImport) -> SiteImportAnswer:
    """Read a list of sites; with ``keep``, make those that can be."""
    engagement = require_engagement(slug)
    read = [_read_line(number, row) for number, row in _rows(body.csv)]
    if not body.keep:
        return SiteImportAnswer(lines=[line for line, _ in read], state="read")
    made = []
    with writing(g.db):
        for line, values in read:
            if values is not None:
                new = site_store.free_slug(g.db, "site", line.name)
                site_store.add_site(g.db, engagement.id, slug=new, **values)
                line = line.model_copy(update={"slug": new})
            made.append(line)
    return SiteImportAnswer(lines=made, state="kept")


@endpoint(blueprint, "GET", "/api/engagements/<slug>/site-list.csv", produces="text/csv")
def export_sites(slug: str) -> Response:
    """The sites of an engagement, in the form that is read back in."""
    engagement = require_engagement(slug)
    text = io.StringIO()
    out = csv.writer(text)
    out.writerow(COLUMNS)
    for site in site_store.sites_of(g.db, engagement.id):
        form = form_of(site)
        flat = {**form.model_dump(), **form.targets.model_dump()}
        flat |= {column: flat[name] for column, name in _RENAMED.items()}
        flat |= {column: f"{flat[name] // 60}:{flat[name] % 60:02d}" for column, name in _HOURS.items()}
        out.writerow([_cell(flat[column]) for column in COLUMNS])
    headers = {"Content-Disposition": f'attachment; filename="{slug}-sites.csv"'}
    return Response(text.getvalue(), mimetype="text/csv", headers=headers)


def _cell(value: Any) -> str:
    if value is None:
        return ""
    if isinstance(value, bool):
        return "yes" if value else "no"
    text = f"{value:g}" if isinstance(value, float) else str(value)
    # A spreadsheet would run a cell that begins like a formula.
    return f"'{text}" if text[:1] in ("=", "+", "-", "@") else text


def _rows(text: str) -> list[tuple[int, dict[str, str]]]:
    """The file's rows with their line numbers. Raises Problem 422 for a file that is no list of sites."""
    text = text.lstrip("\ufeff")
    head = text.split("\n", 1)[0]
    delimiter = max(",;\t", key=head.count)
    reader = csv.DictReader(io.StringIO(text), delimiter=delimiter, strict=True)
    try:
        names = [name.strip().lower() for name in reader.fieldnames or []]
        if "name" not in names:
            raise Problem(422, "The first line must name the columns, and one of them must be “name”.")
        unknown = [name for name in names if name not in COLUMNS]
        if unknown:
            raise Problem(422, f"No column is called “{unknown[0]}”. There are: {', '.join(COLUMNS)}.")
        reader.fieldnames = names
        rows = []
        for row in reader:
            if None in row:
                raise Problem(422, f"Line {reader.line_num} has more cells than there are columns.")
            if any((cell or "").strip() for cell in row.values()):
                rows.append((reader.line_num, {name: (cell or "").strip() for name, cell in row.items()}))
            if len(rows) > MAX_SITES:
                raise Problem(422, f"The file holds more than {MAX_SITES} sites. Split it.")
    except csv.Error as error:
        raise Problem(422, f"Line {reader.line_num} cannot be read as CSV: {error}.") from None
    if not rows:
        raise Problem(422, "The file names columns but holds no site.")
    decimal_comma = delimiter == ";"
    return [(n, {k: _decimal(v) if decimal_comma else v for k, v in row.items()}) for n, row in rows]


def _decimal(cell: str) -> str:
    whole, comma, part = cell.partition(",")
    return f"{whole}.{part}" if comma and whole.isdigit() and part.isdigit() else cell


def _read_line(number: int, row: dict[str, str]) -> tuple[ImportLine, dict[str, Any] | None]:
    line = ImportLine(
        line=number, name=row["name"], place=row.get("place", ""), needed_calls=None, problem=None, slug=None
    )
    try:
        values = site_values(_form(row))
    except Problem as problem:
        return line.model_copy(update={"problem": problem.detail}), None
    return line.model_copy(update={"needed_calls": values["needed_calls"]}), values


def _form(row: dict[str, str]) -> BriefForm:
    values: dict[str, Any] = {}
    targets: dict[str, Any] = {}
    for column, cell in row.items():
        if not cell:
            continue
        cell = cell[1:] if cell[0] == "'" else cell
        if column in _HOURS:
            values[_HOURS[column]] = _minute(column, cell)
        elif column in TargetsForm.model_fields:
            targets[column] = cell
        else:
            values[_RENAMED.get(column, column)] = cell
    if "stated_calls" not in values and "people" not in values:
        raise Problem(422, "Give needed_calls, or people.")
    try:
        return BriefForm(**values, targets=TargetsForm(**targets))
    except ValidationError as error:
        raise Problem(422, what_is_wrong(error, {v: k for k, v in _RENAMED.items()})) from None


def _minute(column: str, cell: str) -> int:
    hours, colon, minutes = cell.partition(":")
    if hours.isdigit() and (not colon or minutes.isdigit()):
        return int(hours) * 60 + int(minutes or 0)
    raise Problem(422, f"{column}: “{cell}” is not a time such as 8:30.")
