"""Where a probe stands, as far as its system tells: what it tells when it enrols and whenever it has changed."""

from __future__ import annotations

import functools
import typing
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Optional

MAX_WORDS = 200
MAX_MANY = 32


@dataclass(frozen=True)
class Surroundings:
    """None where the system does not tell."""

    system: Optional[str] = None
    python: Optional[str] = None
    host: Optional[str] = None
    cpus: Optional[int] = None
    addresses: tuple[str, ...] = ()
    """``interface address/prefix``."""
    gateway: Optional[str] = None
    interface: Optional[str] = None
    """Of the default route, and so are the medium and its figures."""
    name_servers: tuple[str, ...] = ()
    dhcp: Optional[str] = None
    medium: Optional[str] = None
    link_mbps: Optional[int] = None
    duplex: Optional[str] = None
    mtu: Optional[int] = None
    wifi_signal_dbm: Optional[int] = None
    time_source: Optional[str] = None
    """The program that keeps the clock."""
    clock_synchronised: Optional[bool] = None
    receive_stamps: Optional[str] = None
    program: Optional[str] = None
    """The digest of the probe's own file."""
    cannot: tuple[str, ...] = ()
    """What this system does not tell or allow, in words."""


def surroundings_of(told: Mapping[str, object]) -> Surroundings:
    """What a probe told, as far as it is known here and of its kind; a newer probe may tell more."""
    types = _types()
    known = {name: _fitting(types[name], told[name]) for name in types if told.get(name) is not None}
    return Surroundings(**{name: value for name, value in known.items() if value is not None})


@functools.cache
def _types() -> dict[str, typing.Any]:
    return typing.get_type_hints(Surroundings)


def _fitting(shape: typing.Any, value: object) -> typing.Any:
    """``value`` as far as it is of ``shape``, else None."""
    if typing.get_origin(shape) is tuple:
        return tuple(str(one)[:MAX_WORDS] for one in value[:MAX_MANY]) if isinstance(value, (list, tuple)) else None
    (kind,) = (one for one in typing.get_args(shape) if one is not type(None))
    if not isinstance(value, kind) or isinstance(value, bool) != (kind is bool):
        return None
    return value[:MAX_WORDS] if isinstance(value, str) else value
