"""Several layers of an instrument changed by one move."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from contextlib import suppress
from typing import Any

from zygotone.errors import ParameterError
from zygotone.session.edits import layer_of, make_id, put_layer
from zygotone.session.instruments import ENVELOPE, FILTER, LAYER, LFO, Layer, layer_params, leading_routes
from zygotone.session.kinds import KindValues
from zygotone.session.models import Device, Session
from zygotone.session.params import Param, Values
from zygotone.session.paths import read_path, write_path
from zygotone.session.value import Value

_OWN = ("id", "name", "key_low", "key_high")  # what makes a layer that one and no other, or is set note by note


def with_likewise(before: Session, after: Session, track_id: str, layer_id: str, others: Iterable[str]) -> Session:
    """``after`` with ``others`` of the track's layers changed as that one was since ``before``: see ``changed_likewise``."""
    old, new = (layer_of(session, track_id, layer_id) for session in (before, after))
    for other in others:
        after = put_layer(after, track_id, changed_likewise(layer_of(after, track_id, other), old, new))
    return after


def changed_likewise(layer: Layer, old: Layer, new: Layer) -> Layer:
    """``layer`` with what another one became from ``old`` to ``new``.

    A number moves by as much, or on a ratio scale by as many octaves, as far as its range goes; all else is set alike. What the
    layer does not have, such as a parameter of another kind of source, is left alone; so are names and key ranges.
    """
    made = layer
    for path in _differences(old, new):
        if path.split(".")[0] in _OWN or not _has(made, old, path):
            continue
        before, after, here = read_path(old, path), read_path(new, path), read_path(made, path)
        if path == "routes":
            after = (*(r for r in here if r not in before or r in after), *(r for r in after if r not in before))
        elif path == "chain":
            after = _chain(here, before, after)
        elif _is_number(before) and _is_number(after) and _is_number(here):
            after = _moved(_declared(made, path), here, before, after)
        made = write_path(made, path, after)
    # What went takes along what moved it.
    return Layer.model_validate(dict(made.replace(routes=leading_routes(made))))


def _differences(old: Any, new: Any, path: str = "") -> Iterator[str]:
    """Paths of what differs, as deep as both are alike in kind."""
    if old == new:
        return
    inner: Iterable[tuple[str, Any, Any]] | None = None
    if isinstance(old, Values) and isinstance(new, Values) and old.keys() == new.keys():
        inner = ((name, old[name], new[name]) for name in old)
    elif isinstance(old, KindValues) and isinstance(new, KindValues):
        if old.kind == new.kind:
            fields = (
                (name, getattr(old, name), getattr(new, name)) for name in type(old).model_fields if name != "params"
            )
            inner = (*fields, *((name, old.params[name], new.params[name]) for name in old.params))
    elif isinstance(old, Value) and type(old) is type(new):
        inner = ((name, getattr(old, name), getattr(new, name)) for name in type(old).model_fields)
    elif isinstance(old, tuple) and isinstance(new, tuple) and len(old) == len(new) and path != "routes":
        inner = ((str(n), a, b) for n, (a, b) in enumerate(zip(old, new, strict=True)))
    if inner is None:
        yield path
        return
    for name, a, b in inner:
        yield from _differences(a, b, f"{path}.{name}" if path else name)


def _has(layer: Layer, old: Layer, path: str) -> bool:
    """Whether ``path`` leads to the same thing in both: through the same kinds of sources and devices."""
    parts = path.split(".")
    try:
        for n in range(1, len(parts)):
            there, here = (read_path(each, ".".join(parts[:n])) for each in (old, layer))
            if type(there) is not type(here) or (isinstance(here, KindValues) and here.kind != there.kind):
                return False
        read_path(layer, path)
    except (KeyError, IndexError, AttributeError, TypeError):
        return False
    return True


def _chain(here: tuple[Device, ...], before: tuple[Device, ...], after: tuple[Device, ...]) -> tuple[Device, ...]:
    """Devices that came, come here too; those that went, go where there is one of their kind at their place."""
    gone = [n for n, device in enumerate(before) if all(device.id != each.id for each in after)]
    made = [d for n, d in enumerate(here) if not (n in gone and d.kind == before[n].kind)]
    for at, device in enumerate(after):
        if all(device.id != each.id for each in before):
            copy = device.replace(id=make_id(device.kind, (each.id for each in made)))
            made.insert(min(at, len(made)), copy)
    return tuple(made)


def _is_number(value: Any) -> bool:
    return isinstance(value, (int, float)) and not isinstance(value, bool)


def _declared(layer: Layer, path: str) -> Param | None:
    """What is declared of a number of the layer; None where nothing is."""
    if (found := layer_params(layer).get(path)) is not None:
        return found
    parts = path.split(".")
    groups = {"lfos": LFO, "filter": FILTER, "filter2": FILTER, "envelope": ENVELOPE, "bend": ENVELOPE}
    group = LAYER if len(parts) == 1 else ENVELOPE if "envelope" in parts else groups.get(parts[0], ())
    with suppress(KeyError, IndexError, AttributeError, ParameterError):
        if parts[0] == "sound":
            group = layer.sound.spec.params
        elif parts[0] == "chain":
            group = layer.chain[int(parts[1])].spec.params
        for name in parts[1:-1]:  # an entry of a list
            group = next((p.items for p in group if p.name == name and p.items), group)
    return next((p for p in group if p.name == parts[-1]), None)


def _moved(param: Param | None, here: float, before: float, after: float) -> float:
    by_ratio = param is not None and param.scale == "log" and before > 0.0 and here > 0.0
    value = here * (after / before) if by_ratio else here + (after - before)
    if param is None:
        return after  # nothing is known of its range
    value = min(param.high, max(param.low, value))
    return round(value) if isinstance(after, int) and isinstance(here, int) else value
