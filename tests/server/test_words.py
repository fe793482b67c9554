"""What the screens say in words: next step, stages, live figures, reasons; and the front end's files."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any
from xml.etree import ElementTree

import pytest

from tarnfell.core.daysheet import Day
from tarnfell.core.path import Leg
from tarnfell.report.figures import RAMP, day_sheet_svg, depth, paint, path_svg, verdict_mark_svg
from tarnfell.server.http.app import create_app
from tarnfell.store.db import connect
from tests.server.conftest import House, record_file
from tests.server.test_runs import deliver, progress, taken

WEB = Path(__file__).parents[2] / "web"


def site(house: House) -> dict[str, Any]:
    return dict(house.person.get("/api/sites/pier").json)


def stands(house: House) -> dict[str, str]:
    return {s["key"]: s["stands"] for s in site(house)["stages"]}


def test_next_step_from_nothing_to_report(house: House) -> None:
    assert site(house)["next"]["action"] == "load"
    assert stands(house)["judge"] == "nothing to judge yet"
    run_id = taken(house)
    step = site(house)["next"]
    assert (step["action"], step["run_id"]) == ("open-run", run_id)
    assert stands(house)["load"] == "a run is in progress"
    deliver(house, run_id, record_file())
    after = site(house)
    assert after["verdict"]["word"] == "not shown yet"
    assert (after["next"]["words"], after["next"]["action"]) == ("Schedule recurring calls in business hours", "plan")
    assert "To close it: 121 more ten-minute moments of business hours" in after["next"]["why"]
    assert stands(house)["load"] == "none of 2 concurrent calls shown"
    assert stands(house)["judge"] == "2 of 6 requirements shown"


def test_next_step_asks_for_the_calls_that_are_needed(house: House) -> None:
    run_id = taken(house, calls=1)
    deliver(house, run_id, record_file(calls=1))
    db = connect(house.folder)
    # One call for so many moments that its share is shown.
    db.execute("UPDATE site SET required_share_pct = 50, needed_calls = 2")
    for n in range(6):
        run_id = taken(house, calls=1)
        deliver(house, run_id, record_file(calls=1))
        db.execute("UPDATE call SET started_us = started_us + ? WHERE run_id = ?", (n * 600_000_000, run_id))
    step = site(house)["next"]
    assert (step["words"], step["action"]) == ("Schedule 2 concurrent calls in business hours", "plan")
    assert "2 concurrent calls: At most 1 concurrent in business hours so far." in step["why"]


def test_silent_probe_is_said(house: House) -> None:
    assert stands(house)["place"] == "1 probe online"
    connect(house.folder).execute("UPDATE probe SET last_contact_us = 1")
    assert stands(house)["place"] == "1 probe, offline"
    assert site(house)["probes"][0]["online"] is False


def test_brief_is_arithmetic(house: House) -> None:
    brief = site(house)["brief"]
    assert brief["business_hours"] == "Mon–Fri 08:00–18:00"
    assert brief["line_share_up_pct"] == pytest.approx(2 * 84 / 100)
    connect(house.folder).execute("UPDATE site SET open_days = '16', needed_calls = 50")
    brief = site(house)["brief"]
    assert brief["business_hours"] == "Mon, Sat 08:00–18:00"
    assert brief["line_share_up_pct"] == pytest.approx(50 * 84 / 100)


def live(house: House, run_id: int) -> list[dict[str, Any]]:
    return list(house.person.get(f"/api/runs/{run_id}/live").json["seconds"])


def tell(house: House, run_id: int, body: dict[str, Any]) -> None:
    answer = house.probe("POST", f"/api/probe/jobs/{run_id}/progress", json=body)
    assert answer.status_code == 200, answer.text


def test_live_rates_are_differences_and_bridge_a_missed_second(house: House) -> None:
    run_id = taken(house)
    for second, received in ((1, 45), (2, 95), (4, 195)):
        tell(house, run_id, progress(second, received))
    assert [s["up"]["rate"] for s in live(house, run_id)] == [45, 50, 50]
    assert [len(s["down"]["call_rates"]) for s in live(house, run_id)] == [2, 2, 2]


def test_live_quality_is_of_the_second_alone(house: House) -> None:
    run_id = taken(house)
    tell(house, run_id, progress(1, 50))
    tell(house, run_id, progress(2, 75, reached=100))
    tell(house, run_id, progress(3, 125, reached=150))
    first, second, third = (s["up"]["mos"] for s in live(house, run_id))
    assert first == third
    assert second < 2.5
    assert live(house, run_id)[1]["up"]["missing"] == 50


def test_a_call_of_which_nothing_came_has_no_quality_yet(house: House) -> None:
    run_id = taken(house)
    tell(house, run_id, progress(1, 0))
    (second,) = live(house, run_id)
    assert second["up"]["mos"] is None
    assert second["up"]["call_mos"] == [None, None]
    assert second["up"]["rate"] == 0


@pytest.mark.parametrize("calls", [1, 3])
def test_progress_of_another_number_of_calls_is_turned_away(house: House, calls: int) -> None:
    run_id = taken(house)
    answer = house.probe("POST", f"/api/probe/jobs/{run_id}/progress", json=progress(1, 50, calls=calls))
    assert (answer.status_code, "has 2 calls" in answer.json["detail"]) == (422, True)


@pytest.mark.parametrize(
    ("record", "words"),
    [
        (record_file(lost=tuple(range(100))), "1 of 2 calls carried no audio at all"),
        (record_file(lost=(5, 50)), "2 packets were lost one by one."),
        (record_file(), "Every packet arrived in time."),
    ],
)
def test_why_in_one_sentence(house: House, record: bytes, words: str) -> None:
    run_id = taken(house)
    deliver(house, run_id, record)
    assert words in house.person.get(f"/api/runs/{run_id}").json["up"]["why"]


def test_evaluation_follows_new_evidence(house: House) -> None:
    run_id = taken(house)
    deliver(house, run_id, record_file())
    assert site(house)["evidence"]["calls"] == 2
    run_id = taken(house)
    deliver(house, run_id, record_file())
    assert site(house)["evidence"]["calls"] == 4


# The front end's files


def test_front_end_is_served_with_its_addresses(house: House, tmp_path: Path) -> None:
    web = tmp_path / "dist"
    (web / "assets").mkdir(parents=True)
    (web / "index.html").write_text("<title>page</title>")
    (web / "assets" / "a.js").write_text("1")
    browser = create_app(house.folder, web).test_client()
    for address in ("/", "/sites/pier", "/runs/7?x=1"):
        page = browser.get(address)
        assert (page.status_code, b"<title>page" in page.data) == (200, True)
        assert page.headers["Cache-Control"] == "no-cache"
    assert "immutable" in browser.get("/assets/a.js").headers["Cache-Control"]
    secret = (house.folder / "session.key").read_bytes()
    for outside in ("/../session.key", "/%2e%2e/session.key", "/assets/../../session.key"):
        assert secret not in browser.get(outside).data
    assert browser.get("/api/nothing").status_code == 404


def test_front_end_not_built_is_said(house: House) -> None:
    answer = house.app.test_client().get("/")
    assert (answer.status_code, "make web" in answer.json["detail"]) == (404, True)


# The report's pictures


def test_paper_and_screen_share_one_ramp() -> None:
    css = (WEB / "src" / "app" / "styles.css").read_text()
    light = css[css.index(":root {") : css.index('[data-theme="dark"] {')]
    stops = re.findall(r"--depth-\d: (#[0-9a-f]{6});", light)
    assert stops == ["#" + "".join(f"{c:02x}" for c in stop) for stop in RAMP]
    scale = (WEB / "src" / "charts" / "depth.ts").read_text()
    assert "CALM_MOS = 4.35" in scale
    assert "BAD_MOS = 2.6" in scale
    assert (depth(4.35), depth(2.6), depth(1.0), depth(4.5)) == (0, 1, 1, 0)


def test_ramp_darkens_all_the_way() -> None:
    def lightness(colour: str) -> float:
        r, g, b = (int(colour[i : i + 2], 16) for i in (1, 3, 5))
        return 0.2126 * r + 0.7152 * g + 0.0722 * b

    steps = [lightness(paint(i / 20)) for i in range(21)]
    assert steps == sorted(steps, reverse=True)


def test_pictures_are_whole_and_escape_names() -> None:
    day = Day("2026-11-16")
    day.up.mos[60], day.down.mos[60] = 2.0, 4.4
    empty, leg = Leg(0, None, None, None), Leg(5, 1.25, 88.0, 3.2)
    for svg in (
        day_sheet_svg([day], 480, 1080, "12345"),
        path_svg("<script>", "far & away", leg, empty),
        *(
            verdict_mark_svg(w, p)
            for w in ("ready", "ready with conditions", "not ready", "not shown yet")
            for p in (0, 1)
        ),
    ):
        ElementTree.fromstring(svg)
    picture = day_sheet_svg([day], 480, 1080, "12345")
    assert paint(depth(2.0)) in picture
    assert picture.count("<rect") == 2
