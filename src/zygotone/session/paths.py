"""Reading and replacing what lies deep within a value: ``filter.cutoff_hz``, ``bands.0.gain_db``, ``lfos.1.rate``.

Conventions
-----------
A path names fields, places in a tuple (from 0), and parameters of a kind, with dots between them.
"""

from __future__ import annotations

from typing import Any, TypeVar

from zygotone.session.kinds import KindValues
from zygotone.session.params import Values
from zygotone.session.value import Value

_Node = TypeVar("_Node", bound=Value | Values)


def read_path(node: Value | Values, path: str) -> Any:
    """What ``path`` leads to from ``node``."""
    found: Any = node
    for part in path.split("."):
        found = _step(found, part)
    return found


def write_path(node: _Node, path: str, value: Any) -> _Node:
    """``node`` with another value there; it shares everything else."""
    made: _Node = _written(node, path.split("."), value)
    return made


def _step(node: Any, part: str) -> Any:
    if isinstance(node, tuple):
        return node[int(part)]
    if isinstance(node, Values):
        return node[part]
    return node.params[part] if isinstance(node, KindValues) and part in node.params else getattr(node, part)


def _written(node: Any, parts: list[str], value: Any) -> Any:
    if not parts:
        return value
    first, *rest = parts
    inner = _written(_step(node, first), rest, value)
    if isinstance(node, tuple):
        at = int(first)
        return (*node[:at], inner, *node[at + 1 :])
    if isinstance(node, KindValues) and first in node.params:
        return node.replace(params=node.params.replace(**{first: inner}))
    return node.replace(**{first: inner})
