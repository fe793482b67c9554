"""The calls of a run, one line each: sorted, filtered, and exported with every figure."""

from __future__ import annotations

import csv
import io
from collections.abc import Callable
from dataclasses import asdict

from flask import Blueprint, Response, g, jsonify

from tarnfell.server.access import require_run
from tarnfell.server.http.api import endpoint
from tarnfell.server.load.models.runs import CallDirection, CallLine, CallList, CallsQuery
from tarnfell.server.load.runs import call_direction, clock_of
from tarnfell.store import calls as call_store
from tarnfell.store import sites as site_store
from tarnfell.store.runs import Run
from tarnfell.work.judging.calls import acceptable

blueprint = Blueprint("call_list", __name__)

_HIGHEST = 1e12

SORTS: dict[str, Callable[[CallDirection], float]] = {
    "mos": lambda d: -(d.mos if d.mos is not None else 0.0),
    "lost": lambda d: d.loss_pct,
    "late": lambda d: d.late,
    "delay": lambda d: d.delay_p50_ms if d.delay_p50_ms is not None else _HIGHEST,
    "jitter": lambda d: d.jitter_max_ms,
    "burst": lambda d: d.burst_ratio,
    "reordered": lambda d: d.reordered,
    "duplicates": lambda d: d.duplicates,
}
"""Higher is worse; a call is placed by its worse direction, worst first."""

FILTERS: dict[str, Callable[[CallDirection], bool]] = {
    "lossy": lambda d: d.lost > 0,
    "late": lambda d: d.late > 0,
    "silent": lambda d: d.received == 0,
    "remarked": lambda d: any(mark != str(d.dscp_sent) for mark in d.dscp_received),
}


@endpoint(blueprint, "GET", "/api/runs/<int:run_id>/calls", response=CallList)
def list_calls(run_id: int, query: CallsQuery) -> CallList:
    """The calls of a run, each with both directions."""
    lines = _lines(require_run(run_id))
    if query.only == "unacceptable":
        lines = [line for line in lines if line.acceptable is False]
    elif query.only != "all":
        keep = FILTERS[query.only]
        lines = [line for line in lines if any(keep(side) for side in _sides(line))]
    if query.sort != "number":
        worse = SORTS[query.sort]
        lines.sort(key=lambda line: -max(worse(side) for side in _sides(line)))
    return CallList(calls=lines[query.offset : query.offset + query.limit], total=len(lines))


@endpoint(blueprint, "GET", "/api/runs/<int:run_id>/calls.csv", produces="text/csv")
def export_csv(run_id: int) -> Response:
    """Every call of a run with every figure, a row a direction."""
    run = require_run(run_id)
    rows = [_flat(run, line, side) for line in _lines(run) for side in ("up", "down") if getattr(line, side)]
    text = io.StringIO()
    out = csv.DictWriter(text, list(rows[0]) if rows else ["run", "call", "direction"])
    out.writeheader()
    out.writerows(rows)
    headers = {"Content-Disposition": f'attachment; filename="run{run.id}-calls.csv"'}
    return Response(text.getvalue(), mimetype="text/csv", headers=headers)


@endpoint(blueprint, "GET", "/api/runs/<int:run_id>/calls.json")
def export_json(run_id: int) -> Response:
    """Every call of a run with every figure."""
    run = require_run(run_id)
    response = jsonify({"run": run.id, "clock": clock_of(g.db, run), "calls": [c.model_dump() for c in _lines(run)]})
    response.headers["Content-Disposition"] = f'attachment; filename="run{run.id}-calls.json"'
    return response


def _sides(line: CallLine) -> list[CallDirection]:
    return [side for side in (line.up, line.down) if side is not None]


def _lines(run: Run) -> list[CallLine]:
    targets = site_store.site_by_id(g.db, run.site_id).targets
    lines: dict[int, CallLine] = {}
    for one in call_store.directions_of_run(g.db, run.id):
        line = lines.setdefault(
            one.call_id,
            CallLine(id=one.call_id, number=one.number, started_us=one.started_us, acceptable=True, up=None, down=None),
        )
        setattr(line, one.direction, call_direction(one.figures))
        this = acceptable(one, targets)
        if line.acceptable is not False and this is not True:
            line.acceptable = this
    return list(lines.values())


def _flat(run: Run, line: CallLine, side: str) -> dict[str, object]:
    one: CallDirection = getattr(line, side)
    values = asdict(one)
    values["dscp_received"] = " ".join(f"{mark}:{count}" for mark, count in one.dscp_received.items())
    return {
        "run": run.id,
        "call": line.number,
        "started_us": line.started_us,
        "acceptable": line.acceptable,
        "direction": side,
        "clock": clock_of(g.db, run),
        **values,
    }
