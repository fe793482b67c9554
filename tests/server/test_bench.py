"""The live bench's menu of troubles: only where there is a bench, and what is chosen is what the path reads."""

from __future__ import annotations

import json
from dataclasses import asdict
from pathlib import Path
from typing import Any

from tarnfell.demo.troubles import TROUBLES
from tarnfell.standin.path import Script
from tests.server.conftest import House


def put(house: House, key: str) -> Any:
    return house.person.put("/api/bench", json={"key": key}, headers={"X-CSRF-Token": house.csrf})


def test_there_is_nothing_to_choose_without_a_bench(house: House) -> None:
    assert house.person.get("/api/bench").json == {"site": None, "chosen": "", "troubles": []}
    assert put(house, "loss").status_code == 404


def test_what_is_chosen_is_what_the_path_reads(house: House, tmp_path: Path) -> None:
    script = tmp_path / "bench-path.json"
    told = {"site": "pier", "script": str(script), "chosen": "none", "troubles": [asdict(one) for one in TROUBLES]}
    (house.folder / "bench.json").write_text(json.dumps(told))
    page = house.person.get("/api/bench").json
    assert (page["site"], page["chosen"], len(page["troubles"])) == ("pier", "none", len(TROUBLES))
    assert put(house, "loss").json["chosen"] == "loss"
    up, down = Script.parse(script.read_text()).at(0)
    assert (up.loss_pct, down.loss_pct) == (2, 0)
    assert put(house, "no-such").status_code == 404
    assert house.person.get("/api/bench").json["chosen"] == "loss"
    assert put(house, "marking-down").json["chosen"] == "marking-down"
    up, down = Script.parse(script.read_text()).at(0)
    assert (up.dscp, down.dscp, up.loss_pct) == (-1, 0, 0)


def test_every_trouble_is_one_that_the_path_knows_and_has_its_own_name() -> None:
    assert len({one.key for one in TROUBLES}) == len({one.title for one in TROUBLES}) == len(TROUBLES)
    quiet = Script.parse(json.dumps(next(one.path for one in TROUBLES if one.key == "none"))).at(0)
    for one in TROUBLES:
        script = Script.parse(json.dumps(one.path))
        assert script.at(20) != quiet or one.key == "none", one.key
