"""One declaration per parameter: its name, unit, range, default, taper and a sentence.

The rulers, the command line, the file format, the device list and the tests all read these declarations.
"""

from __future__ import annotations

import difflib
import math
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, field, replace
from typing import Any, Literal

from pydantic import GetCoreSchemaHandler
from pydantic_core import core_schema

from zygotone.errors import ParameterError
from zygotone.music.pitch import midi_to_note, note_to_midi, parse_hz
from zygotone.music.tempo import note_value_to_beats, note_value_to_seconds
from zygotone.session.value import as_text, digest_of

ParamType = Literal["float", "int", "bool", "choice", "note_time", "list", "file"]
Scale = Literal["linear", "log", "db"]


class Values(Mapping[str, Any]):
    """An immutable, hashable set of parameter values, in the order of their declarations."""

    __slots__ = ("_digest", "_hash", "_items")

    def __init__(self, items: Mapping[str, Any] | Iterable[tuple[str, Any]] = ()) -> None:
        self._items: dict[str, Any] = dict(items)
        self._hash: int | None = None
        self._digest: str | None = None

    def __getitem__(self, name: str) -> Any:
        return self._items[name]

    def __iter__(self) -> Iterator[str]:
        return iter(self._items)

    def __len__(self) -> int:
        return len(self._items)

    def __hash__(self) -> int:
        if self._hash is None:
            self._hash = hash(tuple(self._items.items()))
        return self._hash

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Values) and self._items == other._items

    def __repr__(self) -> str:
        return f"Values({self._items!r})"

    @property
    def digest(self) -> str:
        """Worked out once; equal for equal values."""
        if self._digest is None:
            self._digest = digest_of(*(f"{name}={as_text(held)}" for name, held in self._items.items()))
        return self._digest

    def replace(self, **changes: Any) -> Values:
        return Values({**self._items, **changes})

    @classmethod
    def __get_pydantic_core_schema__(cls, source: Any, handler: GetCoreSchemaHandler) -> core_schema.CoreSchema:
        return core_schema.is_instance_schema(
            cls, serialization=core_schema.plain_serializer_function_ser_schema(lambda values: values.to_json())
        )

    @classmethod
    def __get_pydantic_json_schema__(cls, schema: core_schema.CoreSchema, handler: Any) -> dict[str, Any]:
        return {"type": "object", "description": "Parameter values, written flat beside `kind`."}

    def to_json(self) -> dict[str, Any]:
        return {
            name: [plain(item) for item in value] if isinstance(value, tuple) else value
            for name, value in self._items.items()
        }


def plain(item: Any) -> Any:
    """A list entry as JSON has it: a number, an object of values, or a device."""
    if isinstance(item, Values):
        return item.to_json()
    return item.model_dump(mode="json", exclude_none=True) if hasattr(item, "model_dump") else item


# How entries of a list are checked that are no plain values: by what they are, entered by the module that knows them.
ENTRY_CHECKS: dict[str, Callable[[Any, str], Any]] = {}


@dataclass(frozen=True, slots=True, kw_only=True)
class Param:
    """A parameter. ``low``, ``high`` and ``scale`` matter for numbers, ``choices`` and ``items`` for theirs."""

    name: str  # key in files; a rename needs a migration
    label: str
    help: str
    type: ParamType = "float"
    unit: str = ""
    low: float = 0.0
    high: float = 1.0
    default: Any = 0.0
    scale: Scale = "linear"
    choices: tuple[Any, ...] = ()
    items: tuple[Param, ...] = ()
    max_items: int = 16
    choice_labels: tuple[str, ...] = field(default=())
    entries: str = "values"  # of a list: "values" (objects), "plain" (bare values of the one item), or "device"
    fixed: bool = False  # cannot be automated, since it decides the latency or what has to be worked out beforehand
    as_midi: bool = False  # a share that may also be typed from 2 to 127, as MIDI counts
    at_start: bool = False  # of sounds: a note takes it as it stands when it begins, whatever moves it later

    # --- taper: a pair, so that ruler and automation agree -------------------------------------------------

    def value_at(self, position: float) -> float:
        """Value at ``position`` 0 to 1 along the ruler."""
        p = min(1.0, max(0.0, position))
        if self.scale == "log":
            value = self.low * (self.high / self.low) ** p
        else:
            value = self.low + (self.high - self.low) * p
        # A power of a ratio may miss the end by its last bit.
        return float(round(value)) if self.type == "int" else min(self.high, max(self.low, value))

    def position_of(self, value: float) -> float:
        if self.scale == "log":
            return math.log(max(value, self.low) / self.low) / math.log(self.high / self.low)
        return (value - self.low) / (self.high - self.low)

    @property
    def is_number(self) -> bool:
        return self.type in ("float", "int")

    @property
    def has_range(self) -> bool:
        """Whether it lies on a scale: a number, or a time that is a number or a note value."""
        return self.type in ("float", "int", "note_time")

    @property
    def is_continuous(self) -> bool:
        """Whether automation can move it."""
        return self.type in ("float", "note_time") and not self.fixed

    @property
    def is_rate(self) -> bool:
        """Whether it says how often something comes round: what is moved then goes on from where it is in its cycle."""
        return self.type == "note_time" and self.unit == "Hz"

    # --- checking ------------------------------------------------------------------------------------------

    def check(self, value: Any, place: str) -> Any:
        """The value in its one canonical form.

        Raises
        ------
        ParameterError : wrong type or out of range; the message names ``place``.
        """
        where = f"{place}.{self.name}"
        if self.type == "bool":
            if not isinstance(value, bool):
                raise ParameterError(f"{where} must be true or false, got {value!r}")
            return value
        if self.type == "choice":
            for choice in self.choices:
                if value == choice and not isinstance(value, bool):
                    return choice
            listed = ", ".join(str(c) for c in self.choices)
            raise ParameterError(f"{where} must be one of {listed}, got {value!r}")
        if self.type == "list":
            if not isinstance(value, (list, tuple)):
                raise ParameterError(f"{where} must be a list, got {value!r}")
            if len(value) > self.max_items:
                raise ParameterError(f"{where} holds {len(value)} entries, at most {self.max_items} are possible")
            return tuple(self._check_entry(item, f"{where}[{i}]") for i, item in enumerate(value))
        if self.type == "file":
            if not isinstance(value, str) or len(value) > 255 or "/" in value or "\\" in value:
                raise ParameterError(f"{where} must be the name of a file, without a folder, got {value!r}")
            return value
        if self.type == "note_time" and isinstance(value, str):
            try:
                note_value_to_beats(value)
            except ParameterError as error:
                raise ParameterError(f"{where}: {error}") from None
            return "".join(value.split()).lower()
        if isinstance(value, bool) or not isinstance(value, (int, float)):
            raise ParameterError(f"{where} must be a number in {self.unit or 'no unit'}, got {value!r}")
        if not self.low <= value <= self.high:
            # A whole number may have more digits than any float.
            got = f"{value:g}" if abs(value) < 1e300 else "one that is far too large"
            raise ParameterError(
                f"{where} must be between {self.low:g} and {self.high:g} {self.unit}".rstrip() + f", got {got}"
            )
        if self.type == "int":
            if value != int(value):
                raise ParameterError(f"{where} must be a whole number, got {value:g}")
            return int(value)
        return float(value)

    def _check_entry(self, item: Any, where: str) -> Any:
        if self.entries == "plain":
            return self.items[0].check(item, where)
        if self.entries != "values":
            return ENTRY_CHECKS[self.entries](item, where)
        return check_values(self.items, item, where)

    def number_of(self, value: Any, *, bpm: float) -> float:
        """The value on the scale: a note value becomes ms, or the Hz of one cycle in it."""
        if not isinstance(value, str):
            return float(value)
        seconds = note_value_to_seconds(value, bpm=bpm)
        number = 1.0 / seconds if self.unit == "Hz" else 1000.0 * seconds
        return min(self.high, max(self.low, number))

    def parse(self, text: str, *, bpm: float, a4_hz: float = 440.0) -> Any:
        """A number as typed on a ruler: ``250``, ``-3``, ``2.5k`` or ``A#2`` for Hz, ``1/8d`` for ms
        or beats.

        Raises
        ------
        ParameterError : cannot be read, or out of range.
        """
        plain = text.strip().replace("−", "-").replace(",", ".")
        if self.type == "note_time" and "/" in plain:
            return self.check(plain, "value")
        if self.unit == "ms" and "/" in plain:
            value = 1000.0 * note_value_to_seconds(plain, bpm=bpm)
        elif self.unit == "Hz":
            value = parse_hz(plain, a4_hz=a4_hz)
        elif self.unit == "note" and not plain.isdigit():
            value = float(note_to_midi(plain))
        elif self.unit == "beats" and "/" in plain:
            value = float(note_value_to_beats(plain))
        else:
            number = plain.removesuffix(self.unit).strip() if self.unit else plain
            try:
                value = float(number)
            except ValueError:
                raise ParameterError(f"{self.label} takes a number in {self.unit or 'no unit'}, got {text!r}") from None
            if self.as_midi and 1.0 < value <= 127.0:
                value /= 127.0
        return float(self.check(round(value) if self.type == "int" else value, "value"))

    def format(self, value: Any) -> str:
        """The value with its unit, for people."""
        if self.type == "choice":
            index = self.choices.index(value)
            return self.choice_labels[index] if self.choice_labels else str(value).replace("_", " ")
        if self.type == "bool":
            return "on" if value else "off"
        if isinstance(value, str):
            return value
        if self.unit == "note":
            return midi_to_note(round(value))
        if self.type == "int":
            return f"{round(value)} {self.unit}".strip().replace("-", "−")
        return format_number(value, self.unit)

    def to_json(self) -> dict[str, Any]:
        """The shape that ``devices --json`` prints."""
        numeric = self.has_range
        default = [plain(v) for v in self.default] if self.type == "list" else self.default
        return {
            "name": self.name,
            "type": self.type,
            "unit": self.unit or None,
            "low": self.low if numeric else None,
            "high": self.high if numeric else None,
            "default": default,
            "scale": self.scale if numeric else None,
            "choices": list(self.choices) or None,
            "help": self.help,
            "items": [item.to_json() for item in self.items] or None,
        }


def format_number(value: float, unit: str) -> str:
    """A number as a person reads it, true minus sign, digits by size."""
    if unit == "dB" or unit.startswith(("LU", "dB")):
        text = f"{value:.1f}"
    elif unit == "Hz" and abs(value) >= 10000:
        text, unit = f"{value / 1000:.1f}", "kHz"
    elif unit == "Hz" and abs(value) >= 1000:
        text, unit = f"{value / 1000:.2f}", "kHz"
    elif abs(value) >= 100 or (unit and float(value).is_integer()):
        text = f"{value:.0f}"
    else:
        text = f"{value:.1f}" if abs(value) >= 10 else f"{value:.2f}"
    if float(text) == 0.0:
        text = text.lstrip("-")
    return f"{text} {unit}".strip().replace("-", "−")


def defaults(params: Iterable[Param]) -> Values:
    return Values((p.name, p.default) for p in params)


def nearest(name: str, known: Iterable[str], otherwise: str) -> str:
    """The end of a refusal: the known name that was likely meant, else ``otherwise`` and all of them."""
    near = difflib.get_close_matches(name, sorted(known), n=1, cutoff=0.3)
    return f"; did you mean {near[0]}?" if near else f"; {otherwise} {', '.join(sorted(known)) or 'nothing'}"


def check_values(params: tuple[Param, ...], given: Any, place: str) -> Values:
    """All parameters of a device or list entry, omitted ones at their default, unknown ones refused by name."""
    if not isinstance(given, Mapping):
        raise ParameterError(f"{place} must be an object with named values, got {given!r}")
    known = {p.name for p in params}
    for name in given:
        if name not in known:
            raise ParameterError(f"{place} has no parameter {name!r}{nearest(str(name), known, 'it takes')}")
    return Values((p.name, p.check(given[p.name], place) if p.name in given else p.default) for p in params)


# --- short forms, so that a device's declaration reads as a table ---------------------------------------------


def number(
    name: str, label: str, unit: str, low: float, high: float, default: float, help: str, *, scale: Scale = "linear",
    fixed: bool = False,
) -> Param:  # fmt: skip
    return Param(
        name=name, label=label, unit=unit, low=low, high=high, default=default, help=help, scale=scale, fixed=fixed
    )


def frequency(
    name: str, label: str, default: float, help: str, *, low: float = 20.0, high: float = 20000.0, fixed: bool = False
) -> Param:
    return number(name, label, "Hz", low, high, default, help, scale="log", fixed=fixed)


def at_start(param: Param) -> Param:
    """The same for a sound whose notes take it as it stands when they begin."""
    return replace(param, at_start=True, help=f"{param.help} Taken as the note begins.")


def level(name: str, label: str, low: float, high: float, default: float, help: str) -> Param:
    return number(name, label, "dB", low, high, default, help, scale="db")


def whole(name: str, label: str, low: int, high: int, default: int, help: str, *, unit: str = "") -> Param:
    return Param(name=name, label=label, type="int", unit=unit, low=low, high=high, default=default, help=help)


def switch(name: str, label: str, default: bool, help: str) -> Param:
    return Param(name=name, label=label, type="bool", default=default, help=help)


def note_time(
    name: str,
    label: str,
    unit: str,
    low: float,
    high: float,
    default: Any,
    help: str,
    *,
    scale: Scale = "log",
    fixed: bool = False,
) -> Param:
    """A time in ms or a rate in Hz that may also be a note value, such as ``1/8d``."""
    return Param(
        name=name,
        label=label,
        type="note_time",
        unit=unit,
        low=low,
        high=high,
        default=default,
        help=help,
        scale=scale,
        fixed=fixed,
    )


def share(name: str, label: str, default: float, help: str, *, low: float = 0.0, high: float = 1.0) -> Param:
    """A number without a unit, by default from 0 to 1."""
    return number(name, label, "", low, high, default, help)


def percent(name: str, label: str, default: float, help: str, *, low: float = 0.0, high: float = 100.0) -> Param:
    return number(name, label, "%", low, high, default, help)


def choice(
    name: str, label: str, choices: tuple[Any, ...], default: Any, help: str, labels: tuple[str, ...] = ()
) -> Param:
    return Param(
        name=name, label=label, type="choice", choices=choices, default=default, help=help, choice_labels=labels
    )
