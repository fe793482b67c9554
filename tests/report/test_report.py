"""The report of every kind of site: what it says first, what it leaves out, and that it prints."""

from __future__ import annotations

import json
import re
import shutil
import subprocess
from collections.abc import Sequence
from dataclasses import replace
from html.parser import HTMLParser

import jsonschema_rs
import pytest

from tarnfell.core.codecs import find_codec
from tarnfell.core.rates import call_rate
from tarnfell.core.verdict.coverage import CoveredHour
from tarnfell.core.verdict.facts import Brief, CallFact, VideoFact
from tarnfell.core.verdict.site import evaluate_site
from tarnfell.report.build import Report, SiteFacts, build_report
from tarnfell.report.data import report_data, schema
from tarnfell.report.figures import coverage_svg
from tarnfell.report.render import render_html, render_pdf, unbroken
from tarnfell.server.http.describe import report_schema
from tests.core.verdict.made_up import (
    BRIEF,
    LOSS,
    NEVER_BEGAN,
    NOT_PLACED,
    QUEUE,
    SCATTER,
    cells,
    held,
    run,
    runs,
    stream,
    week,
)

CODEC = find_codec("g711a")
AT_US = 1_795_400_000_000_000


def site(**changes: object) -> SiteFacts:
    values: dict = {
        "engagement": "Customer",
        "name": "Pier office",
        "place": "Pier",
        "time_zone": "Europe/London",
        "business_hours": "Mon–Fri 08:00–18:00",
        "open_minute": 480,
        "close_minute": 1080,
        "open_days": "12345",
        "medium": "Fibre",
        "down_kbps": 50_000,
        "up_kbps": None,
        "provider": "",
        "test_point": "desk",
        "far_end": "west",
        "codec": CODEC,
        "ptime_ms": 20,
        "rate": call_rate(CODEC, 20),
    }
    return SiteFacts(**{**values, **changes})


def report(facts: list[CallFact], brief: Brief = BRIEF, video: Sequence[VideoFact] = (), **changes: object) -> Report:
    return build_report(site(**changes), evaluate_site(facts, brief, video), AT_US)


GOOD = week() + held()
AT = cells()
SITES = {
    "nothing": [],
    "good": GOOD,
    "swamped": runs(AT[:200]) + runs(AT[200:], up=QUEUE) + held(),
    "eight of twenty-eight": runs(AT[:1], calls=8),
    "one way": runs(AT[:238], down=NEVER_BEGAN),
    "drops twice a day": [f for c in AT for f in run(c, **(NOT_PLACED if c[1] // 60 in (10, 15) else {}))] + held(),
    "everything": runs(AT[:150]) + runs(AT[150:200], up=QUEUE) + runs(AT[200:250], up=LOSS) + runs(AT[250:], **SCATTER),
}
BRIEFS = {"eight of twenty-eight": replace(BRIEF, needed_calls=28)}


class Words(HTMLParser):
    """The page's text, and every address it would ask for."""

    def __init__(self, page: str) -> None:
        super().__init__()
        self.text: list[str] = []
        self.addresses: list[str] = []
        self.open: list[str] = []
        self.feed(page)

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.addresses += [v or "" for k, v in attrs if k in ("src", "href", "action")]
        if tag not in ("meta", "link", "br", "path", "rect"):
            self.open.append(tag)

    def handle_endtag(self, tag: str) -> None:
        if tag not in ("path", "rect"):
            assert self.open.pop() == tag

    def handle_data(self, data: str) -> None:
        if "style" not in self.open:
            self.text.append(data.replace("\N{NO-BREAK SPACE}", " "))


@pytest.mark.parametrize(
    ("kind", "word", "opening"),
    [
        ("nothing", "not shown yet", "No call counts at this site yet; whether it can carry its 4 concurrent"),
        ("good", "ready with conditions", "This site can carry its 4 concurrent calls, on the conditions named below."),
        ("swamped", "not ready", "at least one requirement was shown not to be met"),
        ("eight of twenty-eight", "not shown yet", "Whether this site can carry its 28 concurrent calls has not been"),
        ("one way", "not ready", "This site is not ready for its 4 concurrent calls"),
        ("drops twice a day", "not ready", "This site is not ready for its 4 concurrent calls"),
    ],
)
def test_the_answer_comes_first(kind: str, word: str, opening: str) -> None:
    made = report(SITES[kind], BRIEFS.get(kind, BRIEF))
    assert made.evaluation.verdict.word == word
    assert opening in made.summary[0]
    assert f'class="word">{word}' in render_html(made)


def test_the_first_page_says_nothing_false() -> None:
    """What each kind of site must be told, and what must not be said of it."""

    def text(kind: str) -> str:
        page = " ".join(" ".join(Words(render_html(report(SITES[kind], BRIEFS.get(kind, BRIEF)))).text).split())
        return page.split("Evidence by day and hour")[0]

    assert "No cause" not in text("nothing")
    assert "0 to 100 of 100" in text("nothing")
    few = text("eight of twenty-eight")
    assert "8 of 8 calls at" not in few
    assert "28 concurrent calls open" in few
    assert "Not met" not in few
    one_way = text("one way")
    assert "238 of 238 calls carried no audio" in one_way
    assert "Both directions in all" not in one_way
    assert "Costliest cause: no audio in one direction: download (238 of 238 calls)." in one_way
    drops = text("drops twice a day")
    assert "Not met: 97 % of calls acceptable in business hours." in drops
    assert "firewall" not in drops
    for kind in SITES:
        assert "Not the far end" not in text(kind)


@pytest.mark.parametrize("kind", SITES)
def test_the_page_is_whole_and_asks_nothing_of_the_outside(kind: str) -> None:
    page = render_html(report(SITES[kind]))
    words = Words(page)
    assert words.open == []
    assert words.addresses == []
    assert not re.findall(r"url\((?!\"data:)", page)
    assert "None" not in " ".join(words.text)
    assert "nan" not in " ".join(words.text).lower().split()


def test_each_cause_has_its_figures_and_its_remedy() -> None:
    made = report(SITES["everything"])
    text = " ".join(Words(render_html(made)).text)
    assert [c.key for c in made.evaluation.causes] == ["delay-swings", "uplink-queue", "line-loss"]
    for cause in made.evaluation.causes:
        for part in (cause.title, cause.remedy, cause.gain, *cause.says, *cause.alternatives):
            assert part in text


def test_names_from_outside_cannot_write_the_page() -> None:
    page = render_html(report(GOOD, name="<script>alert(1)</script>", test_point='"><b>', far_end="a & b"))
    assert "<script" not in page
    assert "<b>" not in page.replace("<b>79 to 100</b>", "")


def test_what_is_left_out_is_named_and_what_it_would_change() -> None:
    text = " ".join(Words(render_html(report(GOOD + runs(AT[:7], tainted=True)))).text)
    assert "7 spoiled by an end’s own machine or clock" in text
    assert "would be" not in text
    flipped = " ".join(Words(render_html(report(GOOD + runs(AT[:60], tainted=True, up=LOSS)))).text)
    assert "the verdict would be “not ready”" in flipped


def test_no_line_ends_between_a_figure_and_its_unit() -> None:
    page = render_html(report(SITES["swamped"]))
    assert re.findall(r"\d (?:%|ms|kbit/s|Mbit/s)", page.partition("</style>")[2]) == []
    assert "97\N{NO-BREAK SPACE}%" in page
    told = unbroken("4 calls, 5 msec, 95 % at 3 ms; 2 h 5 min, 10 Mbit/s, in 3 s. 12 %")
    assert (
        told.replace("\N{NO-BREAK SPACE}", "_") == "4 calls, 5 msec, 95_% at 3_ms; 2_h 5_min, 10_Mbit/s, in 3_s. 12_%"
    )


def test_figures_leave_as_plain_json() -> None:
    figures = json.loads(json.dumps(report_data(report(SITES["swamped"]))))
    assert figures["verdict"]["word"] == "not ready"
    assert figures["causes"][0]["key"] == "uplink-queue"
    assert figures["made_local"].endswith("GMT")
    assert len(figures["days"]) == 7
    assert {r["state"] for r in figures["verdict"]["requirements"]} == {"shown", "shown not", "open"}


@pytest.mark.parametrize("name", SITES)
def test_figures_are_all_that_their_schema_says_and_nothing_else(name: str) -> None:
    described = json.loads(schema())
    for one in (described, *described["$defs"].values()):
        if one.get("type") == "object" and "properties" in one:
            one["additionalProperties"] = False
    holds = jsonschema_rs.validator_for(described)
    figures = json.loads(json.dumps(report_data(report(SITES[name]))))
    assert [str(fault) for fault in holds.iter_errors(figures)] == []
    assert not holds.is_valid(figures | {"verdict": figures["verdict"] | {"word": "excellent"}})
    assert not holds.is_valid({key: value for key, value in figures.items() if key != "causes"})


def test_the_schema_is_the_one_that_follows_from_the_figures() -> None:
    assert json.loads(schema()) == report_schema()
    assert "In site time." in schema().decode()


@pytest.mark.parametrize("kind", ["nothing", "everything"])
def test_it_prints_on_a4(kind: str, tmp_path) -> None:  # type: ignore[no-untyped-def]
    file = tmp_path / "report.pdf"
    file.write_bytes(render_pdf(report(SITES[kind])))
    assert file.read_bytes().startswith(b"%PDF-")
    if not shutil.which("pdftotext"):
        pytest.skip("pdftotext reads the pages")
    about = subprocess.run(["pdfinfo", file], capture_output=True, text=True, check=True).stdout
    assert "A4" in about
    assert 1 <= int(re.search(r"Pages:\s+(\d+)", about)[1]) <= 6  # type: ignore[index]
    text = subprocess.run(["pdftotext", file, "-"], capture_output=True, text=True, check=True).stdout
    assert "Pier office" in text
    assert "Method" in text


# Bounds and video of the brief


def test_the_bounds_of_the_brief_stand_with_what_was_found() -> None:
    brief = replace(BRIEF, max_variation_ms=None)
    facts = runs(AT[:90]) + runs(AT[90:100], up=LOSS)
    text = " ".join(Words(render_html(report(facts, brief))).text)
    assert "at most 200 ms mouth-to-ear, at most 1 % lost" in text
    assert "Mouth-to-ear delay: at most 200 ms" in text
    assert "Network loss: at most 1 %" in text
    assert "Kept by 190 of 200 directions of calls" in text
    assert "PDV" not in text
    kept = {k.bound.key: k for k in evaluate_site(facts, brief).kept}
    assert set(kept) == {"max_delay_ms", "max_loss_pct"}
    assert json.loads(json.dumps(report_data(report(facts, brief))))["kept_bounds"][1]["kept"] == 190


def test_video_is_told_only_where_it_is_asked() -> None:
    pictures = [
        stream(n, AT[n], way, **({"score": 2.0, "whole": 750} if (n, way) == (1, "up") else {}))
        for n in range(1, 5)
        for way in ("up", "down")
    ]
    assert "picture score" not in render_html(report(GOOD, BRIEF, pictures)).split("Causes")[0]
    asked = " ".join(Words(render_html(report(GOOD, replace(BRIEF, video=True), pictures))).text)
    assert "97 % of video streams at picture score 3.5" in asked
    assert "3 of 4 streams in 4 ten-minute moments" in asked
    assert "1 of 4 video streams scored below 3.5: 16.7 % of their frames were broken" in asked
    assert "1 + 4·exp(−missed/10 − frozen/6)" in asked
    unplaced = " ".join(Words(render_html(report(GOOD, replace(BRIEF, video=True)))).text)
    assert "No video stream counts yet." in unplaced


def test_the_week_hour_by_hour_shows_what_was_seen_and_what_was_not() -> None:
    svg = coverage_svg([CoveredHour(1, 9, 1, 3, 12), CoveredHour(7, 3, 2, 8, 4)], {(1, 9), (1, 10)})
    assert 'aria-label="1 of 2 business hours of the week with calls"' in svg
    told = re.findall(r'<rect x="(\d+)" y="(\d+)" [^>]*fill-opacity="([\d.]+)" (stroke)?', svg)
    # Half of the shade of an hour in full, and a frame; an hour without a call has the frame alone, and a stroke.
    assert told == [("250", "16", "0.19", "stroke"), ("274", "16", "0.00", "stroke"), ("106", "100", "0.32", "")]
    assert re.findall(r'<path d="M(\d+) (\d+)l24 -14"', svg) == [("274", "30")]
    assert re.findall(r'text-anchor="middle">(\d+)</text>', svg)[24:] == ["12", "4"]
