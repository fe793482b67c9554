"""The database: migrations that keep data, one writer, uploads that survive a kill."""

from __future__ import annotations

import json
import os
import shutil
import signal
import sqlite3
import subprocess
import sys
import time
from pathlib import Path

import pytest

from tarnfell.core.verdict.decisions import Decision
from tarnfell.store import db as database
from tarnfell.store import evidence, jobs, people, places, plans, probes, runs, sites, tasks
from tarnfell.store.brands import Brand, brand_of
from tarnfell.store.browsers import socket_waits, way_of
from tarnfell.store.db import FILE_NAME, SchemaError, connect, open_database, writing
from tarnfell.store.decisions import decisions_of
from tarnfell.store.engagements import add_engagement, presets_of
from tarnfell.store.lock import ROLES, Role, only_one

A_PROBE = (
    "INSERT INTO engagement (id, slug, name, created_us) VALUES (1, 'e', 'E', 5);"
    "INSERT INTO site (id, engagement_id, slug, name, time_zone, needed_calls, codec, ptime_ms, created_us) "
    "VALUES (1, 1, 'pier', 'Pier', 'UTC', 2, 'g711a', 20, 5);"
    "INSERT INTO test_point (id, site_id, name, kind, created_us) VALUES (1, 1, 'desk', 'desk', 5);"
    "INSERT INTO probe (id, site_id, test_point_id, name, created_us) VALUES (1, 1, 1, 'p', 5);"
)
A_FAR_END = (
    "INSERT INTO far_end (id, kind, name, host, port, key, created_us) "
    "VALUES (1, 'host', 'f', '192.0.2.1', 4870, 'k', 5);"
)
A_WATCH = (
    "INSERT INTO watch (id, probe_id, far_end_id, interval_ms, dscp, wanted, version, changed_us, changes) "
    "VALUES (1, 1, 1, 1000, 46, 1, 1, 5, 7);"
)


def slugs(db: sqlite3.Connection) -> list[str]:
    return [row[0] for row in db.execute("SELECT slug FROM engagement ORDER BY slug")]


def test_opening_again_keeps_everything(tmp_path: Path) -> None:
    add_engagement(open_database(tmp_path), "a", "A")
    assert slugs(open_database(tmp_path)) == ["a"]


def test_every_table_is_strict_and_keys_hold(tmp_path: Path) -> None:
    db = open_database(tmp_path)
    tables = db.execute("SELECT name, strict FROM pragma_table_list WHERE schema = 'main' AND name NOT LIKE 'sqlite_%'")
    assert {(t["name"], t["strict"]) for t in tables} >= {("run", 1), ("call", 1), ("direction", 1), ("site", 1)}
    with pytest.raises(sqlite3.IntegrityError):
        db.execute("INSERT INTO call (run_id, number, started_us, record) VALUES (9, 1, 1, x'00')")
    assert db.execute("PRAGMA journal_mode").fetchone()[0] == "wal"


def test_a_later_step_is_applied_to_old_data(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    add_engagement(open_database(tmp_path), "a", "A")
    steps = database._steps()
    steps[max(steps) + 1] = "ALTER TABLE engagement ADD COLUMN colour TEXT NOT NULL DEFAULT 'sand';"
    monkeypatch.setattr(database, "_steps", lambda: steps)
    row = open_database(tmp_path).execute("SELECT slug, colour FROM engagement").fetchone()
    assert tuple(row) == ("a", "sand")


def test_briefs_presets_and_results_of_before_the_moments_come_along(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Calls asked for become moments, a tolerant target keeps a tolerant bound, and every result is judged anew."""
    steps = database._steps()
    monkeypatch.setattr(database, "_steps", lambda: {n: sql for n, sql in steps.items() if n < 7})
    db = open_database(tmp_path)
    db.executescript(
        "INSERT INTO engagement (id, slug, name, created_us) VALUES (1, 'e', 'E', 5);"
        "INSERT INTO site (id, engagement_id, slug, name, time_zone, needed_calls, codec, ptime_ms, target_mos, "
        "required_calls, created_us) VALUES (1, 1, 'pier', 'Pier', 'UTC', 2, 'g711a', 20, 3.6, 381, 5);"
        "INSERT INTO spot (id, site_id, name, kind, created_us) VALUES (1, 1, 'desk', 'desk', 5);"
        "INSERT INTO probe (id, site_id, spot_id, name, created_us) VALUES (1, 1, 1, 'p', 5);"
        "INSERT INTO far_end (id, kind, name, host, port, key, created_us) "
        "VALUES (1, 'host', 'f', '192.0.2.1', 1, 'k', 5);"
        "INSERT INTO run (id, site_id, probe_id, far_end_id, purpose, state, codec, ptime_ms, calls, seconds, dscp, "
        "created_us) VALUES (1, 1, 1, 1, 'placed', 'done', 'g711a', 20, 2, 5, 46, 8), "
        "(2, 1, 1, 1, 'placed', 'failed', 'g711a', 20, 2, 5, 46, 9);"
    )
    kept = {"target_mos": 4.1, "required_share_pct": 97, "required_days": 7, "required_busy_hours": 40}
    db.execute(
        "INSERT INTO preset (engagement_id, title, targets, created_us) VALUES (1, 'Ours', ?, 5)",
        (json.dumps({**kept, "required_calls": 200}),),
    )
    db.close()
    monkeypatch.setattr(database, "_steps", lambda: steps)
    db = open_database(tmp_path)
    site = sites.site_by_slug(db, "pier")
    assert site is not None
    assert (site.required_moments, site.min_stretch_mos) == (381, 2.6)
    (preset,) = presets_of(db, 1)
    assert (preset.targets.required_moments, preset.targets.target_mos) == (200, 4.1)
    assert [tuple(r) for r in db.execute("SELECT id, stale, cut_reason FROM run ORDER BY id")] == [
        (1, 1, None),
        (2, 0, None),
    ]


def test_stops_of_before_keep_their_reason(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    steps = database._steps()
    monkeypatch.setattr(database, "_steps", lambda: {n: sql for n, sql in steps.items() if n < 10})
    db = open_database(tmp_path)
    db.executescript(
        A_PROBE + "INSERT INTO far_end (id, kind, name, host, port, key, created_us) "
        "VALUES (1, 'host', 'f', '192.0.2.1', 1, 'k', 5);"
    )
    for number, asked in ((1, 0), (2, 1), (3, 1)):
        db.execute(
            "INSERT INTO run (id, site_id, probe_id, far_end_id, purpose, state, codec, ptime_ms, calls, seconds, "
            "dscp, created_us, stop_asked) VALUES (?, 1, 1, 1, 'placed', 'done', 'g711a', 20, 2, 5, 46, 8, ?)",
            (number, asked),
        )
    words = "Stopped by itself: at least 30 % of packets were missing for 10 seconds."
    db.execute("INSERT INTO run_event (run_id, at_us, state, words) VALUES (3, 9, 'running', ?)", (words,))
    db.close()
    monkeypatch.setattr(database, "_steps", lambda: steps)
    db = open_database(tmp_path)
    assert [runs.run_by_id(db, n).stop_reason for n in (1, 2, 3)] == [None, "asked", "heavy-loss"]


def test_documents_of_before_stay_with_their_site(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    steps = database._steps()
    monkeypatch.setattr(database, "_steps", lambda: {n: sql for n, sql in steps.items() if n < 43})
    db = open_database(tmp_path)
    db.executescript(
        "INSERT INTO engagement (id, slug, name, created_us) VALUES (1, 'e', 'E', 5);"
        "INSERT INTO site (id, engagement_id, slug, name, time_zone, needed_calls, codec, ptime_ms, created_us) "
        "VALUES (7, 1, 'pier', 'Pier', 'UTC', 2, 'g711a', 20, 5);"
        "INSERT INTO task (id, kind, site_id, mark, state, tries, asked_us, ended_us, sha256) "
        "VALUES (3, 'report as PDF', 7, 'm', 'ready', 1, 5, 6, 'abc'), "
        "(4, 'report as PDF', 7, 'n', 'waiting', 0, 8, NULL, NULL);"
    )
    db.close()
    monkeypatch.setattr(database, "_steps", lambda: steps)
    db = open_database(tmp_path)
    old, waiting = tasks.task_by_id(db, 3), tasks.next_task(db, but=())
    assert (old.site_id, old.engagement_id, old.mark, old.state, old.sha256) == (7, None, "m", "ready", "abc")
    assert waiting is not None
    assert (waiting.id, waiting.kind, waiting.asked_us) == (4, "report as PDF", 8)
    with pytest.raises(sqlite3.IntegrityError):  # of both, or of neither
        tasks.ask(db, "report as PDF", "m", None)


BEFORE_JOBS = Path(__file__).parents[1] / "reference" / "data-before-jobs.sql"


def test_runs_and_commands_of_before_become_jobs(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Runs keep their numbers, their life and all that hangs on them; commands get numbers of their own."""
    steps = database._steps()
    monkeypatch.setattr(database, "_steps", lambda: {n: sql for n, sql in steps.items() if n < 12})
    db = open_database(tmp_path)
    db.executescript(BEFORE_JOBS.read_text())
    db.close()
    monkeypatch.setattr(database, "_steps", lambda: steps)
    db = open_database(tmp_path)
    run = runs.run_by_id(db, 3)
    assert (run.state, run.created_us, run.taken_us, run.begun_us, run.ended_us) == ("done", 10, 11, 12, 19)
    assert (run.stop_reason, run.name, run.note, run.tainted) == ("asked", "noon", "a note", 1)
    assert (run.seconds, run.record_sha256, run.cut_reason, run.cut_after_s) == (5.5, "sha", "cut off", 2.5)
    assert (run.site_id, run.probe_id, run.far_end_id, jobs.asker(db, 3)) == (1, 1, 1, "Ada")
    assert db.execute("SELECT medium FROM run_job WHERE id = 3").fetchone()[0] == "Wi-Fi"
    failed = runs.run_by_id(db, 9)
    assert (failed.purpose, failed.state, failed.failure) == ("watch", "failed", "why")
    assert (failed.failure_code, failed.server_reachable, failed.taken_us) == ("silent", 1, None)
    assert [(e.at_us, e.state, e.words) for e in jobs.events(db, 3)] == [
        (10, "waiting", "asked"), (11, "taken", "t"), (12, "running", "r"), (19, "done", "d")
    ]  # fmt: skip
    assert jobs.seconds_after(db, 3, 0) == [(1, '{"second": 1}')]
    assert db.execute("SELECT count(*) FROM call JOIN run ON run.id = call.run_id").fetchone()[0] == 1
    told = jobs.told_to(db, 1, 10)
    assert [(job.id, job.kind, job.state) for job in told] == [
        (13, "end", "waiting"), (11, "update", "failed"), (10, "distances", "done"), (3, "calls", "done")
    ]  # fmt: skip
    assert (told[2].arguments, told[2].result, told[2].taken_us) == ({"far_ends": []}, {"distances": []}, 41)
    assert "updated before the probe told" in str(told[1].failure)
    assert [e.state for e in jobs.events(db, 10)] == ["waiting", "taken", "done"]
    assert plans.plan_by_id(db, 1).form == {"shape": "ramp"}
    assert db.execute("PRAGMA foreign_key_check").fetchall() == []


def test_data_of_the_first_release_comes_along(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    steps = database._steps()
    monkeypatch.setattr(database, "_steps", lambda: {1: steps[1]})
    db = open_database(tmp_path)
    db.executescript(
        "INSERT INTO engagement VALUES (1, 'e', 'E', '', 5);"
        "INSERT INTO site (id, engagement_id, slug, name, time_zone, needed_calls, codec, ptime_ms, created_us) "
        "VALUES (1, 1, 'pier', 'Pier', 'Europe/London', 2, 'g711a', 20, 5);"
        "INSERT INTO far_end VALUES (7, 1, 'far', 'west', '192.0.2.1', 4870, 'key', 5);"
        "INSERT INTO probe (id, site_id, name, spot, secret_hash, last_heard_us, created_us) "
        "VALUES (3, 1, 'old', 'cellar', 'hash', 9, 5), (4, 1, 'waits', '', NULL, NULL, 6);"
        "INSERT INTO run (id, site_id, probe_id, far_end_id, purpose, state, codec, ptime_ms, calls, seconds, dscp, "
        "created_us) VALUES (11, 1, 3, 7, 'placed', 'done', 'g711a', 20, 2, 5, 46, 8);"
    )
    db.close()
    monkeypatch.setattr(database, "_steps", lambda: steps)
    db = open_database(tmp_path)
    assert [(f.id, f.name, f.kind) for f in places.far_ends_of(db, 1)] == [(7, "far", "host")]
    assert [(p.name, p.test_point, p.enrolled_us, p.last_contact_us) for p in probes.probes_of(db, 1)] == [
        ("old", "cellar", 9, 9),
        ("waits", "first spot", None, None),
    ]
    run = runs.run_by_id(db, 11)
    assert (run.probe_id, run.far_end_id) == (3, 7)
    site = sites.site_by_slug(db, "pier")
    assert site is not None
    assert (site.blackouts, site.ceiling_pct, site.max_delay_ms) == ((), None, None)
    assert (site.required_moments, site.min_stretch_mos) == (125, 3.1)
    assert db.execute("PRAGMA foreign_keys").fetchone()[0] == 1
    with pytest.raises(sqlite3.IntegrityError):
        db.execute("DELETE FROM far_end WHERE id = 7")


def test_an_evaluation_that_was_kept_is_kept_on(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Else every site with much evidence would be evaluated anew after an upgrade, in whatever request came first."""
    steps = database._steps()
    monkeypatch.setattr(database, "_steps", lambda: {n: sql for n, sql in steps.items() if n < 54})
    db = open_database(tmp_path)
    db.executescript(
        "INSERT INTO engagement (id, slug, name, created_us) VALUES (1, 'e', 'E', 5);"
        "INSERT INTO site (id, engagement_id, slug, name, time_zone, needed_calls, codec, ptime_ms, created_us) "
        "VALUES (1, 1, 'pier', 'Pier', 'UTC', 2, 'g711a', 20, 5);"
        "INSERT INTO evaluation VALUES (1, 'mark', CAST('{}' AS BLOB), 7);"
    )
    db.close()
    monkeypatch.setattr(database, "_steps", lambda: steps)
    db = open_database(tmp_path)
    assert evidence.kept_of(db, 1, "evaluation") == evidence.Kept("mark", b"{}")
    assert evidence.kept_of(db, 1, "measured") is None


def test_a_step_that_leaves_a_pointer_to_nothing_is_taken_back(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    add_engagement(open_database(tmp_path), "a", "A")
    steps = database._steps()
    steps[max(steps) + 1] = "INSERT INTO preset VALUES (1, 99, 'Ours', '{}', 5);"
    monkeypatch.setattr(database, "_steps", lambda: steps)
    with pytest.raises(SchemaError, match=r"is damaged.* rows of preset pointing at nothing"):
        open_database(tmp_path)
    assert connect(tmp_path).execute("SELECT count(*) FROM preset").fetchone()[0] == 0


def test_a_broken_step_changes_nothing_nor_do_those_before_it(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """The program that wrote the data can still be run."""
    open_database(tmp_path)
    steps = database._steps()
    last = max(steps)
    steps[last + 1] = "CREATE TABLE extra (id INTEGER) STRICT;"
    steps[last + 2] = "CREATE TABLE more (id INTEGER) STRICT; CREATE TABLE nonsense (;"
    monkeypatch.setattr(database, "_steps", lambda: steps)
    with pytest.raises(SchemaError, match=f"The database in {tmp_path} cannot be opened or written: .*syntax error"):
        open_database(tmp_path)
    db = connect(tmp_path)
    assert db.execute("PRAGMA user_version").fetchone()[0] == last
    assert db.execute("SELECT count(*) FROM sqlite_master WHERE name IN ('extra', 'more')").fetchone()[0] == 0


def test_two_that_open_a_folder_at_once_upgrade_it_once(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    open_database(tmp_path).close()
    steps = database._steps()
    steps[max(steps) + 1] = "CREATE TABLE extra (id INTEGER) STRICT;"
    monkeypatch.setattr(database, "_steps", lambda: steps)
    version, met = database._version, []

    def another_is_quicker(db: sqlite3.Connection) -> int:
        have = version(db)
        if not met:
            met.append(have)
            database.migrate(connect(tmp_path))
        return have

    monkeypatch.setattr(database, "_version", another_is_quicker)
    assert version(open_database(tmp_path)) == met[0] + 1


@pytest.mark.parametrize("role", ROLES)
def test_no_upgrade_while_an_older_program_works_with_the_folder(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, role: Role
) -> None:
    open_database(tmp_path).close()
    steps = database._steps()
    last = max(steps)
    steps[last + 1] = "CREATE TABLE extra (id INTEGER) STRICT;"
    with only_one(tmp_path, role):
        own = (tmp_path / f"{role}.lock").read_text()
        (tmp_path / f"{role}.lock").write_text("process 7 on pier since 2026-01-01 00:00:00 UTC\n")
        open_database(tmp_path).close()  # nothing to upgrade
        monkeypatch.setattr(database, "_steps", lambda: steps)
        monkeypatch.setattr(database, "_ENDING_S", 0.2)
        with pytest.raises(SchemaError, match=f"a {role} of that version works with it: process 7 on pier since 2026"):
            open_database(tmp_path)
        assert connect(tmp_path).execute("PRAGMA user_version").fetchone()[0] == last
        monkeypatch.setattr(database, "_ENDING_S", 600.0)
        (tmp_path / f"{role}.lock").write_text(own)  # this process itself
        assert open_database(tmp_path).execute("PRAGMA user_version").fetchone()[0] == last + 1


def test_an_older_program_that_is_just_ending_is_waited_for(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    open_database(tmp_path).close()
    steps = database._steps()
    last = max(steps)
    steps[last + 1] = "CREATE TABLE extra (id INTEGER) STRICT;"
    monkeypatch.setattr(database, "_steps", lambda: steps)
    monkeypatch.setattr(database, "_ENDING_S", 600.0)
    asked: list[str] = []

    def holder(_: Path, role: str) -> str:
        asked.append(role)
        return "process 7 on pier" if len(asked) in (1, 2, 4) else ""

    monkeypatch.setattr(database, "other_holder", holder)
    assert open_database(tmp_path).execute("PRAGMA user_version").fetchone()[0] == last + 1
    assert asked == ["server"] * 3 + ["clerk"] * 2


def test_data_of_a_newer_release_is_left_alone(tmp_path: Path) -> None:
    open_database(tmp_path).execute("PRAGMA user_version = 999")
    with pytest.raises(SchemaError, match="newer Tarnfell"):
        open_database(tmp_path)


def test_a_failed_write_leaves_nothing(tmp_path: Path) -> None:
    db = open_database(tmp_path)

    def write_twice() -> None:
        with writing(db):
            add_engagement(db, "a", "A")
            add_engagement(db, "a", "A again")

    with pytest.raises(sqlite3.IntegrityError):
        write_twice()
    assert slugs(db) == []


def test_what_was_committed_survives_a_kill(tmp_path: Path) -> None:
    code = (
        "import sys, time; from pathlib import Path\n"
        "from tarnfell.store.db import open_database, writing\n"
        "from tarnfell.store.engagements import add_engagement\n"
        "db = open_database(Path(sys.argv[1]))\n"
        "with writing(db): add_engagement(db, 'kept', 'Kept')\n"
        "print('written', flush=True)\n"
        "db.execute('BEGIN IMMEDIATE'); add_engagement(db, 'lost', 'Lost'); time.sleep(60)\n"
    )
    with subprocess.Popen([sys.executable, "-c", code, str(tmp_path)], stdout=subprocess.PIPE) as writer:
        assert writer.stdout is not None
        assert writer.stdout.readline() == b"written\n"
        time.sleep(0.2)
        os.kill(writer.pid, signal.SIGKILL)
    aside = tmp_path / "copy"
    aside.mkdir()
    for file in tmp_path.glob(f"{FILE_NAME}*"):
        shutil.copy(file, aside)
    assert slugs(open_database(aside)) == ["kept"]


def test_short_passwords_are_refused(tmp_path: Path) -> None:
    with pytest.raises(ValueError, match="at least 10"):
        people.add_user(open_database(tmp_path), "a@customer.example", "A", "short")


@pytest.mark.parametrize("damage", ["junk", "schema", "a folder"])
def test_a_database_that_cannot_be_used_is_said_in_a_sentence(tmp_path: Path, damage: str) -> None:
    file = tmp_path / FILE_NAME
    if damage == "a folder":
        file.mkdir()
    else:
        open_database(tmp_path).close()
        whole = file.read_bytes()
        file.write_bytes(b"\xa5" * len(whole) if damage == "junk" else whole[:100] + b"\xa5" * 3000 + whole[3100:])
    words = "cannot be opened or written" if damage == "a folder" else "is damaged, or is none of ours"
    with pytest.raises(SchemaError, match=words):
        open_database(tmp_path)


def test_what_reaches_the_disk_is_synced(tmp_path: Path) -> None:
    """Acknowledged is what survives the machine: FULL is 2."""
    assert open_database(tmp_path).execute("PRAGMA synchronous").fetchone()[0] == 2


def test_decisions_of_before_weigh_nothing_and_word_nothing_anew(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    steps = database._steps()
    monkeypatch.setattr(database, "_steps", lambda: {n: sql for n, sql in steps.items() if n < 44})
    db = open_database(tmp_path)
    db.executescript(
        "INSERT INTO engagement (id, slug, name, created_us) VALUES (1, 'e', 'E', 5);"
        "INSERT INTO site (id, engagement_id, slug, name, time_zone, needed_calls, codec, ptime_ms, created_us) "
        "VALUES (7, 1, 'pier', 'Pier', 'UTC', 2, 'g711a', 20, 5);"
        "INSERT INTO cause_decision (site_id, key, leg, direction, dismissed, words, decided_us) "
        "VALUES (7, 'line-loss', 'line', 'up', 1, 'A test.', 5), (7, 'line-loss', 'line', 'down', 0, 'Seen.', 6), "
        "(7, 'far-away', 'beyond', 'both', 0, 'Old.', 7), (7, 'far-away', 'beyond', 'both', 0, '', 8);"
    )
    db.close()
    monkeypatch.undo()
    assert decisions_of(open_database(tmp_path), 7) == [
        Decision("line-loss", "line", "up", True, "A test."),
        Decision("line-loss", "line", "down", False, "Seen."),
    ]


def test_brands_of_before_have_no_name_of_their_own_for_the_server(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    steps = database._steps()
    monkeypatch.setattr(database, "_steps", lambda: {n: sql for n, sql in steps.items() if n < 45})
    db = open_database(tmp_path)
    db.executescript(
        "INSERT INTO engagement (id, slug, name, created_us) VALUES (1, 'e', 'E', 5);"
        "INSERT INTO brand (engagement_id, name, contact, colour, logo) VALUES (1, 'Harrow', 'ines', '#123456', '');"
    )
    db.close()
    monkeypatch.undo()
    assert brand_of(open_database(tmp_path), 1) == Brand("Harrow", "ines", "#123456", "", "")


def test_brands_of_before_write_dates_and_numbers_as_ever(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    steps = database._steps()
    monkeypatch.setattr(database, "_steps", lambda: {n: sql for n, sql in steps.items() if n < 46})
    db = open_database(tmp_path)
    db.executescript(
        "INSERT INTO engagement (id, slug, name, created_us) VALUES (1, 'e', 'E', 5);"
        "INSERT INTO brand (engagement_id, name, contact, colour, logo, address) "
        "VALUES (1, 'Harrow', '', '', '', 'https://voice.example');"
    )
    db.close()
    monkeypatch.undo()
    assert brand_of(open_database(tmp_path), 1) == Brand("Harrow", "", "", "", "https://voice.example", "en-GB")


def test_tests_through_a_relay_are_known_as_that_after_the_way_has_a_name(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    steps = database._steps()
    monkeypatch.setattr(database, "_steps", lambda: {n: sql for n, sql in steps.items() if n < 47})
    db = open_database(tmp_path)
    db.executescript(
        A_PROBE
        + "INSERT INTO job (id, site_id, probe_id, kind, state, created_us) VALUES (1, 1, 1, 'calls', 'done', 5), "
        "(2, 1, 1, 'calls', 'taken', 6);"
        "INSERT INTO browser_reach (job_id, web_source, relayed, told) VALUES (1, NULL, 1, '{}'), (2, NULL, 0, '{}');"
        "INSERT INTO browser_half (job_id, token) VALUES (2, 'aa');"
    )
    db.close()
    monkeypatch.undo()
    db = open_database(tmp_path)
    assert [way_of(db, number) for number in (1, 2, 3)] == ["relay", "straight", "straight"]
    assert not socket_waits(db, "aa")


def test_browsers_that_no_media_reached_found_a_far_end_all_the_same(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    steps = database._steps()
    monkeypatch.setattr(database, "_steps", lambda: {n: sql for n, sql in steps.items() if n < 48})
    db = open_database(tmp_path)
    db.executescript(
        A_PROBE + "INSERT INTO job (id, site_id, probe_id, kind, state, created_us, failure_code, failure) VALUES "
        "(1, 1, 1, 'calls', 'failed', 5, 'unreachable', 'No media came through: within 15 s no UDP packet went.'), "
        "(2, 1, 1, 'calls', 'failed', 6, 'unreachable', 'No media came through the relay: it answered.'), "
        "(3, 1, 1, 'calls', 'failed', 7, 'unreachable', 'Nothing answers at 192.0.2.1.');"
    )
    db.close()
    monkeypatch.undo()
    codes = [row[0] for row in open_database(tmp_path).execute("SELECT failure_code FROM job ORDER BY id")]
    assert codes == ["no-media", "unreachable", "unreachable"]


def test_fills_are_judged_and_watches_read_by_the_rules_of_now(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    steps = database._steps()
    monkeypatch.setattr(database, "_steps", lambda: {n: sql for n, sql in steps.items() if n < 49})
    db = open_database(tmp_path)
    db.executescript(
        A_PROBE + A_FAR_END + "INSERT INTO job (id, site_id, probe_id, kind, state, created_us) VALUES "
        "(1, 1, 1, 'fill', 'done', 5), (2, 1, 1, 'fill', 'done', 5);"
        "INSERT INTO fill (job_id, site_id, far_end_id, asked, at_us, told, filled, judged_us, stale) VALUES "
        "(1, 1, 1, '{}', 5, '{}', '{}', 6, 0), (2, 1, 1, '{}', 5, '{}', NULL, 6, 0);" + A_WATCH
    )
    db.close()
    monkeypatch.undo()
    db = open_database(tmp_path)
    assert [row[0] for row in db.execute("SELECT stale FROM fill ORDER BY job_id")] == [1, 0]
    assert db.execute("SELECT changes FROM watch").fetchone()[0] == 9  # by this step and a later one


def test_addresses_that_are_taken_are_counted_on(tmp_path: Path) -> None:
    db = open_database(tmp_path)
    for slug in ("quay", "quay-2", "quay-3", "cafe"):
        add_engagement(db, slug, slug)
    assert [sites.free_slug(db, "engagement", name) for name in ("Quay", "QUAY 2", "Café!", "Pier", "…")] == [
        "quay-4", "quay-2-2", "cafe-2", "pier", "engagement",
    ]  # fmt: skip


def test_samples_of_before_lie_closer(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    steps = database._steps()
    monkeypatch.setattr(database, "_steps", lambda: {n: sql for n, sql in steps.items() if n < 51})
    db = open_database(tmp_path)
    db.executescript(A_PROBE + A_FAR_END + A_WATCH)
    batches = [(1, 7000 - at, 8000 - at, 1, 2, 3, 4, bytes([at]) * 1010) for at in range(200)]
    cells = [(1, at, 2, 3, 4, 5, 6, 7, b"t" * 60, b"m" * 340, bytes([at]) * 1110) for at in range(200)]
    db.executemany("INSERT INTO sample_batch VALUES (?, ?, ?, ?, ?, ?, ?, ?)", batches)
    db.executemany("INSERT INTO sample_cell VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)", cells)
    db.close()
    monkeypatch.undo()
    db = open_database(tmp_path)
    cells = [(*cell, 0) for cell in cells]
    assert [tuple(row) for row in db.execute("SELECT * FROM sample_batch ORDER BY first_us DESC")] == batches
    assert [tuple(row) for row in db.execute("SELECT * FROM sample_cell ORDER BY start_us")] == cells
    for table, values in (("sample_batch", batches[0]), ("sample_cell", cells[0])):
        with pytest.raises(sqlite3.IntegrityError):
            db.execute(f"INSERT INTO {table} VALUES ({', '.join('?' * len(values))})", values)
    db.execute("VACUUM")
    pages = db.execute("PRAGMA page_count").fetchone()[0]
    db.executescript("DELETE FROM sample_batch; DELETE FROM sample_cell; VACUUM")
    taken = (pages - db.execute("PRAGMA page_count").fetchone()[0]) * 4096
    assert taken < 1.5 * 200 * (1010 + 60 + 340 + 1110)
