"""Kinds with their parameter values: the devices of a chain, and what makes a layer's sound."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Annotated, Any, Literal, Self

from pydantic import ConfigDict, Field, ValidationError, model_serializer, model_validator

from zygotone.errors import ParameterError, one_line
from zygotone.session.catalogue import DEVICES, SOURCES, Catalogue, Kind
from zygotone.session.params import ENTRY_CHECKS, Param, Values, share
from zygotone.session.value import Id, Value

WET = share("mix", "Wet / dry", 1.0, "How much of the processed signal is heard; the rest is dry, aligned.")


class KindValues(Value):
    """A kind with its parameter values, flat in files: ``{"kind": "pan", "pan_pct": -20}``."""

    kind: str
    params: Values

    model_config = ConfigDict(frozen=True, extra="forbid", defer_build=True, arbitrary_types_allowed=True)

    @classmethod
    def catalogue(cls) -> Catalogue:
        raise NotImplementedError

    @model_validator(mode="before")
    @classmethod
    def _gather(cls, data: Any) -> Any:
        if not isinstance(data, dict) or isinstance(data.get("params"), Values):
            return data
        if not isinstance(data.get("kind"), str):
            raise ParameterError("kind is missing")
        own = set(cls.model_fields) - {"params"}
        spec = cls.catalogue().find(data["kind"])
        rest = {name: value for name, value in data.items() if name not in own}
        return {name: value for name, value in data.items() if name in own} | {"params": spec.check(rest, data["kind"])}

    @model_serializer(mode="wrap")
    def _flatten(self, handler: Any) -> dict[str, Any]:
        data: dict[str, Any] = handler(self)
        data.pop("params")
        return {**data, **self.params.to_json()}

    @property
    def spec(self) -> Kind:
        return self.catalogue().find(self.kind)

    def verify(self) -> None:
        super().verify()
        self.spec.check(self.params.to_json(), self.kind)


class KeyInput(Value):
    """Another track or bus that a device listens to, taken before or after its chain."""

    track: Id
    tap: Literal["before", "after"] = "after"


class Device(KindValues):
    id: Id = "device"
    label: Annotated[str, Field(max_length=120)] = ""
    on: bool = True
    mix: Annotated[float, Field(ge=0.0, le=1.0)] = 1.0
    key: KeyInput | None = None

    @classmethod
    def catalogue(cls) -> Catalogue:
        return DEVICES

    @property
    def title(self) -> str:
        return self.label or self.spec.title

    @model_validator(mode="after")
    def _key_fits(self) -> Self:
        if self.key is not None and not self.spec.takes_key:
            raise ParameterError(f"{self.kind} takes no key")
        return self


MAX_NESTING = 4
MAX_CHAIN = 64  # devices in a row


def _nested_device(data: Any, place: str) -> Device:
    """An entry of a list of devices. Raises ParameterError, naming ``place``."""
    if isinstance(data, Device):
        device = data
    else:
        try:
            device = Device.model_validate(data)
        except ValidationError as error:
            raise ParameterError(f"{place}: {one_line(error)}") from None
    if _depth(device) > MAX_NESTING:
        raise ParameterError(f"{place} is nested more than {MAX_NESTING} deep")
    return device


def _depth(device: Device) -> int:
    return 1 + max((_depth(inner) for branch in branches(device) for inner in branch["devices"]), default=0)


ENTRY_CHECKS["device"] = _nested_device


def branches(device: Device) -> tuple[Values, ...]:
    """The parallel branches of a device that holds chains; none of any other."""
    return device.params["branches"] if device.spec.holds_chains else ()


def walk(chain: Iterable[Device], prefix: str = "") -> Iterator[tuple[str, Device]]:
    """Every device of a chain with its path, those inside of splits too: ``split/0/eq``."""
    for device in chain:
        yield prefix + device.id, device
        for n, branch in enumerate(branches(device)):
            yield from walk(branch["devices"], f"{prefix}{device.id}/{n}/")


class Sound(KindValues):
    """What makes a layer's sound."""

    @classmethod
    def catalogue(cls) -> Catalogue:
        return SOURCES


def moving_params(kind: KindValues) -> dict[str, Param]:
    """What can move of a kind's parameters, by path: ``threshold_db``, ``bands.0.gain_db``."""
    found: dict[str, Param] = {}
    for p in kind.spec.params:
        if p.is_continuous:
            found[p.name] = p
        elif p.type == "list" and p.entries == "values":
            for n in range(len(kind.params[p.name])):
                found |= {f"{p.name}.{n}.{q.name}": q for q in p.items if q.is_continuous}
    return found


def continuous_params(device: Device) -> dict[str, Param]:
    """What automation can move on a device: its parameters and its ``mix``."""
    return {"mix": WET, **moving_params(device)}


def file_names(kind: KindValues) -> list[str]:
    """The clips that a device or a sound uses, by asset id."""
    found: list[str] = []
    for p in kind.spec.params:
        if p.type == "file" and kind.params[p.name]:
            found.append(kind.params[p.name])
        elif p.type == "list" and p.entries == "plain" and p.items[0].type == "file":
            found += [name for name in kind.params[p.name] if name]
    return found
