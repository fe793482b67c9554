"""Values of a kind of work from JSON and back: strict, bounded, and with a sentence for what does not fit.

The types are read at run time, so they are written as Python 3.9 understands them.
"""

from __future__ import annotations

import base64
import dataclasses
import functools
import math
import types
import typing
from typing import Any, Literal, Optional, TypeVar, Union

from tarnfell.wire import WireError

Shape = TypeVar("Shape")

MAX_TEXT = 4000
_UNIONS = (Union, getattr(types, "UnionType", Union))
"""``Optional[X]``, and ``X | None`` as it is written where no Python 3.9 reads it."""
MAX_MANY = 1000
MAX_WHOLE = 1 << 53
"""What JSON carries exactly everywhere (RFC 8259 §6)."""


class KindError(WireError):
    """A value that is not of its kind; the text says where and why."""


def bounded(least: Optional[float] = None, most: Optional[float] = None, **more: Any) -> Any:
    """A field with bounds: of a number its value, of text its characters, of bytes and tuples how many they are."""
    return dataclasses.field(metadata={"least": least, "most": most}, **more)


def read(shape: type[Shape], value: object, where: str = "It") -> Shape:
    """A frozen dataclass from what JSON told, which has no other fields. Raises KindError."""
    return _shaped(shape, value, where, others=False)


def read_known(shape: type[Shape], value: object, where: str = "It") -> Shape:
    """As ``read``; fields that are not known here are left out, and so are those told as null that have a default."""
    return _shaped(shape, value, where, others=True)


@functools.cache
def _hints(shape: type[Shape]) -> dict[str, Any]:
    """Each is written as text, and to read that again for every value would take longer than the value."""
    return typing.get_type_hints(shape)


def _shaped(shape: type[Shape], value: object, where: str, others: bool) -> Shape:
    if not isinstance(value, dict):
        raise KindError(f"{where} is not told by fields.")
    wanted = {f.name: f for f in dataclasses.fields(shape)}  # type: ignore[arg-type]
    strange = sorted(set(value) - set(wanted))
    if strange and not others:
        raise KindError(f"{where} has a field “{str(strange[0])[:40]}”, which is not known here.")
    hints = _hints(shape)  # type: ignore[arg-type]  # a class can be hashed
    values = {}
    for name, told in wanted.items():
        if name in value and not (others and value[name] is None and told.default is not dataclasses.MISSING):
            values[name] = _read(hints[name], value[name], name, others)
            _within(told, values[name])
        elif told.default is dataclasses.MISSING:
            raise KindError(f"{where} has no field “{name}”.")
    return shape(**values)


def plain(value: Any) -> dict[str, object]:
    """As ``read`` takes it; fields that have their default value are left out, so that older readers know all."""
    told = {}
    for one in dataclasses.fields(value):
        held = getattr(value, one.name)
        if held != one.default:
            told[one.name] = _plain(held)
    return told


def _plain(value: Any) -> Any:
    if dataclasses.is_dataclass(value):
        return plain(value)
    if isinstance(value, bytes):
        return base64.b64encode(value).decode()
    return [_plain(one) for one in value] if isinstance(value, tuple) else value


def _read(shape: Any, value: object, where: str, others: bool) -> Any:
    origin = typing.get_origin(shape)
    if origin in _UNIONS:
        (inner,) = (one for one in typing.get_args(shape) if one is not type(None))
        return None if value is None else _read(inner, value, where, others)
    if origin is Literal:
        if value in typing.get_args(shape) and isinstance(value, str):
            return value
        raise KindError(f"“{where}” is none of {', '.join(typing.get_args(shape))}.")
    if origin is tuple:
        if not isinstance(value, (list, tuple)):
            raise KindError(f"“{where}” is not a list.")
        if len(value) > MAX_MANY:
            raise KindError(f"“{where}” has more than {MAX_MANY} entries.")
        return tuple(_read(typing.get_args(shape)[0], one, where, others) for one in value)
    if dataclasses.is_dataclass(shape):
        return _shaped(shape, value, f"“{where}”", others)  # type: ignore[arg-type]
    return _simple(shape, value, where)


def _simple(shape: type, value: object, where: str) -> Any:
    if shape is float and isinstance(value, (int, float)) and not isinstance(value, bool):
        if abs(value) <= MAX_WHOLE and math.isfinite(value):
            return float(value)
    elif shape is int and isinstance(value, int) and not isinstance(value, bool):
        if abs(value) <= MAX_WHOLE:
            return value
    elif shape is str and isinstance(value, str):
        if len(value) <= MAX_TEXT:
            return value
    elif shape is bool and isinstance(value, bool):
        return value
    elif shape is bytes and isinstance(value, str):
        try:
            return base64.b64decode(value, validate=True)
        except ValueError:
            pass
    raise KindError(f"“{where}” is not what belongs there.")


def _within(told: dataclasses.Field[Any], value: object) -> None:
    measured = len(value) if isinstance(value, (str, bytes, tuple)) else value
    least, most = told.metadata.get("least"), told.metadata.get("most")
    if isinstance(measured, (int, float)):
        if least is not None and measured < least:
            raise KindError(f"“{told.name}” is too small: {measured:g}, at least {least:g}.")
        if most is not None and measured > most:
            raise KindError(f"“{told.name}” is too large: {measured:g}, at most {most:g}.")
