"""The forms of all kinds as probes and servers of other versions speak them: fields, types, bounds, and what is taken
for a field that is not told. A change here is one of the protocol (docs/protocol.md)."""

from __future__ import annotations

import dataclasses
import importlib
import pkgutil

import pytest

from tarnfell.wire import kinds
from tests.told import held

MODULES = sorted(one.name for one in pkgutil.iter_modules(kinds.__path__))


@pytest.mark.parametrize("name", MODULES)
def test_a_form_is_as_other_versions_know_it(name: str) -> None:
    module = importlib.import_module(f"{kinds.__name__}.{name}")
    for shape in vars(module).values():
        if dataclasses.is_dataclass(shape) and getattr(shape, "__module__", "") == module.__name__:
            held("wire-forms", f"{name}.{getattr(shape, '__name__', '')}", map(_told, dataclasses.fields(shape)))


def _told(field: dataclasses.Field[object]) -> tuple[str, object]:
    bounds = [field.metadata.get(bound) for bound in ("least", "most")]
    given = "must be told" if field.default is dataclasses.MISSING else repr(field.default)
    if field.default_factory is not dataclasses.MISSING:
        given = repr(field.default_factory())
    within = f", {bounds[0]} to {bounds[1]}" if field.metadata else ""
    return field.name, f"{field.type}{within}: {given}"
