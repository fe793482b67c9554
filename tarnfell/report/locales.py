"""Dates and numbers as people of the reader's country write them; the words around them stay English.

What the product says is written in one way throughout, as ``27 November 2026, 14:05`` and ``1 234.5``. It is put into
the reader's way at the door, over the whole of a page: a sentence may have been made and kept long before anybody knew
who would read it. Months, weekdays, their order and the signs are the Unicode CLDR's.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable
from datetime import date, time
from functools import lru_cache
from typing import Literal, get_args

from babel import Locale
from babel.dates import format_date, format_skeleton, format_time
from markupsafe import escape

Tag = Literal[
    "en-GB", "en-AU", "en-CA", "en-IE", "en-NZ", "en-US", "en-ZA", "da-DK", "de-AT", "de-CH", "de-DE", "es-ES", "es-MX",
    "fi-FI", "fr-BE", "fr-CA", "fr-CH", "fr-FR", "it-CH", "it-IT", "nb-NO", "nl-BE", "nl-NL", "pt-BR", "pt-PT", "sv-SE",
]  # fmt: skip
"""Language and country (BCP 47) whose letters the reports' typeface has."""
OWN: Tag = "en-GB"
"""In which everything is written; nothing is done for it."""
LOCALES: tuple[Tag, ...] = get_args(Tag)

_WEEKDAYS = ("Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday")
_MONTHS = ("January", "February", "March", "April", "May", "June", "July", "August", "September", "October", "November",
           "December")  # fmt: skip
_DAY = "|".join(f"{name[:3]}(?:{name[3:]})?" for name in _WEEKDAYS)
_MONTH = "|".join(f"{name[:3]}(?:{name[3:]})?" if name != "May" else name for name in _MONTHS)
_KEPT = r"(?:TLS|SSL|HTTP|SIP|IEEE|Tarnfell)[ /]\d[\w.]*|§+ ?\d[\d.]*|\d+(?:\.\d+){2,}(?::\d+)?"
"""What looks like a number and is none: names of standards, versions, addresses."""
_FIGURES = (
    rf"(?P<kept>{_KEPT})"
    rf"|(?:(?P<weekday>{_DAY}) )?(?P<day>\d{{1,2}}) (?P<month>{_MONTH})\b(?: (?P<year>\d{{4}}))?"
    r"|(?P<iso>\d{4}-\d\d-\d\d)(?![\w-])"
    rf"|(?P<alone>{_DAY})\b"
    r"|(?P<time>(?:[01]\d|2[0-3]):[0-5]\d(?::[0-5]\d)?(?:\.\d)?)(?![\w:]|\.\d)"
    r"|(?P<number>\d{1,3}(?:[,\u00a0]\d{3})+(?:\.\d+)?|\d+\.\d+)(?![\w]|[.,]\d)"
)
_BEFORE = r"(?<![\w.,:/@-])"
_APART = re.compile(r"(<style.*?</style>|<[^>]*>)", re.DOTALL)
"""What of a page is no text."""


def title_of(tag: str) -> str:
    """ "German (Germany)"."""
    return Locale.parse(tag, sep="-").get_display_name("en") or tag


def localized(text: str, tag: str, names: Iterable[str] = ()) -> str:
    """``names`` are left as they are: whoever typed them in meant them so."""
    return _writer(tag, _that_would_change(names, tag))(text) if tag != OWN else text


def localized_page(page: str, tag: str, names: Iterable[str] = ()) -> str:
    """The same for the text of an HTML page. Tags, their attributes and style sheets stay as they are."""
    if tag == OWN:
        return page
    write = _writer(tag, tuple(str(escape(name)) for name in _that_would_change(names, tag)))
    parts = _APART.split(page)
    parts[::2] = map(write, parts[::2])
    return "".join(parts)


def _that_would_change(names: Iterable[str], tag: str) -> tuple[str, ...]:
    """The longest first, so that none is taken for the beginning of another."""
    write = _writer(tag, ())
    lines = {line.strip() for name in names for line in name.splitlines()}
    return tuple(sorted((line for line in lines if write(line) != line), key=lambda line: (-len(line), line)))


@lru_cache(maxsize=64)
def _writer(tag: str, names: tuple[str, ...]) -> Callable[[str], str]:
    locale = Locale.parse(tag, sep="-")
    known = f"(?i:{'|'.join(re.escape(name) for name in names)})|" if names else ""
    figures = re.compile(f"{_BEFORE}(?:{known}{_FIGURES})")
    # The reports' typeface has no narrow space.
    return lambda text: figures.sub(lambda found: _written(found, locale).replace("\u202f", "\u00a0"), text)


def _written(found: re.Match[str], locale: Locale) -> str:
    text = found.group()
    match found.lastgroup:
        case "month" | "year":
            return _date(found, locale)
        case "iso":
            return _iso(text, locale)
        case "alone":
            return str(locale.days["stand-alone"]["abbreviated" if len(text) == 3 else "wide"][_weekday(text)])
        case "time":
            return _time(text, locale)
        case "number":
            return _number(text, locale)
    return text


def _date(found: re.Match[str], locale: Locale) -> str:
    day, month = int(found["day"]), _number_of(found["month"], _MONTHS) + 1
    short = len(found["month"]) == 3 and month != 5
    wanted = _weekday(found["weekday"]) if found["weekday"] else None
    try:
        when = date(int(found["year"]), month, day) if found["year"] else _some_day(day, month, wanted)
    except ValueError:
        return found.group()
    if found["year"]:
        written = format_skeleton("yMMMd", when, locale=locale) if short else format_date(when, "long", locale)
        return f"{locale.days['format']['abbreviated'][when.weekday()]} {written}" if found["weekday"] else written
    named = "E" if wanted is not None else ""
    return format_skeleton(f"MMM{named}d" if short or named else "MMMMd", when, locale=locale)


def _some_day(day: int, month: int, weekday: int | None) -> date:
    """One with this weekday; each date has each weekday once in 28 years, the 29th of February too."""
    for year in range(2000, 2028):
        if (month, day) == (2, 29) and year % 4:
            continue
        when = date(year, month, day)
        if weekday is None or when.weekday() == weekday:
            return when
    raise ValueError("There is no such day.")


def _iso(text: str, locale: Locale) -> str:
    try:
        return format_skeleton("yMMMd", date.fromisoformat(text), locale=locale)
    except ValueError:
        return text


def _time(text: str, locale: Locale) -> str:
    clock, _, tenths = text.partition(".")
    when = time.fromisoformat(clock).replace(microsecond=int(tenths or 0) * 100_000)
    pattern = locale.time_formats["medium" if clock.count(":") == 2 else "short"].pattern
    if tenths:
        pattern = pattern.replace("ss", f"ss'{_sign(locale, 'decimal')}'S")
    return format_time(when, pattern, locale=locale)


def _number(text: str, locale: Locale) -> str:
    whole, point, places = text.partition(".")
    whole = re.sub("[,\u00a0]", _sign(locale, "group"), whole)
    return whole + (_sign(locale, "decimal") if point else "") + places


def _sign(locale: Locale, which: str) -> str:
    return str(locale.number_symbols["latn"][which])


def _weekday(name: str) -> int:
    return _number_of(name, _WEEKDAYS)


def _number_of(name: str, names: tuple[str, ...]) -> int:
    return next(number for number, one in enumerate(names) if one.startswith(name))
