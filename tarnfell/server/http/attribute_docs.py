"""The sentences beneath the fields of our models, for the API's description.

Pydantic reads them itself as it makes each class, which took a fifth of every start of the server; only the description
wants them.
"""

from __future__ import annotations

import ast
import inspect
import sys
from collections.abc import Mapping
from functools import cache


def attribute_docs(model: type) -> dict[str, str]:
    """Field name → the string beneath it, a class's own before those that it inherits."""
    found: dict[str, str] = {}
    for one in reversed(model.__mro__):
        if one.__module__.startswith("tarnfell."):
            found |= _of_module(one.__module__).get(one.__qualname__, {})
    return found


@cache
def _of_module(name: str) -> Mapping[str, Mapping[str, str]]:
    """Class name → field name → the string beneath it."""
    tree = ast.parse(inspect.getsource(sys.modules[name]))
    return {one.name: _beneath(one) for one in tree.body if isinstance(one, ast.ClassDef)}


def _beneath(found: ast.ClassDef) -> dict[str, str]:
    docs: dict[str, str] = {}
    for field, after in zip(found.body, found.body[1:], strict=False):
        if (
            isinstance(field, ast.AnnAssign)
            and isinstance(field.target, ast.Name)
            and isinstance(after, ast.Expr)
            and isinstance(after.value, ast.Constant)
            and isinstance(after.value.value, str)
        ):
            docs[field.target.id] = inspect.cleandoc(after.value.value)
    return docs
