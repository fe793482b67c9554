"""Text that somebody else's system wrote: which characters its bytes stand for, and what time stands before a line."""

from __future__ import annotations

import re
from dataclasses import dataclass
from datetime import UTC, date, datetime, timedelta, timezone

CODE_PAGES = ("cp1252", "cp850", "cp1250", "cp852")
_LETTERS = frozenset("äöüßéèêëàâçîïôûùñíóúáìòãõąćęłńśźżÄÖÜÉ’¿")
"""What western and central European texts are made of; under the wrong code page other signs appear in their place."""


def decode(data: bytes) -> str:
    """Text of any of the encodings that systems write logs in: Unicode by its mark or its zeros, else a code page."""
    for mark, encoding in ((b"\xef\xbb\xbf", "utf-8"), (b"\xff\xfe", "utf-16-le"), (b"\xfe\xff", "utf-16-be")):
        if data.startswith(mark):
            return data[len(mark) :].decode(encoding, "replace")
    start = data[:400]
    if start.count(0) > len(start) // 4:
        return data.decode("utf-16-be" if start[:1] == b"\0" else "utf-16-le", "replace")
    try:
        return data.decode("utf-8")
    except UnicodeDecodeError:
        readings = [data.decode(page, "replace") for page in CODE_PAGES]
        return max(readings, key=lambda text: sum((c in _LETTERS) - (c == "\ufffd") for c in text if c > "\x7f"))


_EPOCH = re.compile(r"(?<![\d.:])(\d{10})(?:[.,](\d+))?(?!\d|:\d)")
_CLOCK = re.compile(r"(?<![\d:])(\d{1,2}):(\d\d):(\d\d)(?:[.,](\d+))?(?:\s?([AaPp])\.?[Mm]\b)?")
_ZONE = re.compile(r"^\s?(Z|UTC|GMT|[+-]\d\d:?\d\d)\b")
_YEAR_FIRST = re.compile(r"(?<!\d)(\d{4})[-/.](\d\d?)[-/.](\d\d?)(?!\d)")
_YEAR_LAST = re.compile(r"(?<!\d)(\d\d?)([-/.])(\d\d?)\2(\d{4})(?!\d)")
_NAMED = (
    re.compile(r"\b(?P<month>[^\W\d]{3,4})\.? +(?P<day>\d\d?)\b"),
    re.compile(r"\b(?P<day>\d\d?)\.? +(?P<month>[^\W\d]{3,4})\b"),
)
_YEAR = re.compile(r"\b(\d{4})\b")
_MONTHS = {
    1: "jan gen ene janv sty", 2: "feb fév fevr févr fev lut", 3: "mar mär märz mars mrt", 4: "apr avr abr kwi",
    5: "may mai maj mag mei", 6: "jun juin giu cze", 7: "jul juil lug lip", 8: "aug aoû août ago sie",
    9: "sep sept set wrz", 10: "oct okt ott out paź", 11: "nov lis", 12: "dec dez déc dic dez gru",
}  # fmt: skip
_MONTH = {name: number for number, names in _MONTHS.items() for name in names.split()}


@dataclass(frozen=True)
class Stamp:
    """A time in front of a line."""

    clock_s: float
    """Since midnight; since 1970 where ``day`` is None and ``epoch`` holds."""
    day: date | None = None
    epoch: bool = False
    zone: timezone | None = None

    @property
    def at(self) -> datetime | None:
        """The instant, or the local time where no zone was told; None without a date."""
        if self.epoch:
            return datetime.fromtimestamp(self.clock_s, UTC)
        if self.day is None:
            return None
        return datetime(self.day.year, self.day.month, self.day.day, tzinfo=self.zone) + timedelta(seconds=self.clock_s)


def stamp_of(prefix: str) -> Stamp | None:
    """The time in what stands before a line's own words; None where there is none."""
    if not prefix or prefix.isspace():
        return None
    clock = _CLOCK.search(prefix)
    if clock is None:
        epoch = _EPOCH.search(prefix)
        return Stamp(float(f"{epoch[1]}.{epoch[2] or 0}"), epoch=True) if epoch else None
    hours, minutes, seconds = int(clock[1]), int(clock[2]), float(f"{clock[3]}.{clock[4] or 0}")
    if clock[5]:
        hours = hours % 12 + 12 * (clock[5] in "Pp")
    if hours > 23 or minutes > 59 or seconds >= 61:
        return None
    zone = _ZONE.match(prefix[clock.end() :])
    rest = prefix[: clock.start()] + " " + prefix[clock.end() :]
    return Stamp(
        hours * 3600 + minutes * 60 + seconds, _day(rest, bool(clock[5])), zone=_zone(zone[1]) if zone else None
    )


def _zone(text: str) -> timezone:
    if text in ("Z", "UTC", "GMT"):
        return UTC
    sign = -1 if text[0] == "-" else 1
    return timezone(sign * timedelta(hours=int(text[1:3]), minutes=int(text[-2:])))


def _day(text: str, twelve_hours: bool) -> date | None:
    """A date in any common order; where 3/4 may be either, the day comes first unless the clock has twelve hours."""
    try:
        if found := _YEAR_FIRST.search(text):
            return date(int(found[1]), int(found[2]), int(found[3]))
        if found := _YEAR_LAST.search(text):
            first, second, last = int(found[1]), int(found[3]), int(found[4])
            month_first = second > 12 or (found[2] == "/" and twelve_hours and first <= 12)
            return date(last, first, second) if month_first else date(last, second, first)
        year = _YEAR.search(text)
        for found in (match for order in _NAMED for match in order.finditer(text)):
            month = _MONTH.get(found["month"].lower())
            if month and year:
                return date(int(year[1]), month, int(found["day"]))
    except ValueError:
        pass
    return None
