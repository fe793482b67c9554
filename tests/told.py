"""What functions tell in tests, held against what they told before: texts in ``tests/reference/told``.

They hold figures and sentences that no other test names, and say nothing of whether they were right. ``make told``
writes them anew; whether each change is one that was meant is read in the diff.
"""

from __future__ import annotations

import dataclasses
import os
import re
from collections.abc import Callable, Iterable, Iterator, Mapping, Set
from functools import wraps
from hashlib import sha256
from inspect import isfunction
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from tests.core.verdict import made_up

FOLDER = Path(__file__).parent / "reference" / "told"
BY_THE_WAY = ("find_codec", "codec_table", "criterion_for", "build_trace", "find_profile", "video_profiles")
"""What tests call only to ask something else."""
ELSEWHERE = ("schema", "render_pdf")
"""Held as a file of its own, and what depends on the typefaces that are installed."""
LONG = 6
MANY = 40
"""Of a longer list, be it of numbers or of more than numbers, both ends are held, and its length."""
MOST_LINES = 10
"""Of a section; of what follows its hash is held."""
UNSEEN = re.compile("[\x00-\x1f\x7f-\x9f\u2028\u2029]")
MADE_UP = re.compile(r"\b7\d{8}\b")
"""From ``made_up.FIRST_NUMBER`` on."""
WIDE = 240
"""Characters of a line, likewise."""
PLAIN = (str, int, float, bool, type(None))
"""Most of what is asked about."""
SHORT = 160
"""Characters of what is written in one line."""


def held(name: str, section: str, told: Iterable[tuple[str, object]]) -> None:
    """Fails where what functions told, each with its name, is not what the section of this file holds."""
    file = FOLDER / f"{name}.txt"
    sections = _sections(file.read_text(encoding="utf-8")) if file.exists() else {}
    lines = _shortened([_cut(line) for line in _renumbered([line for named in told for line in _named(*named)])])
    if "RENEW_TOLD" in os.environ:
        sections[section] = lines
        file.parent.mkdir(parents=True, exist_ok=True)
        text = "".join(f"# {key}\n" + "".join(f"{line}\n" for line in own) for key, own in sorted(sections.items()))
        file.write_text(text, encoding="utf-8")
    assert lines == sections.get(section, []), "Not what was told before: `make told` where that is meant."


@pytest.fixture
def told_as_before(request: pytest.FixtureRequest, monkeypatch: pytest.MonkeyPatch) -> Iterator[None]:
    """What functions of the room that is tested tell in this test, in the order they were asked."""
    told: list[tuple[str, object]] = []
    room = request.module.__name__.split(".")[1]
    if not hasattr(request.function, "hypothesis"):  # which asks something else each time
        for module in (request.module, made_up):
            for name, value in vars(module).copy().items():
                own = isfunction(value) and value.__module__.startswith(f"tarnfell.{room}.")
                if own and name not in BY_THE_WAY + ELSEWHERE:
                    monkeypatch.setattr(module, name, told_by(value, told))
    yield
    if told:
        held(request.module.__name__.removeprefix("tests.").replace(".test_", "-"), request.node.name, told)


def told_by(function: Callable[..., Any], into: list[tuple[str, object]]) -> Callable[..., Any]:
    """The function; what it returns, or the sentence it fails with, is kept under its name."""

    @wraps(function)
    def kept(*args: Any, **kwargs: Any) -> Any:
        try:
            result = function(*args, **kwargs)
        except Exception as error:
            into.append((function.__name__, f"{type(error).__name__}: {error}"))
            raise
        into.append((function.__name__, result))
        return result

    return kept


def _renumbered(lines: list[str]) -> list[str]:
    """Runs and calls that were made up are numbered on from test to test: here in the order they are told."""
    order: dict[str, str] = {}
    return [MADE_UP.sub(lambda one: order.setdefault(one[0], f"#{len(order) + 1}"), line) for line in lines]


def _shortened(lines: list[str]) -> list[str]:
    if len(lines) <= MOST_LINES:
        return lines
    return [*lines[:MOST_LINES], f"… {len(lines) - MOST_LINES} lines {_hash(chr(10).join(lines[MOST_LINES:]))}"]


def _cut(line: str) -> str:
    return line if len(line) <= WIDE else f"{line[:WIDE]}… {len(line)} characters {_hash(line)}"


def _hash(text: str) -> str:
    return sha256(text.encode()).hexdigest()[:12]


def _sections(text: str) -> dict[str, list[str]]:
    found: dict[str, list[str]] = {}
    lines: list[str] = []
    for line in text.removesuffix("\n").split("\n"):
        if line.startswith("# "):
            lines = found.setdefault(line[2:], [])
        else:
            lines.append(line)
    return found


def _named(name: str, value: object, indent: str = "") -> Iterator[str]:
    first, *more = _lines(value, indent)
    yield f"{indent}{name}{' ' if name else ''}{first.lstrip()}"
    yield from more


def _lines(value: object, indent: str) -> Iterator[str]:
    """In one line what is short, else one for each of its parts."""
    parts = _parts(value)
    if parts is None or _is_short(value) or all(_is_plain(part) for _, part in parts):
        yield indent + "".join(_pieces(value))
        return
    yield f"{indent}{_kind(value) or 'several'}"
    for name, part in parts:
        yield from _named(name, part, f"{indent}  ")


def _is_short(value: object) -> bool:
    """Found without putting all of it into words: it is asked of a week's evidence, of its sites, of their runs …"""
    length = 0
    for piece in _pieces(value):
        length += len(piece)
        if length > SHORT:
            return False
    return True


def _parts(value: Any) -> list[tuple[str, object]] | None:
    """None of a plain value."""
    if type(value) in PLAIN:
        return None
    if dataclasses.is_dataclass(value):
        named = [(f.name, getattr(value, f.name)) for f in dataclasses.fields(value)]
        return [(name, part) for name, part in named if part is not None]
    if isinstance(value, Mapping):
        return _ends([(str(key), part) for key, part in value.items()])
    if isinstance(value, np.ndarray):
        half = LONG // 2
        if len(value) <= LONG:
            return [("", part) for part in value.tolist()]
        ends = [("", part) for part in value[:half].tolist()], [("", part) for part in value[-half:].tolist()]
        return [*ends[0], ("…", len(value)), *ends[1], ("sum", float(value.sum(dtype=float)))]
    if _is_plain(value):
        return None
    return _ends([("", part) for part in (sorted(value, key=str) if isinstance(value, Set) else value)])


def _ends(parts: list[tuple[str, object]]) -> list[tuple[str, object]]:
    kinds = {type(part) for _, part in parts}
    most = LONG if all(issubclass(kind, int | float | None) for kind in kinds) else MANY
    half = most // 2
    return parts if len(parts) <= most else [*parts[:half], ("…", len(parts)), *parts[-half:]]


def _is_plain(value: object) -> bool:
    return isinstance(value, str | bytes | bytearray) or not (
        isinstance(value, Iterable) or dataclasses.is_dataclass(value)
    )


def _pieces(value: object) -> Iterator[str]:
    """Of its one line."""
    parts = _parts(value)
    if parts is None:
        yield _plain(value)
        return
    yield f"{_kind(value)}("
    for number, (name, part) in enumerate(parts):
        yield f"{', ' if number else ''}{name}{'=' if name else ''}"
        yield from _pieces(part)
    yield ")"


def _plain(value: object) -> str:
    if isinstance(value, bytes | bytearray):
        return f"{len(value)} bytes {sha256(value).hexdigest()[:12]}"
    return f"{value:.6g}" if isinstance(value, float) else UNSEEN.sub(lambda one: ascii(one[0])[1:-1], str(value))


def _kind(value: object) -> str:
    return type(value).__name__ if dataclasses.is_dataclass(value) else ""
