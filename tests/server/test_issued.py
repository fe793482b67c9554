"""Issued reports: numbered and frozen, replaced and withdrawn, verified, and read by links without signing in."""

from __future__ import annotations

import hashlib
import json
import re
from pathlib import Path
from typing import Any

import pytest
from flask.testing import FlaskClient

from tarnfell.cli import main
from tarnfell.store import issued as issued_store
from tarnfell.store import sites as site_store
from tarnfell.store.db import connect, now_us, writing
from tarnfell.store.files import ISSUED
from tarnfell.work.evidence import evaluations
from tarnfell.work.issuing.issue import make_issued_pdf
from tests.server.conftest import House, record_file

DAY_US = 86_400_000_000


def change(house: House, method: str, path: str, body: dict[str, Any] | None = None) -> Any:
    return house.person.open(path, method=method, json=body, headers={"X-CSRF-Token": house.csrf})


def issue(house: House) -> dict[str, Any]:
    answer = change(house, "POST", "/api/sites/pier/report/issue", {})
    assert answer.status_code == 200, answer.text
    return dict(answer.json["issued"][0])


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
    first = issue(house)
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
    second = issue(house)
    assert second["number"] == first["number"][:-1] + "2"
    assert "Another name" in page(house, second).decode()
    assert (page(house, first), page(house, first, "json")) == (html, figures)
    told = {one["number"]: one for one in house.person.get("/api/sites/pier/reports").json["issued"]}
    assert (told[first["number"]]["state"], told[first["number"]]["replaced_by"]) == ("replaced", second["number"])
    assert told[second["number"]]["state"] == "issued"


def test_one_that_cannot_be_printed_does_not_hold_up_the_next(house: House, caplog: pytest.LogCaptureFixture) -> None:
    first, second = issue(house), issue(house)
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
    one = issue(house)
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
    monkeypatch.setattr(evaluations, "CALLS_AT_ONCE", 0)
    measure(house)
    evaluations.evaluate_next(connect(house.folder))
    measure(house)
    answer = change(house, "POST", "/api/sites/pier/report/issue", {})
    assert (answer.status_code, "still being judged" in answer.json["detail"]) == (409, True)
    assert house.person.get("/api/sites/pier/reports").json["behind"] is True
    evaluations.evaluate_next(connect(house.folder))
    assert issue(house)["number"].endswith("-0001")


def test_what_the_consultant_writes_stands_in_it(house: House) -> None:
    by_itself = house.person.get("/api/sites/pier/reports").json["by_itself"]
    assert by_itself[0] in house.person.get("/api/sites/pier/report.html").text
    draft = {"summary": "First sentence.\n\n<b>Second</b> & last.", "note": "Seen on site:\n<script>alert(1)</script>"}
    answer = change(house, "PUT", "/api/sites/pier/report/draft", draft)
    assert (answer.status_code, answer.json["draft"]) == (200, draft)
    html = page(house, issue(house)).decode()
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
    one = issue(house)
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
    one = issue(house)
    html, path = page(house, one), shared(house, one)
    answer = change(house, "POST", f"/api/issued/{one['id']}/withdraw", {"reason": "The wrong line was measured."})
    assert answer.json["issued"][0]["state"] == "withdrawn"
    assert page(house, one) == html
    assert "It was withdrawn: The wrong line was measured." in stranger.get(path).text
    assert stranger.get(f"{path}/report.html").data == html
    again = change(house, "POST", f"/api/issued/{one['id']}/withdraw", {"reason": "Again."})
    assert again.status_code == 409
    # The next does not replace what was withdrawn.
    issue(house)
    told = house.person.get("/api/sites/pier/reports").json["issued"]
    assert [(each["state"], each["replaced_by"]) for each in told] == [("issued", ""), ("withdrawn", "")]


def test_a_link_opens_one_report_to_anybody_who_has_it(house: House, stranger: FlaskClient) -> None:
    first = issue(house)
    path = shared(house, first)
    frame = stranger.get(path)
    assert (frame.status_code, first["number"] in frame.text) == (200, True)
    assert f'src="{path}/report.html"' in frame.text
    assert stranger.get(f"{path}/report.html").data == page(house, first)
    assert stranger.get(f"{path}/report.json").status_code == 404
    for closed in (f"/api/issued/{first['id']}/report.html", "/api/sites/pier/reports", "/api/sites/pier"):
        assert stranger.get(closed).status_code == 401
    assert stranger.get(path[:-1]).status_code == 404
    second = issue(house)
    assert f"It was replaced by report {second['number']}." in stranger.get(path).text
    (link,) = house.person.get("/api/sites/pier/reports").json["issued"][1]["links"]
    assert (link["opened"], link["good"]) == (2, True)
    assert 0 <= now_us() - link["last_opened_us"] < 60_000_000


def test_a_link_ends_and_expires(house: House, stranger: FlaskClient) -> None:
    one = issue(house)
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
    one = issue(house)
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
    one = issue(house)
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
