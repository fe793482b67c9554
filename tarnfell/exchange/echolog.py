"""Echo logs as people send them: what ``ping`` printed, on whatever system, in the languages we know.

A log shows that a host answers and how its answers vary. It does not show what calls would suffer: echo requests are
small, rare, unmarked, and answered by a processor that has better things to do.

Nothing in a log is swallowed. A line is an answer, a silence, a heading, a total, or known to say nothing; any other
is told with its number. The log's own totals are held against its lines.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass, field
from datetime import datetime

import numpy as np

from tarnfell.core.imported import EchoCounts
from tarnfell.exchange.echo_times import Clock, between
from tarnfell.exchange.lines import Stamp, decode, stamp_of

MAX_SAMPLES = 1_000_000
MAX_LINES = 8_000_000
"""Before anything is made of them: systems that end a line by two characters count each."""
MAX_LINE = 1000
"""Characters; no system prints as many, and what is longer is not looked at."""
MAX_STRANGE = 20
CAUTION = (
    "Echo replies show whether a host answers and how that varies. They cannot judge a phone line: they are small, "
    "rare and unmarked, and routers answer them last."
)
NO_LOG = "No echo replies were found in this text: it is no log of ping."


class EchoLogError(ValueError):
    """A text that is no echo log; the text says why."""


@dataclass(frozen=True)
class Echo:
    at_s: float
    """Since the first sample; by the log's own stamps where it has them, else one interval after the other."""
    rtt_ms: float | None
    """None where no answer came, and where one came without its time."""
    answered: bool


@dataclass(frozen=True)
class EchoLog:
    """All that a file tells of one host."""

    system: str
    host: str | None
    samples: list[Echo]
    stamped: bool
    """Whether times are the log's own."""
    started: datetime | None
    """Of the first sample: an instant, or local time where the stamps tell no zone; None without date."""
    runs: int
    duplicates: int
    notes: tuple[str, ...]
    """What a reader must know: totals that contradict the lines, silences that only the totals tell of."""
    strange: tuple[tuple[int, str], ...]
    """Lines that were not understood, by number; at most MAX_STRANGE."""
    strange_count: int

    @property
    def lost(self) -> int:
        return sum(not e.answered for e in self.samples)

    def figures(self) -> EchoCounts:
        known = [e.rtt_ms for e in self.samples if e.rtt_ms is not None]
        quantiles = np.percentile(known, [0, 50, 95, 100]) if known else [None] * 4
        least, median, high, most = (None if q is None else float(q) for q in quantiles)
        longest = run = 0
        for echo in self.samples:
            run = 0 if echo.answered else run + 1
            longest = max(longest, run)
        return EchoCounts(
            sent=len(self.samples),
            lost=self.lost,
            loss_pct=100 * self.lost / len(self.samples),
            longest_loss_run=longest,
            rtt_min_ms=least,
            rtt_p50_ms=median,
            rtt_p95_ms=high,
            rtt_max_ms=most,
        )


@dataclass
class _Run:
    """One start of ping: from its heading to its totals."""

    host: str | None
    windows: bool
    headed: bool
    """Whether a heading was there; what has none ends where numbers begin anew."""
    numbered: dict[int, tuple[Stamp | None, float | None, bool]] = field(default_factory=dict)
    highest: int = -1
    unreachable: int = 0
    duplicates: int = 0
    mac: bool = False
    totals: tuple[int, int] | None = None
    took_ms: float | None = None
    ended: bool = False

    def put(self, number: int, stamp: Stamp | None, rtt_ms: float | None, answered: bool) -> None:
        if not answered and number in self.numbered:
            return
        self.numbered[number] = (stamp, rtt_ms, answered)
        self.highest = max(self.highest, number)

    def extend(self, number: int) -> int:
        """A 16-bit number to one that goes on; a late answer from before the wrap keeps its place."""
        if not self.numbered:
            return number
        return self.highest + (number - self.highest + 32768) % 65536 - 32768


# What ping prints on Linux, BSD, macOS, Solaris and busybox, in any language that keeps the order of the words.
_REPLY = re.compile(
    r"\b\d+ [^\W\d]+ [^\W\d]+ (?P<host>\S+?)(?: \([^)]*\))?(?:%\w+)?\s?[:,] (?:.*?\b)?(?:icmp_)?"
    r"seq[=:]\s?(?P<seq>\d+)\b(?P<rest>.*)$"
)
_TIME = re.compile(r"[=<]\s?(?P<ms>\d+(?:[.,]\d+)?)\s?ms", re.IGNORECASE)
_NUMBERED = re.compile(r"icmp_seq[=: ]\s?(?P<seq>\d+)")
_HEAD = re.compile(r"\bPING6?(?: (?P<host>[^\s(]+)|\(.*--> (?P<host6>\S+))")
_TOTALS = re.compile(r"^\D*?(\d+) [^,\d%]+, (\d+) [^,%]+,.*?%(?:.*?\b(\d+) ?ms)?")
_NOT_SENT = re.compile(r"\bping6?: send\w+")
# Windows: the address, then name=number pairs, in every language.
_WINDOWS_REPLY = re.compile(
    r"(?P<before>.*?\S+ \S+ )(?P<host>[^\s=]+?)(?:%\d+)?\s?: (?:\S+=\d+ )?[^\s=<]+[=<](?P<ms>\d+) ?ms(?: TTL=\d+)?$"
)
_WINDOWS_REFUSED = re.compile(
    r"(?P<before>.*?\S+ \S+ )(?:[\dA-Fa-f]*[.:][\dA-Fa-f.:]+|[\w-]+(?:\.[\w-]+)+)(?:%\d+)?\s?: [^=\d]+$"
)
_WINDOWS_HEAD = re.compile(
    r"\b(?:Pinging|Ping wird|Envoi d|Haciendo ping|Esecuzione di|Pingen naar|Disparando|A enviar|Badanie)\b"
    r"(?P<rest>.*\d+ .*:)$", re.IGNORECASE
)  # fmt: skip
_WINDOWS_TOTALS = re.compile(r"= (\d+), \S+ = (\d+), \S+ = (\d+)")
_TIMED_OUT = re.compile(
    r"(timed out|time-?out|Zeit.{1,2}berschreitung|Zeitlimit|d.{1,2}lai d.attente|tiempo de espera|richiesta scaduta|"
    r"tempo limite|excedeu o tempo|limit czasu|general failure|allgemeiner fehler|faillance g.{1,2}n|error general|"
    r"errore generale|algemene fout|falha geral|og.{1,2}lny|^PING ?: )", re.IGNORECASE
)  # fmt: skip
_SAYS_NOTHING = re.compile(
    r"^\s*$|^\s*-{2,}|^\s{2,}\S|^\^C|\^C$|min/avg|/avg/|= [\d.,]+/[\d.,]+/|^pipe \d|[$#>%] ?ping6? |"
    r"^\s*(Control-C|Strg-C|CTRL-C|Ctrl\+C)\s*$|Redirect|^\d+ bytes from [^=]*$|^Vr HL TOS|^ \d+ +\d+|:\s*$|"
    r"(Minimum|Mínimo|Minimo|Min\.) *= *\d|^\s*\(\d+ ?%", re.IGNORECASE
)  # fmt: skip


def read_echo_logs(data: bytes) -> list[EchoLog]:
    """Every host's log in a file's bytes, whatever encoding they are in. Raises EchoLogError."""
    return parse_echo_logs(decode(data))


def parse_echo_log(text: str) -> EchoLog:
    """The log of a text that tells of one host; the first one's where there are several. Raises EchoLogError."""
    return parse_echo_logs(text)[0]


def parse_echo_logs(text: str) -> list[EchoLog]:
    """The samples of each host, in order, with the ones nobody answered. Raises EchoLogError."""
    if text.count("\n") + text.count("\r") > MAX_LINES:
        raise EchoLogError(f"The log holds more than {MAX_LINES} lines. Split it.")
    reader = _Reader()
    for number, line in enumerate(text.lstrip("\ufeff").replace("\r\n", "\n").replace("\r", "\n").split("\n"), start=1):
        reader.take(number, line.replace("\xa0", " ").replace("\u202f", " ").rstrip())
    by_host: dict[str | None, list[_Run]] = {}
    for run in reader.runs:
        if run.numbered or (run.totals and run.totals[0] > run.totals[1]):
            by_host.setdefault(run.host, []).append(run)
    if not by_host:
        raise EchoLogError(NO_LOG)
    return [_log(host, runs, reader) for host, runs in by_host.items()]


class _Reader:
    """Takes a text line by line."""

    def __init__(self) -> None:
        self.runs: list[_Run] = []
        self.strange: list[tuple[int, str]] = []
        self.strange_count = 0
        self._samples = 0

    def take(self, number: int, line: str) -> None:
        if not line.strip():
            return
        if len(line) > MAX_LINE or not self._understood(line):
            self._note_strange(number, line)

    def _understood(self, line: str) -> bool:
        shapes = (self._totals, self._unix, self._heading, self._windows)
        return any(shape(line) for shape in shapes) or bool(_SAYS_NOTHING.search(line))

    def _note_strange(self, number: int, line: str) -> None:
        self.strange_count += 1
        if len(self.strange) < MAX_STRANGE:
            self.strange.append((number, line.strip()[:120]))

    def _begin(self, host: str | None, windows: bool, headed: bool) -> _Run:
        run = _Run(host, windows, headed)
        self.runs.append(run)
        return run

    def _run_for(self, host: str | None, windows: bool) -> _Run:
        """The run a line belongs to: the last one, or without headings the last one of its host."""
        last = self.runs[-1] if self.runs else None
        if last and last.headed and not last.ended and last.windows == windows:
            return last
        for run in reversed(self.runs):
            if not run.headed and not run.ended and run.windows == windows and host in (run.host, None):
                return run
        return self._begin(host, windows, headed=False)

    def _heading(self, line: str) -> bool:
        if head := _HEAD.search(line):
            if re.search(r"PING ?:", line):
                return False  # Windows could not send
            run = self._begin((head["host"] or head["host6"] or "").rstrip(":") or None, windows=False, headed=True)
            run.mac = line.rstrip().endswith("data bytes")
            return True
        if head := _WINDOWS_HEAD.search(line):
            named = re.search(
                r"(\S+)(?: \[[^\]]*\])?(?: (?:from|von|de|desde|da|van|z) [\d.:a-fA-F]+)? \S+ \d+ \S+", head["rest"]
            )
            self._begin(named[1] if named else None, windows=True, headed=True)
            return True
        return False

    def _totals(self, line: str) -> bool:
        run = next((r for r in reversed(self.runs) if not r.ended), None)
        found = _WINDOWS_TOTALS.search(line)
        unix = None if found else _TOTALS.match(line)
        if not found and not unix:
            return False
        if run is None:
            run = self._begin(None, windows=bool(found), headed=False)
        sent, received = (int((found or unix)[i]) for i in (1, 2))  # type: ignore[index]
        run.totals, run.ended = (sent, received), True
        if unix and unix[3]:
            run.took_ms = float(unix[3])
        return True

    def _unix(self, line: str) -> bool:
        reply = _REPLY.search(line)
        numbered = reply or _NUMBERED.search(line)
        if numbered is None:
            if _NOT_SENT.search(line):
                run = self._run_for(None, windows=False)
                run.put(
                    run.highest + 1 if run.numbered else 1, stamp_of(line[: line.find("ping")]), None, answered=False
                )
                return True
            return False
        if not reply and "redirect" in line.lower():
            return True
        host = reply["host"] if reply else None
        run = self._run_for(host, windows=False)
        number = run.extend(int(numbered["seq"]))
        stamp = stamp_of(line[: numbered.start()])
        if not reply:
            run.mac = run.mac or "Request timeout" in line
            run.put(number, stamp, None, answered=False)
            return self._count()
        known = run.numbered.get(number)
        if known and known[2]:
            if "DUP" in reply["rest"] or run.headed or number > 1:
                run.duplicates += 1
                return True
            # Number one once more, without a heading: ping was started again.
            run.ended = True
            run = self._begin(host, windows=False, headed=False)
            number = int(reply["seq"])
        run.host = run.host or host
        time = _TIME.search(reply["rest"])
        run.put(number, stamp, float(time["ms"].replace(",", ".")) if time else None, answered=True)
        return self._count()

    def _windows(self, line: str) -> bool:
        text = line.strip()
        reply = _WINDOWS_REPLY.match(text)
        if reply:
            run = self._run_for(reply["host"], windows=True)
            run.host = run.host or reply["host"]
            run.put(run.highest + 1, stamp_of(reply["before"]), float(reply["ms"]), answered=True)
            return self._count()
        if line.startswith("  ") or not any(run.windows and not run.ended for run in self.runs):
            return False
        refused = _WINDOWS_REFUSED.match(text)
        if refused or _TIMED_OUT.search(text):
            run = self._run_for(None, windows=True)
            run.unreachable += bool(refused)
            run.put(run.highest + 1, stamp_of(refused["before"] if refused else text), None, answered=False)
            return self._count()
        return False

    def _count(self) -> bool:
        self._samples += 1
        if self._samples > MAX_SAMPLES:
            raise EchoLogError(f"The log holds more than {MAX_SAMPLES} samples. Split it.")
        return True


def _log(host: str | None, runs: list[_Run], reader: _Reader) -> EchoLog:
    samples: list[Echo] = []
    notes: list[str] = []
    stamps = [s for run in runs for s, _, _ in run.numbered.values() if s is not None]
    stamped = len(stamps) > sum(len(run.numbered) for run in runs) / 2
    clock = Clock()
    begin: float | None = None
    for run in runs:
        rows = list(_rows(run, notes, len(runs) > 1))
        if len(samples) + len(rows) > MAX_SAMPLES:
            raise EchoLogError(f"The log holds more than {MAX_SAMPLES} samples. Split it.")
        interval = run.took_ms / 1000 / (run.totals[0] - 1) if run.took_ms and run.totals and run.totals[0] > 1 else 1.0
        known = [(i, clock.seconds(s)) for i, (s, _, _) in enumerate(rows) if s is not None] if stamped else []
        if known:
            times = between(len(rows), known)
        else:
            first = samples[-1].at_s + interval if samples else 0.0
            times = [first + i * interval for i in range(len(rows))]
        begin = times[0] if begin is None else begin
        since = begin if known else 0.0
        samples += [Echo(t - since, rtt, answered) for t, (_, rtt, answered) in zip(times, rows, strict=True)]
    if len(runs) > 1 and not stamped:
        notes.append(f"The log holds {len(runs)} runs of ping; how long lay between them is not in it.")
    if reader.strange_count:
        lines = "line was" if reader.strange_count == 1 else "lines were"
        notes.append(f"{reader.strange_count} {lines} not understood.")
    untimed = sum(e.answered and e.rtt_ms is None for e in samples)
    if untimed:
        notes.append(f"{untimed} answers came without a time: their packets were too small to carry one.")
    system = "Windows" if runs[0].windows else "macOS" if any(run.mac for run in runs) else "Linux"
    return EchoLog(
        system=system,
        host=host,
        samples=samples,
        stamped=stamped,
        started=next((s.at for s in stamps if s.at), None) if stamped else None,
        runs=len(runs),
        duplicates=sum(run.duplicates for run in runs),
        notes=tuple(notes),
        strange=tuple(reader.strange),
        strange_count=reader.strange_count,
    )


def _rows(run: _Run, notes: list[str], several: bool) -> Iterator[tuple[Stamp | None, float | None, bool]]:
    """A run's requests in order: what no line tells of is silent. Its totals are held against that."""
    first = min(run.numbered, default=1)
    end = max(run.numbered, default=0)
    if end - first >= MAX_SAMPLES:
        raise EchoLogError(f"The log holds more than {MAX_SAMPLES} samples. Split it.")
    lines = [run.numbered.get(number, (None, None, False)) for number in range(first, end + 1)]
    yield from lines
    if run.totals is None:
        return
    sent, received = run.totals
    answered = sum(row[2] for row in lines)
    which = f" of the run to {run.host}" if several else ""
    if not run.windows and received == answered and sent > len(lines) and first <= 1 and sent <= MAX_SAMPLES:
        missing = sent - len(lines)
        notes.append(
            f"The last {missing} of {sent} requests{which} were not answered; only the log's totals tell of them."
            if lines
            else f"None of {sent} requests{which} was answered; only the log's totals tell of them."
        )
        yield from ((None, None, False) for _ in range(missing))
        return
    lost = len(lines) - answered - (run.unreachable if run.windows else 0)
    if (sent, sent - received) != (len(lines), lost):
        notes.append(
            f"The log's own totals{which} say {sent - received} of {sent} lost, its lines show {lost} of {len(lines)}: "
            "lines are missing or were added. The figures here are of the lines."
        )
