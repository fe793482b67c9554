"""The open CSV form of a packet trace: ``seq,sent_us,recv_us`` and optionally ``bytes,dscp``.

Blank ``recv_us`` is a lost packet; a further row with the same ``seq`` is a
duplicate arrival. This file turns text into a trace and back; where the text
is kept is the caller's business.
"""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Iterator

import numpy as np

from tarnfell.core.trace import NOT_ARRIVED, Trace, TraceError, build_trace

REQUIRED = ("seq", "sent_us", "recv_us")
_LIMIT = 2**62
_ROWS = 5000


def parse_csv(text: str) -> Trace:
    """The trace in ``text``. Raises TraceError naming the line that cannot be read."""
    if not text.strip():
        raise TraceError("The trace file is empty.")
    reader = csv.reader(io.StringIO(text))
    try:
        header = [name.strip().lower().lstrip("\ufeff") for name in next(reader)]
        missing = [name for name in REQUIRED if name not in header]
        if missing:
            raise TraceError(
                f"The trace file has no column {' or '.join(missing)}. Its first line must be {','.join(REQUIRED)}."
            )
        columns = [header.index(name) for name in REQUIRED]
        return _trace(reader, columns)
    except csv.Error as error:
        raise TraceError(f"The trace file is not CSV text: line {reader.line_num}, {error}.") from None


def _trace(rows: Iterable[list[str]], columns: list[int]) -> Trace:
    sent: dict[int, int] = {}
    arrival_seq: list[int] = []
    arrival_us: list[int] = []
    last_sent: int | None = None
    for line, row in enumerate(rows, start=2):
        if not row:
            continue
        if len(row) <= max(columns):
            raise TraceError(f"Line {line} of the trace file has {len(row)} values, too few.")
        seq_text, sent_text, recv_text = (row[c].strip() for c in columns)
        seq, sent_us = _whole(seq_text, "seq", line), _whole(sent_text, "sent_us", line)
        if seq not in sent:
            if last_sent is not None and sent_us < last_sent:
                raise TraceError(f"Line {line} of the trace file: sent_us goes backwards, {last_sent} then {sent_us}.")
            last_sent = sent_us
            sent[seq] = sent_us
        elif sent[seq] != sent_us:
            raise TraceError(
                f"Line {line} of the trace file: seq {seq} was sent at {sent[seq]} and again at {sent_us}; "
                "sequence numbers must be extended, not wrapped."
            )
        if recv_text:
            arrival_seq.append(seq)
            arrival_us.append(_whole(recv_text, "recv_us", line))
    if not sent:
        raise TraceError("The trace file has a header but no packet.")
    seq_array = np.fromiter(sent.keys(), np.int64, len(sent))
    sent_array = np.fromiter(sent.values(), np.int64, len(sent))
    return build_trace(seq_array, sent_array, np.array(arrival_seq, np.int64), np.array(arrival_us, np.int64))


def _whole(text: str, name: str, line: int) -> int:
    try:
        value = int(text)
    except ValueError:
        raise TraceError(f"Line {line} of the trace file: {name} is “{text[:40]}”, not a whole number.") from None
    if abs(value) > _LIMIT:
        raise TraceError(f"Line {line} of the trace file: {name} is {text[:40]}, beyond any clock.")
    return value


def format_csv(trace: Trace) -> str:
    """``trace`` as CSV text; extra arrivals are not written, only first copies."""
    return "".join(csv_parts(trace))


def csv_parts(trace: Trace) -> Iterator[str]:
    """``format_csv``, some thousand packets at a time: a call of four hours has 30 MB of it."""
    yield ",".join(REQUIRED) + "\n"
    for first in range(0, len(trace), _ROWS):
        part = slice(first, first + _ROWS)
        rows = zip(trace.seq[part].tolist(), trace.sent_us[part].tolist(), trace.recv_us[part].tolist(), strict=True)
        yield "".join(
            f"{seq},{sent_us},\n" if recv_us == NOT_ARRIVED else f"{seq},{sent_us},{recv_us}\n"
            for seq, sent_us, recv_us in rows
        )
