"""Many sites at once, as a CSV file: read line by line, with a sentence for each that cannot be; and written."""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Callable
from typing import Any

from flask import Blueprint, Response, g
from pydantic import ValidationError

from tarnfell.exchange.cells import guarded, without_guard
from tarnfell.server.access import require_engagement
from tarnfell.server.brief.briefs import rewrite_brief
from tarnfell.server.brief.form import form_of, site_values
from tarnfell.server.brief.models.brief import BriefForm, ImportLine, SiteImport, SiteImportAnswer, TargetsForm
from tarnfell.server.http.api import Problem, endpoint
from tarnfell.server.http.sentences import what_is_wrong
from tarnfell.store import sites as site_store
from tarnfell.store.db import writing
from tarnfell.store.sites import Site

blueprint = Blueprint("site_list", __name__)

MAX_SITES = 1000
LINES_A_SITE = 20
"""A cell may hold line ends; more than so many to a site are no list."""
_HOURS = {"opens": "open_minute", "closes": "close_minute"}
_RENAMED = {"business_days": "open_days", "needed_calls": "stated_calls"}
COLUMNS = (
    "name", "place", "address", "time_zone", "opens", "closes", "business_days", "medium", "down_kbps", "up_kbps",
    "provider", "people", "calls_per_hour", "minutes_per_call", "blocking_pct", "needed_calls", "codec", "ptime_ms",
    "ceiling_pct", "metered_mb", "srtp", "pppoe", "vlan_tags", "tunnel_bytes", "ipv6", "switches_by", "firewall_by",
    "line_by", "blackouts", "contacts", "video", *TargetsForm.model_fields,
)  # fmt: skip
"""In the order they are written; a file may hold any of them in any order, ``name`` always."""
KEY = "name"
"""A line whose name a site of the engagement has changes that site; every other line makes a new one."""
NONE = "none"
"""Empties a field; an empty cell leaves it as it is, or at its default."""


@endpoint(blueprint, "POST", "/api/engagements/<slug>/site-list", response=SiteImportAnswer, max_body=4 << 20)
def import_sites(slug: str, body: SiteImport) -> SiteImportAnswer:
    """Read a list of sites; with ``keep``, make and change those that can be."""
    engagement = require_engagement(slug)
    if not body.keep:
        return SiteImportAnswer(lines=[line for line, _ in _read(engagement.id, body.csv)], state="read")
    made = []
    with writing(g.db):
        sites = _by_name(engagement.id)
        for line, values in _read(engagement.id, body.csv):
            if values is not None:
                known = sites.get(_key(line.name))
                if known:
                    rewrite_brief(g.db, known, values, g.user.id)
                else:
                    new = site_store.free_slug(g.db, "site", line.name)
                    site_store.add_site(g.db, engagement.id, slug=new, **values)
                    line = line.model_copy(update={"slug": new})
            made.append(line)
    return SiteImportAnswer(lines=made, state="kept")


def _key(name: str) -> str:
    return name.strip().lower()


def _by_name(engagement_id: int) -> dict[str, Site]:
    both = [*site_store.sites_of(g.db, engagement_id, archived=True), *site_store.sites_of(g.db, engagement_id)]
    return {_key(site.name): site for site in both}


def _read(engagement_id: int, text: str) -> list[tuple[ImportLine, dict[str, object] | None]]:
    sites, seen = _by_name(engagement_id), dict[str, int]()
    read = []
    for number, row in rows_of(text):
        line, values = _read_line(number, row, sites.get(_key(row[KEY])))
        first = seen.setdefault(_key(row[KEY]), number)
        if first != number and line.problem is None:
            line, values = line.model_copy(update={"problem": f"Line {first} has the same name."}), None
        read.append((line, values))
    return read


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
        flat |= {column: _clock(flat[name]) for column, name in _HOURS.items()}
        flat |= {
            "blackouts": "; ".join(
                f"{b.days} {_clock(b.from_minute)}-{_clock(b.to_minute)} {b.why}".strip() for b in form.blackouts
            ),
            "contacts": "; ".join(" | ".join((c.role, c.name, c.email, c.phone)) for c in form.contacts),
            "video": "; ".join(f"{v.profile} x {v.streams}" for v in form.video),
        }
        out.writerow([_cell(flat[column], column) for column in COLUMNS])
    headers = {"Content-Disposition": f'attachment; filename="{slug}-sites.csv"'}
    return Response(text.getvalue(), mimetype="text/csv", headers=headers)


def _clock(minute: int) -> str:
    return f"{minute // 60}:{minute % 60:02d}"


def _cell(value: Any, column: str) -> str:
    if value is None:
        return "" if _default(column) is None else NONE
    if isinstance(value, bool):
        return "yes" if value else "no"
    return guarded(f"{value:g}" if isinstance(value, float) else str(value))


def rows_of(text: str) -> list[tuple[int, dict[str, str]]]:
    """The file's rows with their line numbers. Raises Problem 422 for a file that is no list of sites."""
    text = text.lstrip("\ufeff")
    if text.count("\n") > LINES_A_SITE * MAX_SITES:
        raise Problem(422, f"The file holds more than {LINES_A_SITE * MAX_SITES} lines. Split it.")
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
                rows.append((reader.line_num, {name: without_guard(told or "") for name, told in row.items()}))
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


def _default(column: str) -> Any:
    fields = {**BriefForm.model_fields, **TargetsForm.model_fields}
    field = fields[_HOURS.get(column) or _RENAMED.get(column, column)]
    return field.get_default(call_default_factory=True)


def _read_line(number: int, row: dict[str, str], known: Site | None) -> tuple[ImportLine, dict[str, object] | None]:
    line = ImportLine(
        line=number,
        name=row["name"],
        place=row.get("place", ""),
        needed_calls=None,
        problem=None,
        change="new",
        slug=None,
    )
    try:
        if known and known.archived_us is not None:
            raise Problem(422, "An archived site has this name. Restore it first, or give another name.")
        values = site_values(_form(row, known))
    except Problem as problem:
        return line.model_copy(update={"problem": problem.detail}), None
    if known:
        same = all(getattr(known, name) == value for name, value in values.items())
        line = line.model_copy(update={"change": "unchanged" if same else "changed", "slug": known.slug})
    return line.model_copy(update={"needed_calls": values["needed_calls"]}), values


def _form(row: dict[str, str], known: Site | None) -> BriefForm:
    """What a line says, over what the site has or else the defaults."""
    stands = form_of(known).model_dump() if known else {}
    targets: dict[str, object] = stands.pop("targets", {})
    values: dict[str, object] = {**stands}
    for column, cell in row.items():
        if not cell:
            continue
        name = _HOURS.get(column) or _RENAMED.get(column, column)
        into = targets if column in TargetsForm.model_fields else values
        if cell.lower() == NONE and column != KEY:
            default = _default(column)
            into[name] = [] if isinstance(default, list) else "" if isinstance(default, str) else None
        elif column in _LISTS:
            into[name] = [_LISTS[column](entry.strip()) for entry in cell.split(";") if entry.strip()]
        else:
            into[name] = _minute(column, cell) if column in _HOURS else cell
    if not known and "stated_calls" not in values and "people" not in values:
        raise Problem(422, "Give needed_calls, or people.")
    try:
        return BriefForm.model_validate({**values, "targets": TargetsForm.model_validate(targets)})
    except ValidationError as error:
        raise Problem(422, what_is_wrong(error, {v: k for k, v in _RENAMED.items()})) from None


def _blackout(entry: str) -> dict[str, object]:
    found = re.fullmatch(r"([1-7]+) (\d{1,2}(?::\d\d)?)\s*[-–]\s*(\d{1,2}(?::\d\d)?)(?: (.*))?", entry)
    if not found:
        raise Problem(422, f"blackouts: “{entry}” is not as “12345 12:00-13:00 lunch”.")
    begin, end = (_minute("blackouts", cell) for cell in (found[2], found[3]))
    return {"days": found[1], "from_minute": begin, "to_minute": end, "why": found[4] or ""}


def _contact(entry: str) -> dict[str, object]:
    cells = [cell.strip() for cell in entry.split("|")]
    if len(cells) > 4:
        raise Problem(422, f"contacts: “{entry}” is not as “role | name | email | phone”.")
    return dict(zip(("role", "name", "email", "phone"), [*cells, "", "", ""], strict=False))


def _video(entry: str) -> dict[str, object]:
    found = re.fullmatch(r"(\S+)\s*[x×]\s*(\d+)", entry)
    if not found:
        raise Problem(422, f"video: “{entry}” is not as “720p30 x 4”.")
    return {"profile": found[1], "streams": int(found[2])}


_LISTS: dict[str, Callable[[str], dict[str, object]]] = {"blackouts": _blackout, "contacts": _contact, "video": _video}


def _minute(column: str, cell: str) -> int:
    hours, colon, minutes = cell.partition(":")
    if hours.isdigit() and (not colon or (minutes.isdigit() and int(minutes) < 60)):
        return int(hours) * 60 + int(minutes or 0)
    raise Problem(422, f"{column}: “{cell}” is not a time such as 8:30.")
