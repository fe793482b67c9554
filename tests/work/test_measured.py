"""What was measured beside the verdict: each figure from its records, nothing of what was not, and as tables."""

from __future__ import annotations

import sqlite3
from dataclasses import replace

import pytest

from tarnfell.core.causes import Direction
from tarnfell.core.verdict.fills import FillFact
from tarnfell.report import tables
from tarnfell.report.measured import FillFound, MarkingFound, Measured, VideoFound
from tarnfell.report.tables import Table, measured_tables, runs_table
from tarnfell.store import sites as site_store
from tarnfell.store.db import connect
from tarnfell.store.remedies import add_remedy
from tarnfell.store.sites import Site
from tarnfell.work.issuing.measured import _filled, _video, measured_of
from tests.core.check.test_judge import HEALTHY
from tests.core.verdict.made_up import BRIEF, stream
from tests.server.conftest import House, house
from tests.server.test_checks import done
from tests.server.test_runs import deliver, taken
from tests.server.test_videos import VIDEO, upload
from tests.work.test_evidence import all_day

__all__ = ["house"]


def pier(house: House) -> tuple[sqlite3.Connection, Site]:
    db = connect(house.folder)
    return db, site_store.sites_of(db, 1)[0]


def found(house: House) -> tuple[Measured, dict[str, Table]]:
    db, site = pier(house)
    measured = measured_of(db, site)
    return measured, {one.title: one for one in measured_tables(measured, site.brief.target_picture)}


def test_of_what_was_not_done_nothing_is_shown(house: House) -> None:
    assert found(house) == (Measured(), {})
    assert runs_table(()) is None


def test_the_newest_check_that_came_to_its_end_is_told_with_its_services(house: House) -> None:
    done(house, replace(HEALTHY, services=()))
    done(house, HEALTHY)
    measured, shown = found(house)
    assert list(shown) == ["What the check found", "Services"]
    checked, services = shown.values()
    assert checked.says.startswith("By the check of ")
    assert [row[0] for row in checked.rows][:2] == ["Own addresses", "Gateway"]
    assert {row[1] for row in checked.rows} <= {"passed", "failed", "unproven", "not asked"}
    asked = [one.asked for one in HEALTHY.services]
    assert [(row[0], row[1]) for row in services.rows] == [
        (one.name, f"{one.host} port {one.port}, {one.protocol.upper()}") for one in asked
    ]
    assert [row[2] for row in services.rows] == [one.state for one in HEALTHY.services]
    for table in shown.values():
        assert {len(row) for row in table.rows} == {len(table.head)}
    assert measured.check is not None
    assert [(one.name, one.host, one.port, one.took_ms) for one in measured.check.services] == [
        (one.asked.name, one.asked.host, one.asked.port, one.took_ms) for one in HEALTHY.services
    ]


def test_runs_are_told_by_their_settings_the_most_frequent_first(house: House) -> None:
    all_day(house)
    for calls, video in ((2, VIDEO), (2, VIDEO), (1, [])):
        run_id = taken(house, calls=calls, seconds=4, video=video)
        assert deliver(house, run_id, upload(calls, len(video) * 2)).json == {"state": "done"}
    measured, shown = found(house)
    table = runs_table(measured.runs)
    assert table is not None
    assert [row[:6] for row in table.rows] == [
        ("pier-probe and far", "2, with video", "G.711 A-law, 20 ms", "4 s", "46", "2"),
        ("pier-probe and far", "1", "G.711 A-law, 20 ms", "4 s", "46", "1"),
    ]
    assert "other settings" not in table.says
    assert shown["Marking"].rows == (("Upload", "46", "5 of 5", "100.0 %"), ("Download", "46", "5 of 5", "100.0 %"))
    assert shown["Video"].rows[0] == ("Upload", "4 of 4", "5.00", "100.0 %", "0.0 s")


def test_of_many_settings_the_rarest_are_counted(house: House, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(tables, "MOST_SETTINGS", 1)
    for calls in (2, 2, 1):
        run_id = taken(house, calls=calls, seconds=4)
        deliver(house, run_id, upload(calls, 0))
    runs = found(house)[0].runs
    assert [(one.calls, one.runs) for one in runs] == [(2, 2), (1, 1)]  # programs are told of all
    table = runs_table(runs)
    assert table is not None
    assert (len(table.rows), table.rows[0][1]) == (1, "2")
    assert table.says.endswith(" Not listed: runs with 1 other settings, 1 in all.")


def test_marking_is_told_by_direction_and_mark_of_what_counts(house: House) -> None:
    all_day(house)
    run_id = taken(house, calls=3, seconds=4)
    deliver(house, run_id, upload(3, 0))
    db, site = pier(house)
    for number, way, mark, kept in (
        (1, "up", 46, 100.0), (2, "up", 46, 0.0), (3, "up", 0, 100.0),
        (1, "down", 46, None), (2, "down", 46, 99.9), (3, "down", 46, None),
    ):  # fmt: skip
        db.execute(
            "UPDATE direction SET dscp_sent = ?, dscp_kept_pct = ? WHERE direction = ? AND call_id = "
            "(SELECT id FROM call WHERE run_id = ? AND number = ?)",
            (mark, kept, way, run_id, number),
        )
    measured, shown = found(house)
    assert measured.marking[1] == MarkingFound("up", 46, 2, 1, 50.0)
    assert shown["Marking"].rows == (
        ("Upload", "0", "1 of 1", "100.0 %"), ("Upload", "46", "1 of 2", "50.0 %"),
        ("Download", "46", "0 of 1", "99.9 %"),
    )  # fmt: skip
    (begun_us,) = {row[0] for row in db.execute("SELECT started_us FROM call WHERE run_id = ?", (run_id,))}
    for at_us, kept_marks in ((begun_us, 3), (begun_us + 1, 0)):
        add_remedy(db, site.id, at_us, "Marking trusted", True, None)
        assert len(found(house)[0].marking) == kept_marks
    db.execute("DELETE FROM remedy")
    db.execute("UPDATE site SET browser_counts = 0")
    db.execute("UPDATE probe SET kind = 'browser'")
    assert found(house)[0].marking == ()


def fill(
    number: int, way: Direction, day: str, minute: float, full: bool, idle: float | None, mos: float | None,
    marked: float | None,
) -> FillFact:  # fmt: skip
    return FillFact(
        fill_id=number, direction=way, day=day, minute=minute, busy=True, full=full, idle_mos=idle, mos=mos,
        mos_marked=marked, kept_pct=None,
    )  # fmt: skip


def test_fills_are_told_the_newest_first_and_no_more_than_fit(monkeypatch: pytest.MonkeyPatch) -> None:
    fills = [
        fill(1, "up", "2026-03-02", 9 * 60 + 5.5, True, 4.36, 1.0, 3.9),
        fill(2, "down", "2026-03-03", 600.0, False, 4.36, 4.2, None),
        fill(3, "up", "2026-03-02", 8 * 60, True, None, None, None),
    ]
    told = _filled(fills)
    assert told[1] == FillFound("2026-03-02T09:05", "up", True, 4.36, 1.0, 3.9)
    (table,) = measured_tables(Measured(fills=told), 3.5)
    assert table.rows == (
        ("Tue 03 Mar 10:00", "download", "no", "4.36", "4.20", "–"),
        ("Mon 02 Mar 09:05", "upload", "yes", "4.36", "1.00", "3.90"),
        ("Mon 02 Mar 08:00", "upload", "yes", "–", "–", "–"),
    )
    assert "newest" not in table.says
    monkeypatch.setattr(tables, "MOST_FILLS", 2)
    (table,) = measured_tables(Measured(fills=told), 3.5)
    assert (len(table.rows), table.says.endswith(" The newest 2 of 3.")) == (2, True)


def test_pictures_are_told_by_direction_without_what_an_end_spoiled() -> None:
    at = ("2026-03-02", 600.0)
    video = [
        stream(1, at, "up", score=3.5, whole=450, frozen_ms=1500.0), stream(2, at, "up", score=3.49),
        stream(3, at, "up", score=1.0, tainted=True), stream(4, at, "up", score=None), stream(1, at, "down"),
    ]  # fmt: skip
    told = tuple(_video(video, replace(BRIEF, target_picture=3.5)))
    assert told[0] == VideoFound("up", 2, 1, 3.495, 1800, 1350, 1500.0)
    (table,) = measured_tables(Measured(video=told), 3.5)
    assert "3.5 of 5 is required" in table.says
    assert table.rows == (
        ("Upload", "1 of 2", "3.50", "75.0 %", "1.5 s"),
        ("Download", "1 of 1", "5.00", "100.0 %", "0.0 s"),
    )
