"""The report of every kind of site: what it says first, what it leaves out, and that it prints."""

from __future__ import annotations

import json
import re
import shutil
import subprocess
from dataclasses import replace
from html.parser import HTMLParser

import pytest
from tarnfell.core.evidence import Brief, CallFact, VideoFact
from tarnfell.core.site import evaluate_site

from tarnfell.core.codecs import find_codec
from tarnfell.core.rates import call_rate
from tarnfell.report.build import Report, SiteFacts, build_report
from tarnfell.report.render import render_html, render_pdf
from tests.core.test_judging import BRIEF, HELD, LOSS, QUEUE, SCATTER, calls

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
        "spot": "desk",
        "far_end": "west",
        "codec": CODEC,
        "ptime_ms": 20,
        "rate": call_rate(CODEC, 20),
    }
    return SiteFacts(**{**values, **changes})


def report(
    facts: list[CallFact], brief: Brief = BRIEF, video: list[VideoFact] | None = None, **changes: object
) -> Report:
    return build_report(site(**changes), evaluate_site(facts, brief, video), AT_US)


GOOD = calls() + HELD
SITES = {
    "nothing": [],
    "good": GOOD,
    "swamped": calls(200) + calls(60, first=200, up=QUEUE) + HELD,
    "uncertain": calls(100) + calls(3, first=100, up=LOSS) + HELD,
    "everything": calls(100) + calls(20, 100, up=QUEUE) + calls(20, 120, up=LOSS) + calls(20, 140, **SCATTER),
}


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
            self.text.append(data)


@pytest.mark.parametrize(
    ("kind", "opening"),
    [
        ("nothing", "No call has been placed"),
        ("good", "This site can carry the 4 calls at once"),
        ("swamped", "This site cannot yet carry"),
        ("uncertain", "if the conditions below are met"),
    ],
)
def test_the_answer_comes_first(kind: str, opening: str) -> None:
    assert opening in report(SITES[kind]).summary[0]


@pytest.mark.parametrize("kind", SITES)
def test_the_page_is_whole_and_asks_nothing_of_the_outside(kind: str) -> None:
    page = render_html(report(SITES[kind]))
    words = Words(page)
    assert words.open == []
    assert words.addresses == []
    assert not re.findall(r"url\((?!\"data:)", page)
    assert "None" not in " ".join(words.text)
    assert "nan" not in " ".join(words.text).lower().split()


def test_each_finding_has_its_remedy_and_its_points() -> None:
    made = report(SITES["everything"])
    text = " ".join(Words(render_html(made)).text)
    assert len(made.evaluation.findings) >= 4
    for finding in made.evaluation.findings:
        for part in (finding.title, finding.remedy, finding.gain):
            assert part in text


def test_names_from_outside_cannot_write_the_page() -> None:
    page = render_html(report(GOOD, name="<script>alert(1)</script>", spot='"><b>', far_end="a & b"))
    assert "<script" not in page
    assert "<b>" not in page.replace("<b>100</b>", "")


def test_spoiled_runs_are_mentioned() -> None:
    facts = GOOD + calls(7, first=700, tainted=True)
    assert "7 calls were left out" in render_html(report(facts))


def test_figures_leave_as_plain_json() -> None:
    figures = json.loads(json.dumps(report(SITES["swamped"]).as_json()))
    assert figures["verdict"]["word"] == "not ready"
    assert figures["findings"][0]["key"] == "standing-queue-up"
    assert figures["made_local"].endswith("GMT")
    assert len(figures["days"]) == 7


@pytest.mark.parametrize("kind", ["nothing", "everything"])
def test_it_prints_on_a4(kind: str, tmp_path) -> None:  # type: ignore[no-untyped-def]
    file = tmp_path / "report.pdf"
    file.write_bytes(render_pdf(report(SITES[kind])))
    assert file.read_bytes().startswith(b"%PDF-")
    if not shutil.which("pdftotext"):
        pytest.skip("pdftotext reads the pages")
    about = subprocess.run(["pdfinfo", file], capture_output=True, text=True, check=True).stdout
    assert "A4" in about
    assert 1 <= int(re.search(r"Pages:\s+(\d+)", about)[1]) <= 5  # type: ignore[index]
    text = subprocess.run(["pdftotext", file, "-"], capture_output=True, text=True, check=True).stdout
    assert "Pier office" in text
    assert "Method" in text


# Bounds and video of the brief


def stream(number: int, direction: str, score: float) -> VideoFact:
    return VideoFact(
        stream_id=number,
        run_id=1,
        direction=direction,
        day="2026-03-24",
        minute=600,
        busy=True,
        frames=600,
        whole=600 if score == 5 else 500,
        lost=0 if score == 5 else 90,
        late=0 if score == 5 else 10,
        freezes=0 if score == 5 else 4,
        frozen_ms=0 if score == 5 else 2500,
        worst_second_fps=30,
        score=score,
        tainted=False,
    )


def test_the_bounds_of_the_brief_stand_with_what_was_found() -> None:
    brief = replace(BRIEF, max_delay_ms=200.0, max_loss_pct=1.0)
    facts = calls(90) + calls(10, first=90, up=LOSS) + HELD
    text = " ".join(Words(render_html(report(facts, brief))).text)
    assert "at most 200 ms to the ear, at most 1 % lost" in text
    assert "Delay, mouth to ear" in text
    assert "Loss on the network" in text
    assert "Jitter: delay variation" not in text
    kept = {k.bound.key: k for k in evaluate_site(facts, brief).kept}
    assert set(kept) == {"max_delay_ms", "max_loss_pct"}
    assert kept["max_loss_pct"].known - kept["max_loss_pct"].kept == 10
    assert json.loads(json.dumps(report(facts, brief).as_json()))["kept_bounds"][1]["kept"] == kept["max_loss_pct"].kept


def test_video_is_told_only_where_it_is_asked() -> None:
    pictures = [stream(n, way, 5 if (n, way) != (1, "up") else 2.0) for n in range(1, 5) for way in ("up", "down")]
    assert "picture score" not in render_html(report(GOOD, BRIEF, pictures)).split("Findings")[0]
    asked = render_html(report(GOOD, replace(BRIEF, video=True), pictures))
    text = " ".join(Words(asked).text)
    assert "Video streams with a picture score of 3.5 or better" in text
    assert "75.0 % of 4 streams" in text
    assert "1 of 4 video streams up scored below 3.5: 16.7 % of their frames were broken" in text
    assert "1 + 4·exp(−missed/10 − frozen/6)" in text
    unplaced = " ".join(Words(render_html(report(GOOD, replace(BRIEF, video=True)))).text)
    assert "– not placed yet" in unplaced
    assert "video not measured" in unplaced
