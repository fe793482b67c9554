"""Dates and numbers as the reader's country writes them: what is changed, and what only looks like one."""

from __future__ import annotations

import io
import re
from dataclasses import replace
from datetime import date, timedelta
from importlib import resources
from typing import get_args

import pytest
from babel.numbers import parse_decimal
from fontTools.ttLib import TTFont
from hypothesis import given
from hypothesis import strategies as st

from tarnfell.core.verdict.site import evaluate_site
from tarnfell.report.brand import Brand
from tarnfell.report.build import build_report
from tarnfell.report.locales import LOCALES, OWN, Tag, localized, localized_page, title_of
from tarnfell.report.render import render_html
from tests.core.verdict.made_up import BRIEF
from tests.report.test_report import AT_US, SITES, Words, site

ALL_FIGURES = (
    "Tue 03 Mar 18:05:09.3, 3 March 2026, 03 Mar 2026, 3 May, 2026-03-03, Mon–Fri 09:00–17:30, 1,234.5, 0.45 %"
)

HARROW = Brand("Harrow 2.5")


def plain(text: str) -> str:
    return text.replace("\N{NARROW NO-BREAK SPACE}", " ").replace("\N{NO-BREAK SPACE}", " ")


@pytest.mark.parametrize(
    ("tag", "written"),
    [
        ("en-GB", ALL_FIGURES),
        ("en-US", "Tue, Mar 3 6:05:09.3 PM, March 3, 2026, Mar 3, 2026, May 3, Mar 3, 2026, Mon–Fri 9:00 AM–5:30 PM, "
                  "1,234.5, 0.45 %"),
        ("de-DE", "Di., 3. März 18:05:09,3, 3. März 2026, 3. März 2026, 3. Mai, 3. März 2026, Mo–Fr 09:00–17:30, "
                  "1.234,5, 0,45 %"),
        ("de-CH", "Di., 3. März 18:05:09.3, 3. März 2026, 3. März 2026, 3. Mai, 3. März 2026, Mo–Fr 09:00–17:30, "
                  "1'234.5, 0.45 %"),
        ("fr-FR", "mar. 3 mars 18:05:09,3, 3 mars 2026, 3 mars 2026, 3 mai, 3 mars 2026, lun.–ven. 09:00–17:30, "
                  "1 234,5, 0,45 %"),
        ("fi-FI", "ti 3.3. 18.05.09,3, 3. maaliskuuta 2026, 3.3.2026, 3. toukokuuta, 3.3.2026, ma–pe 9.00–17.30, "
                  "1 234,5, 0,45 %"),
    ],
)  # fmt: skip
def test_each_kind_of_date_and_number_is_written_as_there(tag: Tag, written: str) -> None:
    assert plain(localized(ALL_FIGURES, tag)) == written


@pytest.mark.parametrize(
    ("told", "written"),
    [
        ("From Sun 29 Feb 10:00 on.", "From So., 29. Feb. 10:00 on."),
        ("Mon 23 Nov 2026, 14:05", "Mo. 23. Nov. 2026, 14:05"),
        ("Of 24\N{NO-BREAK SPACE}192, 1,234,567 and 12.50 came.", "Of 24.192, 1.234.567 and 12,50 came."),
        ("Below 4.0. Up 3.9, down (4.1).", "Below 4,0. Up 3,9, down (4,1)."),
        ("On 3 days, 4 of 5 Mondays; Sunday it rained.", "On 3 days, 4 of 5 Mondays; Sonntag it rained."),
        ("In 2026 and at port 5060", "In 2026 and at port 5060"),
    ],
)  # fmt: skip
def test_sentences_in_german(told: str, written: str) -> None:
    assert localized(told, "de-DE") == written


@pytest.mark.parametrize(
    "text",
    [
        "192.0.2.10 and 192.0.2.10:5060, 2001:db8::10", "ITU-T G.107, P.800.1, G.723.1 and G.722.2",
        "TLS 1.3, IEEE 802.11", "1,23 and 12,3456",
        "RFC 3550 §6.4 and §7.3.1", "Tarnfell 1.4", "<sip:desk@192.0.2.9:5060>", "version 0.9.12", "99:99 24:00 12:60",
        "31 Junk, 45 March 2026, 2026-13-01, 2026-02-30", "31 February 2026", "harbour-3.5, v2.5 and 2.5x",
        "2026-11-27T10:00:00Z", "Summary and Saturn; Sunk, Marching", "sha 4.5e6 is 4.5e6",
    ],
)  # fmt: skip
def test_what_only_looks_like_a_date_or_a_number_stays(text: str) -> None:
    for tag in LOCALES:
        assert localized(text, tag) == text


def test_what_people_typed_in_stays_as_they_wrote_it() -> None:
    told = "At Quay 4.2, quay 4.2 and Quay 4.25: 4.2 lost, see VLAN 4.2."
    names = ["Quay 4.2", "Quay 4.25", "first line\n  see VLAN 4.2.  ", ""]
    assert localized(told, "de-DE", names) == "At Quay 4.2, quay 4.2 and Quay 4.25: 4,2 lost, see VLAN 4.2."
    # A name that nothing would happen to protects nothing: “Sun” alone is a day.
    assert localized("Sunny on Sun 29 Nov", "de-DE", ["Sunny"]) == "Sunny on So., 29. Nov."


def test_of_a_page_only_the_text_changes() -> None:
    page = '<style>a { margin: 1.5em }</style><p data-x="1.5" title="3 May">1.5 &amp; 2.5<b>A &amp; B 3.5</b></p>'
    assert localized_page(page, "de-DE", ["A & B 3.5"]) == page.replace(">1.5 &amp; 2.5<", ">1,5 &amp; 2,5<")
    assert localized_page(page, OWN) == page


@given(st.sampled_from(LOCALES), st.integers(0, 10**9), st.integers(0, 3))
def test_a_number_is_the_same_number_everywhere(tag: Tag, thousandths: int, places: int) -> None:
    own = f"{thousandths / 1000:,.{places}f}"
    written = localized(own, tag).replace("\N{RIGHT SINGLE QUOTATION MARK}", "'")
    read = parse_decimal(written, locale=tag.replace("-", "_"))
    assert float(read) == float(own.replace(",", ""))


def test_the_reports_typeface_has_all_letters_of_every_country() -> None:
    faces = resources.files("tarnfell.report").joinpath("fonts")
    days = [date(2026, 1, 1) + timedelta(days=n) for n in range(365)]
    own = " ".join(f"{day:%A %a} {day:%d %B %Y}, {day:%a %d %b}; {day}" for day in days) + ALL_FIGURES
    for face in ("source-sans-3-latin-400-normal.woff2", "source-sans-3-latin-600-normal.woff2"):
        font = TTFont(io.BytesIO(faces.joinpath(face).read_bytes()))
        has = {chr(code) for code in font.getBestCmap()}
        for tag in LOCALES:
            missing = set(localized(own, tag)) - has
            assert not missing, (tag, missing)


def test_every_country_has_a_name() -> None:
    assert (title_of("de-DE"), title_of("en-GB")) == ("German (Germany)", "English (United Kingdom)")
    assert len({title_of(tag) for tag in LOCALES}) == len(LOCALES) == len(get_args(Tag))


@pytest.mark.parametrize("kind", ["nothing", "everything", "good"])
def test_no_figure_of_a_report_is_left_out(kind: str) -> None:
    note = "Seen 3.5 times on 3 May 2026."
    own = build_report(
        site(name="Pier 4.2", place="Berth 1.5"), evaluate_site(SITES[kind], BRIEF), AT_US, note=note, brand=HARROW
    )
    told = replace(own, brand=replace(HARROW, locale="de-DE"))
    before, after = (" ".join(" ".join(Words(render_html(one)).text).split()) for one in (own, told))
    typed = re.compile(
        r"Pier 4\.2|Berth 1\.5|Harrow 2\.5|Seen 3\.5 times on 3 May 2026|[A-Z]\.\d[\d.]*|Tarnfell [\d.]+"
    )
    left = typed.sub("", after)
    assert not re.search(r"\d\.\d|\d{4}-\d\d-\d\d|\b(?:Mon|Tue|Wed|Thu|Fri|March|May|October|December)\b", left)
    for name in ("Pier 4.2", "Berth 1.5", "Harrow 2.5", note):
        assert name in after
    # Nothing else of it has changed: the same words around the figures.
    assert re.findall(r"\b[a-z]+\b", before) == re.findall(r"\b[a-z]+\b", after)
