"""The live bench of a demo: what is wrong with its path, chosen by whoever tries things out.

Only a demo's data folder holds the file of troubles; anywhere else there is nothing to choose.
"""

from __future__ import annotations

import json
import os
from pathlib import Path

from flask import Blueprint, current_app

from tarnfell.server.http.api import Problem, endpoint
from tarnfell.server.place.models.bench import Bench, BenchChoice, BenchFile, BenchTrouble

blueprint = Blueprint("bench", __name__)

FILE_NAME = "bench.json"


@endpoint(blueprint, "GET", "/api/bench", response=Bench)
def show_bench() -> Bench:
    """What can be wrong with the live bench, and what is."""
    return _bench(_read())


def _bench(told: BenchFile | None) -> Bench:
    if told is None:
        return Bench(site=None, chosen="", troubles=[])
    shown = [BenchTrouble(key=one.key, title=one.title, says=one.says) for one in told.troubles]
    return Bench(site=told.site, chosen=told.chosen, troubles=shown)


@endpoint(blueprint, "PUT", "/api/bench", response=Bench)
def choose_trouble(body: BenchChoice) -> Bench:
    """Have the bench's path do something else from now on."""
    told = _read()
    found = next((one for one in told.troubles if one.key == body.key), None) if told else None
    if told is None or found is None:
        raise Problem(404, "There is no such trouble to choose here.")
    _write(Path(told.script), json.dumps(found.path, indent=1))
    told = told.model_copy(update={"chosen": found.key})
    _write(_file(), told.model_dump_json(indent=1))
    return _bench(told)


def _file() -> Path:
    return Path(current_app.config["DATA"]) / FILE_NAME


def _read() -> BenchFile | None:
    try:
        return BenchFile.model_validate_json(_file().read_text(encoding="utf-8"))
    except FileNotFoundError:
        return None


def _write(file: Path, text: str) -> None:
    """Whole or not at all: the path looks at it several times a second."""
    aside = file.with_suffix(".new")
    aside.write_text(text, encoding="utf-8")
    os.replace(aside, file)
