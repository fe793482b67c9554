"""Documents: asked for, made by the clerk, handed over; what fails says so, and the next is made all the same."""

from __future__ import annotations

import re
import shutil
import subprocess
from pathlib import Path
from typing import Any

import pytest

from tarnfell.clerk import loop
from tarnfell.store import tasks
from tarnfell.store.db import connect
from tarnfell.store.files import MADE
from tarnfell.store.lock import only_one
from tarnfell.work import making
from tarnfell.work.issuing import documents
from tests.server.conftest import House, _short_calls_count, house, record_file
from tests.server.test_runs import deliver, taken

__all__ = ["_short_calls_count", "house"]


def ask(house: House) -> dict[str, Any]:
    answer = house.post("/api/sites/pier/report/pdf", {})
    assert answer.status_code == 200, answer.text
    return dict(answer.json)


def look(house: House, number: int) -> dict[str, Any]:
    return dict(house.person.get(f"/api/documents/{number}").json)


def clerk(house: House) -> None:
    db = connect(house.folder)
    loop.make(db, set())
    db.close()


def files(house: House) -> list[str]:
    return [file.name for file in MADE.names(house.folder)]


def drawn(monkeypatch: pytest.MonkeyPatch, body: bytes | BaseException = b"%PDF-x") -> list[Any]:
    """Reports that were drawn instead of the real, which takes seconds."""
    reports: list[Any] = []

    def draw(report: Any) -> bytes:
        reports.append(report)
        if isinstance(body, BaseException):
            raise body
        return body + str(len(reports)).encode()

    monkeypatch.setattr(documents, "render_pdf", draw)
    return reports


def test_a_report_is_asked_for_made_and_handed_over(house: House) -> None:
    asked = ask(house)
    assert (asked["state"], asked["bytes"]) == ("waiting", None)
    early = house.person.get(f"/api/documents/{asked['id']}/file")
    assert (early.status_code, "not ready" in early.json["detail"]) == (409, True)
    held_up = look(house, asked["id"])
    assert ("clerk is not at work" in held_up["words"], held_up["held_up"]) == (True, True)
    with only_one(house.folder, "clerk"):
        waiting = look(house, asked["id"])
        assert (waiting["words"], waiting["held_up"]) == ("Waiting for its turn.", False)
    clerk(house)
    ready = look(house, asked["id"])
    assert (ready["state"], ready["words"]) == ("ready", "Ready.")
    file = house.person.get(f"/api/documents/{asked['id']}/file")
    assert (file.mimetype, len(file.data)) == ("application/pdf", ready["bytes"])
    assert file.data.startswith(b"%PDF-")
    assert "filename=pier-readiness.pdf" in file.headers["Content-Disposition"]


def test_the_same_report_is_made_once_and_another_replaces_it(house: House, monkeypatch: pytest.MonkeyPatch) -> None:
    reports = drawn(monkeypatch)
    first = ask(house)
    assert ask(house)["id"] == first["id"]
    clerk(house)
    assert (ask(house)["id"], ask(house)["state"]) == (first["id"], "ready")
    old = files(house)
    deliver(house, taken(house), record_file())
    second = ask(house)
    assert (second["id"] > first["id"], second["state"]) == (True, "waiting")
    assert house.person.get(f"/api/documents/{first['id']}/file").data == b"%PDF-x1"
    clerk(house)
    assert [r.evaluation.verdict.calls for r in reports] == [0, 2]
    assert house.person.get(f"/api/documents/{second['id']}/file").data == b"%PDF-x2"
    assert house.person.get(f"/api/documents/{first['id']}").status_code == 404
    assert len(files(house)) == 1
    assert files(house) != old


@pytest.mark.parametrize("change", ["UPDATE engagement SET name = 'Other'", "UPDATE site SET provider = 'Other'"])
def test_whatever_the_report_says_makes_it_another(house: House, change: str, monkeypatch: pytest.MonkeyPatch) -> None:
    drawn(monkeypatch)
    first = ask(house)
    clerk(house)
    connect(house.folder).execute(change)
    assert ask(house)["id"] != first["id"]


def test_a_file_that_is_gone_is_made_again(house: House, monkeypatch: pytest.MonkeyPatch) -> None:
    drawn(monkeypatch)
    first = ask(house)
    clerk(house)
    MADE.drop(house.folder, files(house)[0])
    assert house.person.get(f"/api/documents/{first['id']}/file").status_code == 410
    assert look(house, first["id"])["bytes"] is None
    second = ask(house)
    clerk(house)
    assert house.person.get(f"/api/documents/{second['id']}/file").status_code == 200


def test_one_that_cannot_be_drawn_fails_with_a_sentence_and_may_be_asked_for_again(
    house: House, monkeypatch: pytest.MonkeyPatch
) -> None:
    with monkeypatch.context() as broken:
        drawn(broken, ValueError("no such font"))
        first = ask(house)
        clerk(house)
    assert look(house, first["id"]) == {
        **look(house, first["id"]),
        "state": "failed",
        "words": making.FAILED,
    }
    drawn(monkeypatch)
    second = ask(house)
    clerk(house)
    assert (second["id"] > first["id"], look(house, second["id"])["state"]) == (True, "ready")


def test_a_full_disk_puts_it_off_and_one_that_ends_the_clerk_is_given_up(
    house: House, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(tasks, "PAUSE_US", 3_600 * 1_000_000)
    number = ask(house)["id"]
    db = connect(house.folder)
    with monkeypatch.context() as full:
        drawn(full, OSError(28, "No space left on device"))
        for _ in range(tasks.MAX_TRIES + 2):
            db.execute("UPDATE task SET not_before_us = 0")
            with pytest.raises(OSError, match="No space"):
                documents.make_next(db, house.folder)
            assert not documents.make_next(db, house.folder)  # not at once again
    assert (tasks.task_by_id(db, number).tries, look(house, number)["state"]) == (0, "waiting")
    db.execute("UPDATE task SET not_before_us = 0")
    drawn(monkeypatch, KeyboardInterrupt())
    for _ in range(tasks.MAX_TRIES):
        with pytest.raises(KeyboardInterrupt):
            documents.make_next(db, house.folder)
        assert look(house, number)["state"] == "being made"
    assert documents.make_next(db, house.folder)
    assert look(house, number)["state"] == "failed"


def test_nobody_gets_a_document_without_signing_in(house: House) -> None:
    number = ask(house)["id"]
    stranger = house.app.test_client()
    for path in (f"/api/documents/{number}", f"/api/documents/{number}/file"):
        assert stranger.get(path).status_code == 401
    assert house.person.post("/api/sites/pier/report/pdf", json={}).status_code == 403  # without the page's token
    assert re.match("There is no document 99", house.person.get("/api/documents/99").json["detail"])


def of_all_sites(house: House) -> dict[str, Any]:
    answer = house.post("/api/engagements/customer/report/pdf", {})
    assert answer.status_code == 200, answer.text
    return dict(answer.json)


@pytest.mark.skipif(not shutil.which("pdftotext"), reason="pdftotext reads the pages")
def test_all_sites_of_an_engagement_are_one_document(house: House, tmp_path: Path) -> None:
    asked = of_all_sites(house)
    own = ask(house)
    assert of_all_sites(house)["id"] == asked["id"]
    clerk(house)
    file = house.person.get(f"/api/documents/{asked['id']}/file")
    assert "filename=customer-readiness.pdf" in file.headers["Content-Disposition"]
    paper = tmp_path / "all.pdf"
    paper.write_bytes(file.data)
    read = subprocess.run(["pdftotext", "-layout", str(paper), "-"], capture_output=True, text=True, check=True).stdout
    assert "Call readiness of all sites" in read
    assert "Pier office" in read
    # One of a site does not replace it, nor the reverse.
    assert (look(house, asked["id"])["state"], look(house, own["id"])["state"]) == ("ready", "ready")
    assert of_all_sites(house)["id"] == asked["id"]


@pytest.mark.parametrize(
    "change",
    [
        "UPDATE engagement SET summary = 'Other'",
        "UPDATE site SET provider = 'Other'",
        "INSERT INTO brand VALUES (1, 'Harrow', '', '', '', '', 'en-GB')",
    ],
)
def test_whatever_the_page_of_all_sites_says_makes_it_another(
    house: House, change: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(documents, "pdf_of", lambda page: b"%PDF-")
    first = of_all_sites(house)
    clerk(house)
    connect(house.folder).execute(change)
    assert of_all_sites(house)["id"] != first["id"]


def test_a_document_of_another_engagement_is_not_there(house: House) -> None:
    asked = of_all_sites(house)
    db = connect(house.folder)
    db.execute("DELETE FROM member")
    db.close()
    assert house.person.get(f"/api/documents/{asked['id']}").status_code == 404
    assert house.person.get(f"/api/documents/{asked['id']}/file").status_code == 404
