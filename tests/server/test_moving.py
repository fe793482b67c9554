"""One engagement taken from an installation to another: all of its evidence, none of its keys, nothing of others."""

from __future__ import annotations

import io
import sqlite3
import tarfile
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path
from typing import Any

import pytest

from tarnfell.cli import main
from tarnfell.store import cells, moving, watches
from tarnfell.store.backup import BackupError, back_up
from tarnfell.store.cells import CELL_US
from tarnfell.store.db import FILE_NAME, connect, writing
from tarnfell.store.moving import export_engagement, import_engagement
from tarnfell.work.evidence.evaluations import EVALUATIONS
from tests.server.conftest import EMAIL, House, built_house
from tests.server.test_roles import peopled  # noqa: F401 (a fixture)
from tests.store.past import cell


@pytest.fixture(scope="module")
def archive(peopled: House) -> bytes:  # noqa: F811
    out = io.BytesIO()
    manifest = export_engagement(peopled.folder, "customer", out)
    assert manifest.holds == "engagement"
    return out.getvalue()


@pytest.fixture
def other(tmp_path: Path) -> House:
    """Another installation, whose engagement and site have the same addresses."""
    house = built_house(tmp_path)
    with writing(connect(house.folder)) as db:
        # Numbers there are others.
        db.execute("UPDATE far_end SET host = 'elsewhere.example'")
        db.execute("INSERT INTO user (email, name, password_hash, created_us) VALUES ('x@x.example', 'x', 'y', 1)")
    return house


def opened(body: bytes, folder: Path) -> Iterator[sqlite3.Connection]:
    with tarfile.open(fileobj=io.BytesIO(body)) as tar:
        tar.extractall(folder)  # older 3.11 knows no filter, and the file is ours
    db = sqlite3.connect(folder / FILE_NAME)
    db.row_factory = sqlite3.Row
    return iter([db])


def moved_in(house: House, body: bytes, **options: Any) -> moving.Moved:
    return import_engagement(io.BytesIO(body), house.folder, EMAIL, **options)


def everything(folder: Path) -> list[Any]:
    with closing(connect(folder)) as db:
        return list(db.iterdump())


def first_call(house: House, run: int) -> dict[str, Any]:
    (first, *_) = house.person.get(f"/api/runs/{run}/calls").json["calls"]
    return dict(house.person.get(f"/api/calls/{first['id']}").json)


def test_nothing_of_others_and_nothing_that_lets_anybody_in_is_in_it(
    peopled: House,  # noqa: F811
    archive: bytes,
    tmp_path: Path,
) -> None:
    (db,) = opened(archive, tmp_path)
    whole = connect(peopled.folder)
    assert [row["slug"] for row in db.execute("SELECT slug FROM engagement")] == ["customer"]
    for table in ("session", "member", "report_link", "invitation", "metrics_token", "letter", "message", "task"):
        assert db.execute(f"SELECT count(*) FROM {table}").fetchone()[0] == 0, table
    for table in ("call", "direction", "video_stream", "imported", "issued", "plan", "test_point"):
        count = f"SELECT count(*) FROM {table}"
        assert db.execute(count).fetchone()[0] == whole.execute(count).fetchone()[0] > 0, table
    body = (tmp_path / FILE_NAME).read_bytes()
    secrets = [
        row[0]
        for secret in (
            "SELECT password_hash FROM user", "SELECT secret_hash FROM probe WHERE secret_hash NOT NULL",
            "SELECT key FROM far_end", "SELECT key_hash FROM session", "SELECT code FROM report_link",
            "SELECT code FROM invitation", "SELECT email FROM user WHERE email LIKE 'foreign@%'",
        )
        for row in whole.execute(secret)
    ]  # fmt: skip
    assert len(secrets) >= 8
    for secret in secrets:
        assert str(secret).encode() not in body, secret
    assert db.execute("PRAGMA foreign_key_check").fetchall() == []
    assert db.execute("SELECT count(*) FROM plan WHERE state = 'scheduled'").fetchone()[0] == 0


def test_samples_are_counted_there_as_they_were_here(other: House, tmp_path_factory: pytest.TempPathFactory) -> None:
    house = built_house(tmp_path_factory.mktemp("here"))
    counts = []
    for folder, starts in ((house.folder, (0, 1, 4)), (other.folder, (2, 3))):
        db = connect(folder)
        watches.want(db, 1, 1, 1000, 46, None)
        cells.keep_packed(db, [cell(start * CELL_US, 3, 500, 70) for start in starts], [])
        counts.append(watches.counts(db, 1))
    out = io.BytesIO()
    export_engagement(house.folder, "customer", out)
    moved_in(other, out.getvalue(), slug="moved")
    assert [watches.counts(db, number) for number in (2, 1)] == counts
    assert counts[0].without_us == 3 * 70_000_000 + 103_000_000 + 2 * CELL_US + 103_000_000
    assert db.execute("PRAGMA foreign_key_check").fetchall() == []


def test_all_of_its_evidence_is_told_there_as_it_was_here(peopled: House, archive: bytes, other: House) -> None:  # noqa: F811
    EVALUATIONS.forget()  # of when its calls were too short to count
    told = moved_in(other, archive, slug="moved")
    assert (told.slug, told.sites, told.without_key) == ("moved", ("pier-2",), ("far",))
    db = connect(other.folder)
    counted = "SELECT sum(calls), count(judged_us) FROM run_job WHERE state IN ('done', 'failed')"
    assert tuple(db.execute("SELECT sum(calls), sum(judged) FROM run_tally").fetchone()) == tuple(
        db.execute(counted).fetchone()
    )
    assert db.execute("SELECT count(*) FROM call_mos").fetchone() == db.execute("SELECT count(*) FROM call").fetchone()
    begun = "SELECT count(*) FROM job WHERE started_us IS (SELECT min(started_us) FROM call WHERE run_id = job.id)"
    assert db.execute(begun).fetchone() == db.execute("SELECT count(*) FROM job").fetchone()
    assert db.execute("PRAGMA foreign_key_check").fetchall() == []
    assert db.execute("PRAGMA integrity_check").fetchone()[0] == "ok"
    before, after = (house.person.get(path).json for house, path in (
        (peopled, "/api/sites/pier"), (other, "/api/sites/pier-2")))  # fmt: skip
    for name in (
        "verdict",
        "share",
        "evidence",
        "requirements",
        "capacity",
        "dimensions",
        "left_out",
        "sheet",
        "coverage",
    ):
        assert after[name] == before[name], name
    assert [one["title"] for one in after["causes"]] == [one["title"] for one in before["causes"]]
    assert (after["probes"][0]["online"], after["probes"][0]["name"]) == (False, before["probes"][0]["name"])
    runs = [house.person.get(f"/api/sites/{slug}/runs").json["runs"] for house, slug in (
        (peopled, "pier"), (other, "pier-2"))]  # fmt: skip
    runs = [[one for one in each if one["state"] == "done"] for each in runs]
    assert len(runs[0]) == len(runs[1]) > 0
    calls = [first_call(house, run[0]["id"]) for house, run in zip((peopled, other), runs, strict=True)]
    for name in ("up", "down"):
        assert calls[0][name] == calls[1][name]
    issued = db.execute("SELECT id, number FROM issued").fetchone()
    pages = [house.person.get(f"/api/issued/{number}/report.html").data for house, number in (
        (peopled, 1), (other, issued["id"]))]  # fmt: skip
    assert pages[0] == pages[1]
    assert len(pages[0]) > 1000
    # Who did it is told by name, and whoever was here before is known again.
    people = {row["email"]: row["removed_us"] for row in db.execute("SELECT email, removed_us FROM user")}
    assert people[EMAIL] is None
    assert "foreign@customer.example" not in people
    assert [row["user_id"] for row in db.execute(
        "SELECT user_id FROM member JOIN engagement e ON e.id = engagement_id WHERE e.slug = 'moved'"
    )] == [db.execute("SELECT id FROM user WHERE email = ?", (EMAIL,)).fetchone()[0]]  # fmt: skip
    # What was there is as it was.
    assert other.person.get("/api/sites/pier").json["evidence"]["calls"] == 0


def test_a_far_end_that_is_there_too_is_the_same_and_keeps_its_key(archive: bytes, tmp_path: Path) -> None:
    house = built_house(tmp_path)
    db = connect(house.folder)
    keys = [tuple(row) for row in db.execute("SELECT id, host, key FROM far_end")]
    assert moved_in(house, archive, slug="moved").without_key == ()
    assert [tuple(row) for row in db.execute("SELECT id, host, key FROM far_end")] == keys
    assert db.execute("SELECT count(DISTINCT far_end_id) FROM run").fetchone()[0] == 1


@pytest.mark.parametrize(
    ("slug", "email", "words"),
    [(None, EMAIL, "already"), ("moved", "nobody@x.example", "Nobody with the address")],
)
def test_what_cannot_be_put_there_leaves_everything_as_it_was(
    archive: bytes, other: House, slug: str | None, email: str, words: str
) -> None:
    before = everything(other.folder)
    with pytest.raises(BackupError, match=words):
        import_engagement(io.BytesIO(archive), other.folder, email, slug)
    assert everything(other.folder) == before


def test_it_is_put_there_whole_or_not_at_all(archive: bytes, other: House, monkeypatch: pytest.MonkeyPatch) -> None:
    before = everything(other.folder)

    def fails(*_: Any) -> None:
        raise OSError("no room")

    with monkeypatch.context() as patch:
        patch.setattr(moving, "join", fails)
        with pytest.raises(OSError, match="no room"):
            moved_in(other, archive, slug="moved")
    assert everything(other.folder) == before
    moved_in(other, archive, slug="moved")
    with pytest.raises(BackupError, match="was issued here too"):
        moved_in(other, archive, slug="moved-again")
    for body in (archive[:-12_000], archive[: len(archive) // 2], b"nothing"):
        with pytest.raises(BackupError, match=r"damaged|cut short"):
            moved_in(other, body, slug="moved-again")


def test_each_archive_says_what_it_is_for(peopled: House, archive: bytes, other: House, tmp_path: Path) -> None:  # noqa: F811
    out = io.BytesIO()
    back_up(peopled.folder, out)
    with pytest.raises(BackupError, match="use `tarnfell restore`"):
        moved_in(other, out.getvalue())
    file = tmp_path / "e.tar"
    file.write_bytes(archive)
    assert main(["restore", str(file), "--data", str(tmp_path / "new")]) == 2
    assert not (tmp_path / "new").exists()


def test_by_the_command_line_and_only_once_all_is_judged(
    peopled: House,  # noqa: F811
    other: House,
    tmp_path: Path,
    capsys: pytest.CaptureFixture[str],
) -> None:
    out = tmp_path / "out.tar"
    assert main(["engagement", "export", "nowhere", "--out", str(out), "--data", str(peopled.folder)]) == 2
    assert "no engagement “nowhere”" in capsys.readouterr().err
    assert list(tmp_path.glob("out.tar*")) == []
    with writing(connect(peopled.folder)) as db:
        run = db.execute("SELECT min(id) FROM run").fetchone()[0]
        db.execute("INSERT INTO delivery (run_id, sha256, received_us) VALUES (?, 'x', 1)", (run,))
    assert main(["engagement", "export", "customer", "--out", str(out), "--data", str(peopled.folder)]) == 2
    assert "1 results of probes are still being judged" in capsys.readouterr().err
    with writing(connect(peopled.folder)) as db:
        db.execute("DELETE FROM delivery")
    assert main(["engagement", "export", "customer", "--out", str(out), "--data", str(peopled.folder)]) == 0
    assert out.stat().st_mode & 0o777 == 0o600
    assert main(["engagement", "import", str(out), "--for", EMAIL, "--slug", "m", "--data", str(other.folder)]) == 0
    told = capsys.readouterr().out
    assert "m is here, with 1 site: pier-2." in told
    assert "Give the key of these far ends before calls are placed to them: far." in told
