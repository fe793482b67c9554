"""Setting sites up over the API: briefs, arithmetic, presets, copies, archives, lists."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Any

import pytest

from tarnfell.core.codecs import find_codec
from tarnfell.core.rates import call_rate
from tarnfell.server.brief.models.brief import BriefForm, TargetsForm
from tarnfell.server.judge.sites import business_hours
from tarnfell.store.db import connect
from tarnfell.store.sites import site_by_slug
from tarnfell.work.evidence.facts import moment_at
from tests.server.conftest import House, record_file


def form(**changes: Any) -> dict[str, Any]:
    return {"name": "Ferry Terminal", "people": 40, "up_kbps": 10_000, "down_kbps": 40_000, **changes}


def put(house: House, path: str, body: dict[str, Any]) -> Any:
    return house.person.put(path, json=body, headers={"X-CSRF-Token": house.csrf})


def test_from_an_empty_installation_to_a_site(house: House) -> None:
    made = house.post("/api/engagements", {"name": "Sound Čaj & Co.", "summary": "Two sites"})
    assert made.json["slug"] == "sound-caj-co"
    site = house.post("/api/engagements/sound-caj-co/sites", form(targets={"target_mos": 3.6, "max_delay_ms": 300}))
    assert site.json == {"slug": "ferry-terminal"}
    page = house.person.get("/api/sites/ferry-terminal").json
    assert page["brief"]["needed_calls"] == 13  # 40 people × 3 × 3 min = 6 erlangs at 1 %: 13 by Erlang B's tables
    assert page["next"]["words"].startswith("Place a probe")
    brief = house.person.get("/api/sites/ferry-terminal/brief").json
    assert brief["form"]["targets"]["max_delay_ms"] == 300
    assert brief["form"]["stated_calls"] is None
    # In another engagement the same name gets an address of its own; in this one nobody could tell them apart.
    assert house.post("/api/engagements/customer/sites", form()).json == {"slug": "ferry-terminal-2"}
    again = house.post("/api/engagements/sound-caj-co/sites", form(name=" ferry terminal"))
    assert again.status_code == 422
    assert "already a site called “Ferry Terminal”" in again.json["detail"]


def test_a_brief_comes_back_as_it_was_written(house: House) -> None:
    written = {
        **form(name="Pier office", stated_calls=7),
        "place": "The pier",
        "address": "1 Pier Road, Merrow",
        "time_zone": "Atlantic/Faroe",
        "open_days": "135",
        "blackouts": [{"days": "5", "from_minute": 720, "to_minute": 780, "why": "payroll"}],
        "ceiling_pct": 55,
        "contacts": [{"role": "site", "name": "Ada", "email": "ada@merrow.example", "phone": "1"}],
        "firewall_by": "Sound IT",
        "video": [{"profile": "720p30", "streams": 2}],
        "srtp": True,
        "vlan_tags": 1,
        "targets": {"target_mos": 4.1, "max_loss_pct": 0.5, "required_days": 3},
    }
    assert put(house, "/api/sites/pier/brief", written).json == {"slug": "pier"}
    back = house.person.get("/api/sites/pier/brief").json["form"]
    for name, value in written.items():
        if name != "targets":
            assert back[name] == value, name
    assert back["targets"] | written["targets"] == back["targets"]  # type: ignore[operator]


@pytest.mark.parametrize(
    ("change", "says"),
    [
        ({"time_zone": "Mars/Base"}, "no time zone “Mars/Base”"),
        ({"open_days": "128"}, "Business days: “128” are not weekdays"),
        ({"open_minute": 480, "close_minute": 480}, "open and close at the same minute"),
        ({"blackouts": [{"days": "1", "from_minute": 60, "to_minute": 60}]}, "begin and end at the same minute"),
        ({"codec": "g999"}, "No codec is called “g999”"),
        ({"ptime_ms": 15}, "cannot be sent every 15 ms"),
        ({"video": [{"profile": "8k", "streams": 1}]}, "no video profile “8k”"),
        ({"people": None}, "or enter the concurrent calls directly"),
        ({"targets": {"target_mos": 5}}, "Quality of a call: 5 cannot be"),
        ({"calls_per_hour": 1000, "minutes_per_call": 60}, "erlangs at one site cannot be right"),
        ({"up_kbps": 0}, "Up kbit/s must be at least 1."),
        ({"name": "  "}, "Name must not be empty."),
        ({"name": "x" * 121}, "Name must have at most 120 characters."),
        ({"ceiling_pct": 100.5}, "Ceiling % must be at most 100."),
        ({"blocking_pct": 0}, "Blocking % must be more than 0."),
        ({"srtp": "perhaps"}, "SRTP must be true or false."),
        ({"blackouts": [{"days": "1", "from_minute": "x", "to_minute": 60}]}, "Blackouts, number 1, from minute must"),
        ({"contacts": "nobody"}, "Contacts must be a list."),
        ({"up_kbps": 10**40}, "must be at most"),
        ({"colour": "red"}, "Colour is not known here."),
    ],
)
def test_briefs_that_cannot_be(house: House, change: dict[str, Any], says: str) -> None:
    for answer in (
        house.post("/api/engagements/customer/sites", form(**change)),
        house.post("/api/arithmetic", form(**change)),
    ):
        assert answer.status_code == 422
        assert says in answer.json["detail"]


def test_arithmetic_is_the_cores(house: House) -> None:
    asked = form(stated_calls=10, video=[{"profile": "720p30", "streams": 2}], pppoe=True)
    got = house.post("/api/arithmetic", asked).json
    assert got["need"] is None
    audio, video = got["loads"]
    assert audio["line_kbps"] == pytest.approx(10 * (80 + 3.2) * 1.05)
    assert audio["wire_kbps"] == pytest.approx(10 * (call_rate(find_codec("g711a"), 20).wire_ipv4_kbps + 3.2 + 4))
    assert video["streams"] == 2
    total = audio["line_kbps"] + video["line_kbps"]
    assert got["share_up_pct"] == pytest.approx(total / 100)
    assert got["share_down_pct"] == pytest.approx(total / 400)
    assert got["run"] == {
        "calls_at_once": 10, "call_s": 60, "moments": 144, "load_s": 144 * 60, "calls": 1440, "probes": 1,
    }  # fmt: skip
    assert got["moments_to_show"] == 122
    assert got["best_mos"] == pytest.approx(4.37, abs=0.01)


@pytest.mark.parametrize(
    ("change", "says"),
    [
        ({"up_kbps": 500}, "The line cannot carry this"),
        ({"up_kbps": 1000}, "little is left"),
        ({"up_kbps": None}, "Without the line's rates"),
        ({"ceiling_pct": 5}, "lets a test place 5 of the 10 needed calls"),
        ({"targets": {"required_moments": 50}}, "50 ten-minute moments cannot show 97 %, even without a bad call: 122"),
        ({"codec": "g7231-63", "ptime_ms": 30}, "No network can give a call of 4.0 MOS with G.723.1"),
        ({"codec": "g729a", "targets": {"target_mos": 4.2}}, "4.02 (MOS-CQEN) is its best"),
        ({"codec": "g722", "targets": {"target_mos": 4.4}}, "4.34 (MOS-CQEW) is its best"),
        ({"targets": {"max_delay_ms": 80}}, "No network can keep 80 ms mouth-to-ear"),
        ({"stated_calls": 250}, "250 take 3 probes"),
    ],
)
def test_arithmetic_says_what_to_mind(house: House, change: dict[str, Any], says: str) -> None:
    got = house.post("/api/arithmetic", form(**{"stated_calls": 10, **change})).json
    assert any(says in remark for remark in got["remarks"]), got["remarks"]


def test_presets_are_kept_per_engagement(house: House) -> None:
    path = "/api/engagements/customer/presets"
    kept = put(house, path, {"title": "Harbour rule", "targets": {"target_mos": 3.9}}).json["presets"]
    assert [p["title"] for p in kept] == ["Strict", "Usual", "Tolerant", "Harbour rule"]
    put(house, path, {"title": "harbour RULE", "targets": {"target_mos": 3.8}})
    house.post("/api/engagements", {"name": "Other"})
    assert len(house.person.get("/api/engagements/other/brief").json["presets"]) == 3
    own = house.person.get("/api/engagements/customer/brief").json["presets"][3]
    assert own["targets"]["target_mos"] == 3.8
    assert "comes with the program" in put(house, path, {"title": "Strict ", "targets": {}}).json["detail"]
    gone = house.person.delete(f"{path}/{own['id']}", headers={"X-CSRF-Token": house.csrf}).json
    assert len(gone["presets"]) == 3


def test_a_copy_has_the_brief_and_nothing_else(house: House) -> None:
    assert house.post("/api/sites/pier/duplicate", {"name": "Pier annex"}).json == {"slug": "pier-annex"}
    copy = house.person.get("/api/sites/pier-annex").json
    original = house.person.get("/api/sites/pier").json
    assert copy["brief"] == original["brief"]
    assert (copy["probes"], copy["runs"]) == ([], [])


def test_archived_is_put_away_and_nothing_is_lost(house: House) -> None:
    run = house.place().json["id"]
    assert "A run is in progress" in house.post("/api/sites/pier/archive", {"archived": True}).json["detail"]
    assert "A run is in progress" in house.post("/api/engagements/customer/archive", {"archived": True}).json["detail"]
    house.heartbeat()
    house.deliver(run, record_file())
    house.post("/api/sites/pier/archive", {"archived": True})
    page = house.person.get("/api/engagements/customer").json
    assert page["sites"] == []
    assert [s["slug"] for s in page["archived_sites"]] == ["pier"]
    assert house.person.get("/api/sites/pier").json["runs_total"] == 1
    refused = house.place()
    assert refused.status_code == 409
    assert "archived" in refused.json["detail"]
    house.post("/api/sites/pier/archive", {"archived": False})
    assert house.person.get("/api/engagements/customer").json["sites"][0]["slug"] == "pier"
    house.post("/api/engagements/customer/archive", {"archived": True})
    assert house.person.get("/api/engagements").json["engagements"][0]["archived_us"]


LIST = """name;place;time_zone;opens;closes;people;calls_per_hour;up_kbps;down_kbps;srtp
Quay;North;Europe/Oslo;7:30;16:00;25;1,5;20000;20000;yes
Slip;South;Nowhere/Land;7;15;10;;;;
;;;;;;;;;
Dock;;;;;;;;;
"""


def read_list(house: House, text: str, keep: bool = False) -> Any:
    return house.post("/api/engagements/customer/site-list", {"csv": text, "keep": keep})


def test_a_list_of_sites_is_read_line_by_line(house: House) -> None:
    read = read_list(house, LIST).json
    assert read["state"] == "read"
    quay, slip, dock = read["lines"]
    assert (quay["line"], quay["needed_calls"], quay["problem"]) == (2, 6, None)
    assert "no time zone “Nowhere/Land”" in slip["problem"]
    assert dock == {**dock, "line": 5, "problem": "Give needed_calls, or people."}
    assert len(house.person.get("/api/engagements/customer").json["sites"]) == 1
    kept = read_list(house, LIST, keep=True).json
    assert [line["slug"] for line in kept["lines"]] == ["quay", None, None]
    form = house.person.get("/api/sites/quay/brief").json["form"]
    assert (form["open_minute"], form["calls_per_hour"], form["srtp"]) == (450, 1.5, True)


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("", "must name the columns"),
        ("place,people\nx,3\n", "one of them must be “name”"),
        ("name,pople\nx,3\n", "No column is called “pople”"),
        ("name,people\n", "holds no site"),
        ("name,people\nx,3,4\n", "Line 2 has more cells"),
        ('name,people\n"x,3\n', "cannot be read as CSV"),
        ("name,people\n" + "x,3\n" * 1001, "more than 1000 sites"),
        ('name\n"' + "\n" * 20_000 + "x", "more than 20000 lines"),
    ],
)
def test_lists_that_cannot_be_read(house: House, text: str, says: str) -> None:
    answer = read_list(house, text)
    assert answer.status_code == 422
    assert says in answer.json["detail"]


@pytest.mark.parametrize(
    ("row", "says"),
    [("x,three,8:00", "People must be a whole number."), ("x,3,8h", "opens: “8h” is not a time")],
)
def test_lines_that_cannot_be(house: House, row: str, says: str) -> None:
    (line,) = read_list(house, f"name,people,opens\n{row}\n").json["lines"]
    assert says in line["problem"]


def test_a_written_list_reads_back_the_same(house: House) -> None:
    put(
        house, "/api/sites/pier/brief", form(name="=Pier", place="-1 floor", srtp=True, targets={"max_delay_ms": 180.5})
    )
    text = house.person.get("/api/engagements/customer/site-list.csv").text
    assert "'=Pier" in text
    (line,) = read_list(house, text, keep=True).json["lines"]
    assert (line["problem"], line["change"], line["slug"]) == (None, "unchanged", "pier")
    assert len(house.person.get("/api/engagements/customer").json["sites"]) == 1
    # In another engagement the same line makes the same site.
    house.post("/api/engagements", {"name": "Second"})
    (copy,) = house.post("/api/engagements/second/site-list", {"csv": text, "keep": True}).json["lines"]
    assert copy["change"] == "new"
    first, again = (house.person.get(f"/api/sites/{s}/brief").json["form"] for s in ("pier", copy["slug"]))
    assert first == again


WHOLE = {
    "blackouts": [{"days": "12345", "from_minute": 720, "to_minute": 780, "why": "lunch: till open"},
                  {"days": "7", "from_minute": 1320, "to_minute": 360, "why": ""}],
    "contacts": [{"role": "IT", "name": "Ana Ríos", "email": "ana@customer.example", "phone": "+34 1"},
                 {"role": "", "name": "Front desk", "email": "", "phone": ""}],
    "video": [{"profile": "720p30", "streams": 4}, {"profile": "360p", "streams": 1}],
    "ceiling_pct": None, "address": "Quay 1", "switches_by": "Ana", "tunnel_bytes": 60, "vlan_tags": 1, "ipv6": True,
    "targets": {"min_stretch_mos": None, "required_days": 3, "target_picture": 3.0},
}  # fmt: skip


def test_every_field_of_a_brief_is_in_the_list(house: House) -> None:
    put(house, "/api/sites/pier/brief", form(name="Pier office", **WHOLE))
    text = house.person.get("/api/engagements/customer/site-list.csv").text
    house.post("/api/engagements", {"name": "Second"})
    house.post("/api/engagements/second/site-list", {"csv": text, "keep": True})
    first, again = (house.person.get(f"/api/sites/{s}/brief").json["form"] for s in ("pier", "pier-office"))
    assert first == again
    assert first["ceiling_pct"] is None
    columns = set(text.splitlines()[0].split(","))
    known = {
        "stated_calls": "needed_calls",
        "open_minute": "opens",
        "close_minute": "closes",
        "open_days": "business_days",
    }
    assert {known.get(name, name) for name in (*BriefForm.model_fields, *TargetsForm.model_fields)} - {
        "targets"
    } == columns


def test_a_list_changes_the_sites_it_names_and_leaves_what_it_does_not_say(house: House) -> None:
    put(house, "/api/sites/pier/brief", form(name="Pier office", **WHOLE))
    lines = read_list(
        house, "name,provider,blackouts,up_kbps\nPIER OFFICE,Lochnet,none,\nPier office,x,,\n", keep=True
    ).json["lines"]
    assert [line["problem"] for line in lines] == [None, "Line 2 has the same name."]
    brief = house.person.get("/api/sites/pier/brief").json
    assert (brief["form"]["provider"], brief["form"]["blackouts"], brief["form"]["address"]) == (
        "Lochnet",
        [],
        "Quay 1",
    )
    assert brief["changes"][0]["by"] == "Tess Ter"
    told = {c["what"]: (c["before"], c["after"]) for c in brief["changes"][0]["changes"]}
    assert told["Provider"] == ("none", "Lochnet")
    assert told["Hours without load"] == ("12345 12:00 13:00 lunch: till open; 7 22:00 6:00", "none")
    house.post("/api/sites/pier/archive", {"archived": True})
    (line,) = read_list(house, "name,people\nPier office,3\n").json["lines"]
    assert "An archived site has this name" in line["problem"]


@pytest.mark.parametrize(
    ("column", "cell", "says"),
    [
        ("blackouts", "lunch", "blackouts: “lunch” is not as"),
        ("blackouts", "12 12:60-13:00", "“12:60” is not a time"),
        ("contacts", "a|b|c|d|e", "contacts: “a|b|c|d|e” is not as"),
        ("video", "720p30", "video: “720p30” is not as"),
        ("video", "9k x 1", "no video profile “9k”"),
    ],
)
def test_lists_within_a_cell_that_cannot_be(house: House, column: str, cell: str, says: str) -> None:
    (line,) = read_list(house, f"name,people,{column}\nx,3,{cell}\n").json["lines"]
    assert says in line["problem"]


def test_what_a_brief_said_before_is_in_the_report(house: House) -> None:
    put(house, "/api/sites/pier/brief", form(name="Pier office", targets={"target_mos": 4.0}))
    put(house, "/api/sites/pier/brief", form(name="Pier office", targets={"target_mos": 3.6}))
    put(house, "/api/sites/pier/brief", form(name="Pier office", targets={"target_mos": 3.6}))
    changes = house.person.get("/api/sites/pier/brief").json["changes"]
    assert len(changes) == 2  # the third said nothing new
    assert {"what": "Quality of a call", "before": "4 MOS", "after": "3.6 MOS"} in changes[0]["changes"]
    report = house.person.get("/api/sites/pier/report.html").text
    assert "Quality of a call from 4 MOS to 3.6 MOS" in report.replace("\N{NO-BREAK SPACE}", " ")


def test_business_hours_over_night(house: House) -> None:
    """Open Monday to Friday from 22:00 to 6:00: Friday's hours end on Saturday morning, Monday's begin at night."""
    put(house, "/api/sites/pier/brief", form(name="Pier office", open_minute=1320, close_minute=360))
    db = connect(house.folder)
    site = site_by_slug(db, "pier")
    assert site is not None

    def busy(day: int, hour: int) -> bool:
        # In November the site keeps UTC; the 23rd is a Monday.
        at = datetime(2026, 11, day, hour, tzinfo=UTC)
        return moment_at(site, round(at.timestamp() * 1e6)).busy

    assert [busy(23, hour) for hour in (2, 12, 21, 22)] == [False, False, False, True]
    assert [busy(28, hour) for hour in (2, 5, 6, 22)] == [True, True, False, False]
    assert business_hours(site) == "Mon–Fri 22:00–06:00 the next day"


# What the bounds of a brief do to calls that were measured


def measured(house: House, **record: Any) -> dict[str, Any]:
    run = house.place().json["id"]
    house.heartbeat()
    sent = house.deliver(run, record_file(**record))
    assert sent.status_code == 200, sent.text
    return house.person.get(f"/api/runs/{run}").json


@pytest.mark.parametrize(
    ("targets", "good"),
    [
        ({}, 2),
        ({"max_delay_ms": 150}, 2),
        ({"max_delay_ms": 90}, 0),  # 20 ms of way, 60 of buffer, 20 of packet
        ({"max_loss_pct": 0.5}, 1),
        ({"max_loss_pct": 1.5}, 2),
        ({"max_variation_ms": 1}, 2),
        ({"target_mos": 4.4}, 0),
    ],
)
def test_a_bound_decides_which_calls_are_acceptable(house: House, targets: dict[str, float], good: int) -> None:
    """Two calls of which one lost one packet in a hundred up the line."""
    put(house, "/api/sites/pier/brief", form(name="Pier", stated_calls=2, targets=targets))
    page = measured(house, lost=(40,))
    assert page["good"] == good
    share = house.person.get("/api/sites/pier").json["share"]
    assert (share["good"], share["calls"]) == (good, 2)


def test_a_changed_brief_judges_the_same_evidence_anew(house: House) -> None:
    measured(house, delay_us=140_000)
    assert house.person.get("/api/sites/pier").json["share"]["good"] == 2
    put(house, "/api/sites/pier/brief", form(name="Pier", stated_calls=2, targets={"max_delay_ms": 200}))
    assert house.person.get("/api/sites/pier").json["share"]["good"] == 0
    put(house, "/api/sites/pier/brief", form(name="Pier", stated_calls=2, targets={"max_delay_ms": 230}))
    assert house.person.get("/api/sites/pier").json["share"]["good"] == 2


def test_the_result_says_what_was_asked(house: House) -> None:
    put(house, "/api/sites/pier/brief", form(name="Pier", stated_calls=2, targets={"max_delay_ms": 180}))
    assert (
        measured(house)["acceptable_words"]
        == "4.0 MOS or better, at most 180 ms mouth-to-ear, no ten seconds below 3.1 MOS"
    )
