"""Echo logs as people send them: what ``ping`` printed on Linux, macOS or Windows, in the languages we know.

A log shows that a host answers and how its answers vary. It does not show what calls would suffer: echo requests are
small, rare, unmarked, and answered by a processor that has better things to do.
"""

from __future__ import annotations

import re
from dataclasses import dataclass

import numpy as np

MAX_SAMPLES = 1_000_000
CAUTION = (
    "Echo replies show whether a host answers and how that varies. They cannot judge a phone line: they are small, "
    "rare and unmarked, and routers answer them last."
)


class EchoLogError(ValueError):
    """A text that is no echo log; the text says why."""


@dataclass(frozen=True)
class Echo:
    at_s: float
    """Since the first sample; by the log's own stamps where it has them, else one a second."""
    rtt_ms: float | None
    """None where no answer came."""


@dataclass(frozen=True)
class EchoLog:
    system: str
    host: str | None
    samples: list[Echo]
    stamped: bool
    """Whether times are the log's own."""

    @property
    def lost(self) -> int:
        return sum(e.rtt_ms is None for e in self.samples)

    def figures(self) -> dict[str, float | int | None]:
        """Counts, loss and percentiles of the round trip."""
        known = [e.rtt_ms for e in self.samples if e.rtt_ms is not None]
        quantiles = np.percentile(known, [0, 50, 95, 100]) if known else [None] * 4
        least, middle, high, most = (None if q is None else float(q) for q in quantiles)
        longest = run = 0
        for echo in self.samples:
            run = run + 1 if echo.rtt_ms is None else 0
            longest = max(longest, run)
        return {
            "sent": len(self.samples),
            "lost": self.lost,
            "loss_pct": 100 * self.lost / len(self.samples),
            "longest_loss_run": longest,
            "rtt_min_ms": least,
            "rtt_p50_ms": middle,
            "rtt_p95_ms": high,
            "rtt_max_ms": most,
        }


_UNIX_REPLY = re.compile(
    r"^(?:\[(?P<epoch>\d+\.\d+)\] |(?P<clock>\d\d:\d\d:\d\d\.\d+) )?\d+ bytes from (?P<host>\S+?):? .*?"
    r"icmp_seq[=:](?P<seq>\d+) .*?time=(?P<ms>[\d.,]+) ?ms(?P<dup> \(DUP!\))?"
)
_UNIX_SILENCE = re.compile(
    r"^(?:\[(?P<epoch>\d+\.\d+)\] |(?P<clock>\d\d:\d\d:\d\d\.\d+) )?"
    r"(?:no answer yet for|Request timeout for|From \S+) icmp_seq[=: ](?P<seq>\d+)"
)
_UNIX_HEAD = re.compile(r"^PING (?P<host>\S+) ")
_WINDOWS_REPLY = re.compile(r"^\S.*?(?P<host>[0-9a-fA-F.:]+[0-9a-fA-F])(?:%\d+)?: .*?[=<](?P<ms>\d+) ?ms(?: TTL=\d+)?$")
_WINDOWS_SILENCE = re.compile(
    r"(timed out|unreachable|general failure|transmit failed|Zeitüberschreitung|nicht erreichbar|"
    r"dépassé|inaccessible|impossible de joindre|agotado|inaccesible|scadut|irraggiungibile)", re.IGNORECASE
)  # fmt: skip
_WINDOWS_HEAD = re.compile(
    r"^(Pinging|Ping wird|Envoi d|Haciendo ping|Esecuzione di Ping)\b(?P<rest>.*)", re.IGNORECASE
)


def parse_echo_log(text: str) -> EchoLog:
    """The samples of a log, in order, with the ones nobody answered. Raises EchoLogError."""
    lines = [line.rstrip("\r") for line in text.lstrip("\ufeff").split("\n")]
    for line in lines[:200]:
        if _UNIX_REPLY.match(line) or _UNIX_SILENCE.match(line):
            return _unix(lines)
        if _WINDOWS_HEAD.match(line.strip()) or _is_windows_reply(line):
            return _windows(lines)
    raise EchoLogError("No echo replies were found in this text: it is no log of ping.")


def _unix(lines: list[str]) -> EchoLog:
    """Linux (iputils) and macOS: replies carry numbers, so what is missing between them is lost."""
    found: dict[int, tuple[float | None, float | None]] = {}
    host: str | None = None
    wraps, last = 0, 0
    mac = False
    for line in lines:
        head = _UNIX_HEAD.match(line)
        if head:
            host = head["host"]
        mac = mac or line.startswith("Request timeout for") or " data bytes" in line
        reply = _UNIX_REPLY.match(line)
        silence = None if reply else _UNIX_SILENCE.match(line)
        match = reply or silence
        if match is None:
            continue
        number = int(match["seq"])
        if number < last - 32768:
            wraps += 1
        last = number
        number += wraps * 65536
        if reply:
            host = host or reply["host"]
            if not reply["dup"]:
                found[number] = (_stamp(match), float(reply["ms"].replace(",", ".")))
        else:
            found.setdefault(number, (_stamp(match), None))
    if not found:
        raise EchoLogError("No echo replies were found in this text: it is no log of ping.")
    first, end = min(found), max(found)
    if end - first >= MAX_SAMPLES:
        raise EchoLogError(f"The log holds more than {MAX_SAMPLES} samples. Split it.")
    stamps = [stamp for stamp, _ in found.values() if stamp is not None]
    stamped = len(stamps) > len(found) / 2
    start = next((s for s in stamps), 0.0)
    samples = []
    for number in range(first, end + 1):
        stamp, rtt = found.get(number, (None, None))
        at = (stamp - start) % 86_400 if stamped and stamp is not None and stamp < 86_400 else None
        if stamped and stamp is not None and at is None:
            at = stamp - start
        samples.append(Echo(float(number - first) if at is None else at, rtt))
    return EchoLog("macOS" if mac else "Linux", host, samples, stamped)


def _stamp(match: re.Match[str]) -> float | None:
    if match["epoch"]:
        return float(match["epoch"])
    if match["clock"]:
        hours, minutes, seconds = match["clock"].split(":")
        return int(hours) * 3600 + int(minutes) * 60 + float(seconds)
    return None


def _windows(lines: list[str]) -> EchoLog:
    """Windows: one line a request, answered or not, without numbers or times."""
    host: str | None = None
    samples: list[Echo] = []
    for line in lines:
        text = line.strip()
        head = _WINDOWS_HEAD.match(text)
        if head:
            named = re.search(r"(\S+[.:]\S+)", head["rest"])
            host = named[1] if named else host
            continue
        reply = _WINDOWS_REPLY.match(text) if _is_windows_reply(line) else None
        if reply:
            host = host or reply["host"]
            samples.append(Echo(float(len(samples)), float(reply["ms"])))
        elif text and not line.startswith(" ") and _WINDOWS_SILENCE.search(text):
            samples.append(Echo(float(len(samples)), None))
        if len(samples) > MAX_SAMPLES:
            raise EchoLogError(f"The log holds more than {MAX_SAMPLES} samples. Split it.")
    if not samples:
        raise EchoLogError("No echo replies were found in this text: it is no log of ping.")
    return EchoLog("Windows", host, samples, stamped=False)


def _is_windows_reply(line: str) -> bool:
    text = line.strip()
    return bool(_WINDOWS_REPLY.match(text)) and ("TTL=" in text or re.search(r"[=<]\d+ ?ms$", text) is not None)
