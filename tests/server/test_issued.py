"""Issued reports: numbered and frozen, replaced and withdrawn, verified, and read by links without signing in."""

from __future__ import annotations

import csv
import hashlib
import io
import json
import re
import shutil
import sqlite3
import subprocess
from contextlib import closing
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import pytest
from flask.testing import FlaskClient

from tarnfell.clerk import loop
from tarnfell.cli import main
from tarnfell.core.verdict import facts, readings
from tarnfell.store import issued as issued_store
from tarnfell.store import letters
from tarnfell.store import sites as site_store
from tarnfell.store.db import connect, now_us, writing
from tarnfell.store.files import ISSUED
from tarnfell.store.sites import Site
from tarnfell.store.targets import MailServer, keep_mail_server
from tarnfell.work.evidence import computed
from tarnfell.work.issuing import dataset
from tarnfell.work.issuing import issue as issue_module
from tarnfell.work.issuing.dataset import data_set
from tarnfell.work.issuing.documents import make_next
from tarnfell.work.issuing.issue import make_issued_pdf
from tarnfell.work.outbox import mail
from tarnfell.work.outbox.deliver import Sending, deliver_next
from tests.server.conftest import House, record_file

DAY_US = 86_400_000_000


def change(house: House, method: str, path: str, body: dict[str, Any] | None = None) -> Any:
    return house.person.open(path, method=method, json=body, headers={"X-CSRF-Token": house.csrf})


def page(house: House, one: dict[str, Any], kind: str = "html") -> bytes:
    answer = house.person.get(f"/api/issued/{one['id']}/report.{kind}")
    assert answer.status_code == 200, answer.text
    return bytes(answer.data)


def measure(house: House) -> None:
    run = house.place().json["id"]
    house.heartbeat()
    assert house.deliver(run, record_file()).status_code == 200


def shared(house: House, one: dict[str, Any], **form: Any) -> str:
    answer = change(house, "POST", f"/api/issued/{one['id']}/links", {"name": "The board", **form})
    assert answer.status_code == 200, answer.text
    return str(answer.json["issued"][-1]["links"][0]["path"])


@pytest.fixture
def stranger(house: House) -> FlaskClient:
    return house.app.test_client()


def test_what_was_issued_stays_whatever_comes_later(house: House) -> None:
    measure(house)
    first = house.issue()
    assert re.fullmatch(r"TF-20\d\d-0001", first["number"])
    html, figures = page(house, first), page(house, first, "json")
    assert first["number"] in html.decode()
    assert hashlib.sha256(figures).hexdigest() == first["data_sha256"]
    assert first["data_sha256"] in html.decode()
    assert json.loads(figures)["number"] == first["number"]
    assert "issued" in html.decode().lower()
    assert "Tess Ter" in html.decode()
    measure(house)
    brief = house.person.get("/api/sites/pier/brief").json["form"] | {"name": "Another name"}
    answer = change(house, "PUT", "/api/sites/pier/brief", brief)
    assert answer.status_code == 200, answer.text
    second = house.issue()
    assert second["number"] == first["number"][:-1] + "2"
    assert "Another name" in page(house, second).decode()
    assert (page(house, first), page(house, first, "json")) == (html, figures)
    told = {one["number"]: one for one in house.person.get("/api/sites/pier/reports").json["issued"]}
    assert (told[first["number"]]["state"], told[first["number"]]["replaced_by"]) == ("replaced", second["number"])
    assert told[second["number"]]["state"] == "issued"


def test_one_that_cannot_be_printed_does_not_hold_up_the_next(house: House, caplog: pytest.LogCaptureFixture) -> None:
    first, second = house.issue(), house.issue()
    db = connect(house.folder)
    told = issued_store.by_id(db, first["id"])
    assert told is not None
    page_file = ISSUED.place(house.folder, told.page_sha256)
    body = page_file.read_bytes()
    page_file.unlink()
    given_up: set[int] = set()
    while make_issued_pdf(db, house.folder, given_up):
        pass
    assert given_up == {first["id"]}
    assert caplog.text.count(f"the PDF of report {first['number']}") == 1
    assert page(house, second, "pdf").startswith(b"%PDF")
    # Once its page is back it is made, after the clerk has begun anew.
    ISSUED.keep(house.folder, [body])
    assert make_issued_pdf(db, house.folder, set())
    assert page(house, first, "pdf").startswith(b"%PDF")


def test_the_pdf_is_made_once_from_the_page(house: House) -> None:
    one = house.issue()
    assert one["has_pdf"] is False
    assert house.person.get(f"/api/issued/{one['id']}/report.pdf").status_code == 409
    db = connect(house.folder)
    assert make_issued_pdf(db, house.folder, set())
    assert not make_issued_pdf(db, house.folder, set())
    body = page(house, one, "pdf")
    assert body.startswith(b"%PDF")
    with writing(db):
        issued_store.keep_pdf(db, one["id"], "0" * 64)
    assert page(house, one, "pdf") == body
    # A file that somebody took away is said, and nothing is made up in its place.
    ISSUED.drop(house.folder, hashlib.sha256(body).hexdigest())
    assert house.person.get(f"/api/issued/{one['id']}/report.pdf").status_code == 410


def test_a_report_is_not_issued_while_evidence_is_being_judged(house: House, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(computed, "CALLS_AT_ONCE", 0)
    measure(house)
    loop.evaluate(connect(house.folder))
    measure(house)
    answer = change(house, "POST", "/api/sites/pier/report/issue", {})
    assert (answer.status_code, "still being judged" in answer.json["detail"]) == (409, True)
    assert house.person.get("/api/sites/pier/reports").json["behind"] is True
    loop.evaluate(connect(house.folder))
    assert house.issue()["number"].endswith("-0001")


def test_a_report_is_issued_by_the_clerk_once_however_often_it_is_asked_for(house: House) -> None:
    measure(house)
    asked = [change(house, "POST", "/api/sites/pier/report/issue", {}).json["issuing"] for _ in "12"]
    assert asked[0]["id"] == asked[1]["id"]
    assert (asked[0]["state"], asked[0]["held_up"]) == ("waiting", True)
    assert "clerk is not at work" in asked[0]["words"]
    task, db = f"/api/documents/{asked[0]['id']}", connect(house.folder)
    assert house.person.get(f"{task}/file").status_code == 409
    assert make_next(db, house.folder)
    assert not make_next(db, house.folder)
    shown = house.person.get("/api/sites/pier/reports").json
    assert (len(shown["issued"]), shown["issuing"]) == (1, None)
    assert shown["issued"][0]["issued_by"] == "Tess Ter"
    assert house.person.get(task).json["bytes"] == len(page(house, shown["issued"][0]))
    kept = house.person.get(f"{task}/file")
    assert (kept.data, kept.mimetype) == (page(house, shown["issued"][0]), "text/html")
    assert "pier-issued.html" in kept.headers["Content-Disposition"]
    # The same is issued again by who asks again.
    assert house.issue()["number"].endswith("-0002")


@pytest.mark.parametrize("what", ["evidence", "draft"])
def test_what_says_something_else_by_its_turn_is_not_issued(house: House, what: str) -> None:
    measure(house)
    assert change(house, "POST", "/api/sites/pier/report/issue", {}).status_code == 200
    if what == "evidence":
        measure(house)
    else:
        change(house, "PUT", "/api/sites/pier/report/draft", {"summary": "Another.", "note": ""})
    assert make_next(connect(house.folder), house.folder)
    shown = house.person.get("/api/sites/pier/reports").json
    assert (shown["issued"], shown["issuing"]["state"]) == ([], "failed")
    assert "It changed while it waited" in shown["issuing"]["words"]
    assert house.issue()["number"].endswith("-0001")


def test_evidence_that_comes_while_it_is_written_down_does_not_part_page_and_calls(
    house: House, monkeypatch: pytest.MonkeyPatch
) -> None:
    measure(house)
    change(house, "POST", "/api/sites/pier/report/issue", {})

    def meanwhile(db: sqlite3.Connection, site: Site) -> bytes:
        table = data_set(db, site)
        measure(house)
        return table

    monkeypatch.setattr(issue_module, "data_set", meanwhile)
    assert make_next(connect(house.folder), house.folder)
    shown = house.person.get("/api/sites/pier/reports").json
    assert (shown["issued"], shown["issuing"]["state"]) == ([], "failed")


def test_a_clerk_that_is_killed_before_it_has_issued_issues_once_when_it_is_back(
    house: House, monkeypatch: pytest.MonkeyPatch
) -> None:
    measure(house)
    change(house, "POST", "/api/sites/pier/report/issue", {})
    db = connect(house.folder)

    class Killed(BaseException):
        pass

    def killed(*_: object) -> None:
        raise Killed

    for where in ("render_html", "tasks"):
        with monkeypatch.context() as dying:
            dying.setattr(issue_module, where, killed if where == "render_html" else SimpleNamespace(finish=killed))
            with pytest.raises(Killed):
                make_next(db, house.folder)
        shown = house.person.get("/api/sites/pier/reports").json
        assert (shown["issued"], shown["issuing"]["state"]) == ([], "being made")
    assert make_next(db, house.folder)
    assert not make_next(db, house.folder)
    assert [one["number"][-4:] for one in house.person.get("/api/sites/pier/reports").json["issued"]] == ["0001"]


def test_what_the_consultant_writes_stands_in_it(house: House) -> None:
    by_itself = house.person.get("/api/sites/pier/reports").json["by_itself"]
    assert by_itself[0] in house.person.get("/api/sites/pier/report.html").text
    draft = {"summary": "First sentence.\n\n<b>Second</b> & last.", "note": "Seen on site:\n<script>alert(1)</script>"}
    answer = change(house, "PUT", "/api/sites/pier/report/draft", draft)
    assert (answer.status_code, answer.json["draft"]) == (200, draft)
    html = page(house, house.issue()).decode()
    assert "First sentence." in html
    assert "&lt;b&gt;Second&lt;/b&gt; &amp; last." in html
    assert "&lt;script&gt;alert(1)&lt;/script&gt;" in html
    assert "<script>" not in html
    assert by_itself[0] not in html


def test_names_cannot_break_out_of_the_page_or_fetch_anything(house: House) -> None:
    name = '"; } body { background: url(http://192.0.2.66/x) } /* </style><script>'
    db = connect(house.folder)
    site_store.change_site(db, 1, name=name)
    change(house, "PUT", "/api/sites/pier/report/draft", {"note": '<img src="http://192.0.2.66/y">'})
    one = house.issue()
    html = page(house, one).decode()
    assert "<script>" not in html
    assert '<img src="http' not in html
    style = html[html.index("<style>") : html.index("</style>")]
    # As text within the quotes of the page's foot, and nowhere else.
    assert re.findall(r"[^\n]*url\(http[^\n]*", style) == re.findall(
        r'[^\n]*content: "[^"{};]*url\(http[^"{};]*"; [^\n]*', style
    )
    assert "192.0.2.66" in html
    assert make_issued_pdf(db, house.folder, set())


def test_one_that_is_withdrawn_says_so_and_stays_as_it_was(house: House, stranger: FlaskClient) -> None:
    one = house.issue()
    html, path = page(house, one), shared(house, one)
    answer = change(house, "POST", f"/api/issued/{one['id']}/withdraw", {"reason": "The wrong line was measured."})
    assert answer.json["issued"][0]["state"] == "withdrawn"
    assert page(house, one) == html
    assert "It was withdrawn: The wrong line was measured." in stranger.get(path).text
    assert stranger.get(f"{path}/report.html").data == html
    again = change(house, "POST", f"/api/issued/{one['id']}/withdraw", {"reason": "Again."})
    assert again.status_code == 409
    # The next does not replace what was withdrawn.
    house.issue()
    told = house.person.get("/api/sites/pier/reports").json["issued"]
    assert [(each["state"], each["replaced_by"]) for each in told] == [("issued", ""), ("withdrawn", "")]


def test_a_link_opens_one_report_to_anybody_who_has_it(house: House, stranger: FlaskClient) -> None:
    first = house.issue()
    path = shared(house, first)
    frame = stranger.get(path)
    assert (frame.status_code, first["number"] in frame.text) == (200, True)
    assert f'src="{path}/report.html"' in frame.text
    assert stranger.get(f"{path}/report.html").data == page(house, first)
    assert stranger.get(f"{path}/report.json").status_code == 404
    for closed in (f"/api/issued/{first['id']}/report.html", "/api/sites/pier/reports", "/api/sites/pier"):
        assert stranger.get(closed).status_code == 401
    assert stranger.get(path[:-1]).status_code == 404
    second = house.issue()
    assert f"It was replaced by report {second['number']}." in stranger.get(path).text
    (link,) = house.person.get("/api/sites/pier/reports").json["issued"][1]["links"]
    assert (link["opened"], link["good"]) == (2, True)
    assert 0 <= now_us() - link["last_opened_us"] < 60_000_000


def test_a_link_ends_and_expires(house: House, stranger: FlaskClient) -> None:
    one = house.issue()
    path = shared(house, one, days=1)
    link = house.person.get("/api/sites/pier/reports").json["issued"][0]["links"][0]
    assert abs(link["until_us"] - now_us() - DAY_US) < 60_000_000
    db = connect(house.folder)
    db.execute("UPDATE report_link SET until_us = ?", (now_us() - 1,))
    for address in (path, f"{path}/report.html", f"{path}/report.pdf"):
        assert stranger.get(address).status_code == 404
    other = shared(house, one)
    link = house.person.get("/api/sites/pier/reports").json["issued"][0]["links"][0]
    assert stranger.get(other).status_code == 200
    assert change(house, "DELETE", f"/api/issued/{one['id']}/links/{link['id']}").status_code == 200
    assert stranger.get(other).status_code == 404
    assert change(house, "DELETE", f"/api/issued/{one['id']}/links/99").status_code == 404
    for days in (0, 366):
        answer = change(house, "POST", f"/api/issued/{one['id']}/links", {"name": "x", "days": days})
        assert answer.status_code == 422


def test_a_passphrase_is_asked_for_and_cannot_be_guessed_for_long(house: House, stranger: FlaskClient) -> None:
    one = house.issue()
    path = shared(house, one, passphrase="sounding line")
    assert one["number"] not in stranger.get(path).text
    assert stranger.get(f"{path}/report.html").status_code == 404
    assert stranger.post(path, data={"passphrase": "sounding"}).status_code == 403
    assert stranger.post(path, data={}).status_code == 403
    opened = stranger.post(path, data={"passphrase": "sounding line"})
    assert (opened.status_code, one["number"] in opened.text) == (200, True)
    assert stranger.get(f"{path}/report.html").data == page(house, one)
    assert one["number"] in stranger.get(path).text
    another = house.app.test_client()
    assert another.get(f"{path}/report.html").status_code == 404
    codes = [another.post(path, data={"passphrase": "guess"}).status_code for _ in range(9)]
    assert codes == [403] * 8 + [429]
    # It is not in the data as it was typed.
    assert b"sounding line" not in b"".join(file.read_bytes() for file in house.folder.glob("*.sqlite*"))


def test_a_file_is_known_again_only_unchanged(house: House, tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    one = house.issue()
    for kind in ("html", "json"):
        digest = hashlib.sha256(page(house, one, kind)).hexdigest()
        told = change(house, "POST", "/api/issued/verify", {"sha256": digest}).json
        assert (told["number"], told["state"]) == (one["number"], "issued")
    other = change(house, "POST", "/api/issued/verify", {"sha256": "0" * 64}).json
    assert (other["number"], other["state"]) == ("", None)
    file = tmp_path / "report.html"
    file.write_bytes(page(house, one))
    data = ["--data", str(house.folder), "--json"]
    assert main(["report", "verify", str(file), *data]) == 0
    assert json.loads(capsys.readouterr().out)["number"] == one["number"]
    file.write_bytes(page(house, one) + b" ")
    assert main(["report", "verify", str(file), *data]) == 1


def test_from_the_command_line(house: House, tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    data = ["--data", str(house.folder)]
    out = tmp_path / "draft"
    for kind, begins in (("html", b"<!doctype"), ("json", b"{"), ("pdf", b"%PDF")):
        assert main(["report", "make", "pier", *data, "--format", kind, "--out", str(out)]) == 0
        assert out.read_bytes().startswith(begins)
    assert main(["report", "issue", "pier", *data, "--json"]) == 0
    told = json.loads(capsys.readouterr().out)
    assert told["state"] == "issued"
    assert ISSUED.read(house.folder, told["pdf_sha256"])
    assert main(["report", "show", told["number"], *data]) == 0
    assert told["number"] in capsys.readouterr().out
    assert main(["report", "show", "TF-1999-0001", *data]) == 2
    assert main(["report", "issue", "nowhere", *data]) == 2


def test_a_link_is_mailed_without_its_passphrase_and_taken_back_with_it(
    house: House, monkeypatch: pytest.MonkeyPatch
) -> None:
    measure(house)
    one = house.issue()
    path = f"/api/issued/{one['id']}/links"
    form = {"name": "The board", "email": "board@ferries.example", "passphrase": "open sesame"}
    refused = change(house, "POST", path, form)
    assert (refused.status_code, "No mail server" in refused.json["detail"]) == (409, True)
    db = connect(house.folder)
    assert db.execute("SELECT count(*) FROM report_link").fetchone()[0] == 0
    with writing(db):
        keep_mail_server(db, MailServer("mail.example", 25, "none", "", "", "tarnfell@merrow.example"))
    assert change(house, "POST", path, form | {"email": "board"}).status_code == 422
    house.app.config["PUBLIC_ADDRESS"] = "https://tarnfell.example/"
    (link,) = change(house, "POST", path, form).json["issued"][0]["links"]
    assert (link["letter"], link["email"], link["failure"]) == ("waiting", "board@ferries.example", "")
    letter = letters.next_due(db)
    assert letter is not None
    assert f"\nhttps://tarnfell.example{link['path']}\n" in letter.words
    assert ("a passphrase" in letter.words, "sesame" in letter.words) == (True, False)
    assert (letter.address, letter.subject) == ("board@ferries.example", f"Report {one['number']}: Pier office")
    monkeypatch.setattr(mail, "send", lambda *_: None)
    assert deliver_next(db, Sending(), "letter")
    page = house.person.get("/api/sites/pier/reports").json
    assert page["issued"][0]["links"][0]["letter"] == "sent"
    (link, _) = change(house, "POST", path, form | {"passphrase": ""}).json["issued"][0]["links"]
    waiting = letters.next_due(db)
    assert waiting is not None
    assert "passphrase" not in waiting.words
    number = waiting.about.removeprefix("link ")
    assert change(house, "DELETE", f"{path}/{number}").status_code == 200
    assert letters.next_due(db) is None


def rows_of(body: bytes) -> list[dict[str, str]]:
    return list(csv.DictReader(io.StringIO(body.decode())))


def test_the_calls_it_rests_on_are_kept_with_it(house: House) -> None:
    measure(house)
    draft = house.document("/api/sites/pier/report/csv")
    assert draft.headers["Content-Disposition"].endswith("pier-calls.csv")
    rows = rows_of(draft.data)
    assert [(r["run"], r["call"], r["direction"]) for r in rows] == [
        ("1", "1", "down"), ("1", "1", "up"), ("1", "2", "down"), ("1", "2", "up"),
    ]  # fmt: skip
    shown = {side: house.person.get("/api/calls/1").json[side]["figures"] for side in ("up", "down")}
    for row in rows[:2]:
        side = shown[row["direction"]]
        assert (float(row["mos"]), int(row["packets_sent"])) == (pytest.approx(side["mos"], abs=0.01), side["sent"])
        assert (row["counts"], row["within_bounds"], row["concurrent_calls"], row["outcome"]) == (
            "yes", "yes", "2", "whole",
        )  # fmt: skip
        assert re.fullmatch(r"\d\d:\d\d:\d\d", row["time"])
    one = house.issue()
    kept = page(house, one, "json"), house.person.get(f"/api/issued/{one['id']}/calls.csv").data
    assert kept[1] == draft.data
    measure(house)
    assert len(rows_of(house.document("/api/sites/pier/report/csv").data)) == 8
    assert house.person.get(f"/api/issued/{one['id']}/calls.csv").data == draft.data
    found = change(house, "POST", "/api/issued/verify", {"sha256": hashlib.sha256(draft.data).hexdigest()}).json
    assert (found["number"], "unchanged" in found["says"]) == (one["number"], True)


def test_calls_that_do_not_count_say_why(house: House, monkeypatch: pytest.MonkeyPatch) -> None:
    measure(house)
    for room in (facts, readings):
        monkeypatch.setattr(room, "MIN_CALL_S", 3.0)
    monkeypatch.setattr(dataset, "MIN_CALL_S", 3.0)
    assert {r["counts"] for r in rows_of(house.document("/api/sites/pier/report/csv").data)} == {"no: shorter than 3 s"}
    with closing(connect(house.folder)) as db:
        db.execute("UPDATE run SET tainted = 1, judged_us = judged_us + 1")
    assert {r["counts"] for r in rows_of(house.document("/api/sites/pier/report/csv").data)} == {
        "no: spoiled by an end’s own machine"
    }


def test_what_ends_say_cannot_run_in_a_spreadsheet(house: House) -> None:
    house.heartbeat()
    run = house.place().json["id"]
    house.heartbeat()
    reason = {"reason": "=HYPERLINK(0)", "code": "unreachable"}
    assert house.probe("POST", f"/api/probe/jobs/{run}/failure", json=reason).status_code == 200
    rows = rows_of(house.document("/api/sites/pier/report/csv").data)
    assert {(r["outcome"], r["reason"]) for r in rows} == {("not placed", "'=HYPERLINK(0)")}
    assert {(r["counts"], r["within_bounds"], r["mos"]) for r in rows} == {("yes", "no", "")}


def test_a_report_of_before_calls_were_kept_says_so(house: House) -> None:
    measure(house)
    one = house.issue()
    with writing(connect(house.folder)) as db:
        db.execute("UPDATE issued SET calls_sha256 = NULL")
    answer = house.person.get(f"/api/issued/{one['id']}/calls.csv")
    assert (answer.status_code, "before calls were kept" in answer.json["detail"]) == (404, True)
    assert house.person.get("/api/sites/pier/reports").json["issued"][0]["has_calls"] is False


@pytest.mark.skipif(not shutil.which("pdfinfo"), reason="pdfinfo reads the size of the pages")
def test_reports_are_printed_on_the_paper_of_the_engagement(house: House) -> None:
    measure(house)
    first = house.issue()
    form = {"name": "Customer", "summary": "", "paper": "Letter"}
    assert change(house, "PUT", "/api/engagements/customer", form).status_code == 200
    assert change(house, "PUT", "/api/engagements/customer", form | {"paper": "A3"}).status_code == 422
    second = house.issue()
    assert [b"size: A4; @" in page(house, one) for one in (first, second)] == [True, False]
    assert b"size: Letter; @" in page(house, second)
    assert "size: Letter;" in house.person.get("/api/engagements/customer/report.html").text
    db, given_up = connect(house.folder), set[int]()
    while make_issued_pdf(db, house.folder, given_up):
        pass
    for one, size in ((first, "(A4)"), (second, "(letter)")):
        (house.folder / "one.pdf").write_bytes(page(house, one, "pdf"))
        about = subprocess.run(["pdfinfo", house.folder / "one.pdf"], capture_output=True, text=True, check=True).stdout
        assert size in about


def test_two_reports_are_compared_by_what_was_frozen(house: House) -> None:
    measure(house)
    first = house.issue()
    measure(house)
    second = house.issue()
    path = f"/api/issued/compare?first={first['id']}&second={second['id']}"
    found = house.person.get(path).json
    assert (found["first"]["number"], found["second"]["number"]) == (first["number"], second["number"])
    assert any("They share 2 calls of 2 and 4" in one for one in found["cautions"])
    house.post("/api/engagements", {"name": "x", "summary": ""})
    for other in (f"first={first['id']}&second=99", "first=1", "first=0&second=1"):
        assert house.person.get(f"/api/issued/compare?{other}").status_code in (404, 422)
