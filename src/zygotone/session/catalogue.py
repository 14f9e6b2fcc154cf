"""What kinds of device and sound source exist. The packages ``devices`` and ``sources`` enter theirs here."""

from __future__ import annotations

import difflib
import importlib
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any, Literal

from zygotone.dsp.types import FloatArray
from zygotone.errors import ParameterError
from zygotone.session.params import Param, Values, check_values, defaults


@dataclass(frozen=True, slots=True)
class Handle:
    """A point of a curve over frequency that a hand may take."""

    freq_hz: float
    level_db: float
    moves: bool  # up and down too, or only along


@dataclass(frozen=True, slots=True)
class HandCurve:
    """A device as one curve over frequency with handles. ``moved`` gives the parameters after a handle (by its number) was
    drawn to a frequency and level; ``word`` says what the curve is."""

    response_db: Callable[[Values, FloatArray], FloatArray]
    handles: Callable[[Values], tuple[Handle, ...]]
    moved: Callable[[Values, int, float, float], dict[str, Any]]
    word: str = "curve"


def _no_words(entry: Values) -> str:
    return ""


def _usual_values(items: tuple[Param, ...], entries: tuple[Values, ...], shown: int) -> Values:
    return defaults(items)


def _none_idle(entry: Values) -> frozenset[str]:
    return frozenset()


@dataclass(frozen=True, slots=True, kw_only=True)
class Entries:
    """How the entries of a kind's list are edited: what one is called beside its number, which of its parameters do nothing as
    it is set, and what a new one begins as: of its declarations, those that are there, and the number of the one shown."""

    words: Callable[[Values], str] = _no_words
    idle: Callable[[Values], frozenset[str]] = _none_idle
    new: Callable[[tuple[Param, ...], tuple[Values, ...], int], Values] = _usual_values


def like_the_shown(items: tuple[Param, ...], entries: tuple[Values, ...], shown: int) -> Values:
    """A new entry like the one that is shown."""
    return entries[shown] if entries else defaults(items)


# Which picture shows a device: its spectra before and after, a curve with handles, a transfer curve with the gain over time, the
# drawn duck, the bend with its harmonics, the answer to a click over frequency or over time. Of sources: operators, string, drum.
PictureKind = Literal[
    "spectra", "curve", "compressor", "duck", "saturation", "response", "tail", "wave", "operators", "string", "drum"
]


Work = Literal["", "compresses", "limits", "gates"]
Purpose = Literal["tone", "dynamics", "colour", "time", "motion", "place", ""]
PURPOSES: dict[Purpose, str] = {
    "tone": "Tone", "dynamics": "Dynamics", "colour": "Colour", "time": "Time", "motion": "Motion", "place": "Place and paths",
    "": "Others",
}  # fmt: skip


@dataclass(frozen=True, slots=True, kw_only=True)
class Kind:
    """A kind of device or source: its name in files, its title and sentence for people, its parameters."""

    kind: str
    title: str
    summary: str
    params: tuple[Param, ...]
    purpose: Purpose = ""  # of a device: what one reaches for it for
    takes_key: bool = False
    usual_mix: float = 1.0  # of a device, when it is put into a chain by hand
    usual: Mapping[str, Any] = field(
        default_factory=dict, hash=False
    )  # what it is then set to, where that is not its defaults
    upgrade: Callable[[dict[str, Any]], dict[str, Any]] | None = None  # from values as older versions wrote them
    rings: bool = False  # a tail goes on after the input has ended, and after it was switched off
    picture: PictureKind = "spectra"
    hand_curve: HandCurve | None = field(default=None, hash=False)
    entries: Entries = Entries()
    work: Work = ""  # of a device whose gain moves: to what end, for who judges whether it does that well
    holds_chains: bool = False  # whether its entries are branches with devices of their own

    def param(self, name: str) -> Param:
        for p in self.params:
            if p.name == name:
                return p
        raise KeyError(name)

    def defaults(self) -> Values:
        return defaults(self.params)

    def check(self, given: Any, place: str) -> Values:
        if self.upgrade is not None and isinstance(given, dict):
            given = self.upgrade(given)
        return check_values(self.params, given, place)

    def to_json(self) -> dict[str, Any]:
        return {
            "kind": self.kind,
            "title": self.title,
            "summary": self.summary,
            "takes_key": self.takes_key,
            "params": [p.to_json() for p in self.params],
        }


class Catalogue:
    """Kinds by name. The package that enters them is named, not imported, since it stands above this one; it is
    loaded when somebody first asks."""

    def __init__(self, noun: str, package: str) -> None:
        self._noun, self._package = noun, package
        self._entered: dict[str, Kind] = {}
        self._all_there = False

    def enter(self, kind: Kind) -> Kind:
        self._entered[kind.kind] = kind
        return kind

    def leave(self, kind: str) -> None:
        """Takes a kind out again."""
        del self._entered[kind]

    @property
    def _kinds(self) -> dict[str, Kind]:
        if not self._all_there:
            importlib.import_module(self._package)
            self._all_there = True
        return self._entered

    def __iter__(self) -> Iterator[Kind]:
        return iter(self._kinds.values())

    def find(self, kind: str) -> Kind:
        """Raises ParameterError for an unknown kind, naming the nearest."""
        try:
            return (self._entered if self._all_there else self._kinds)[kind]  # asked hundreds of times an edit
        except KeyError:
            near = difflib.get_close_matches(kind, self._kinds, n=1, cutoff=0.3)
            hint = f"; did you mean {near[0]}?" if near else f"; known are {', '.join(self._kinds)}"
            raise ParameterError(f"there is no {self._noun} of kind {kind!r}{hint}") from None


DEVICES = Catalogue("device", "zygotone.devices")
SOURCES = Catalogue("sound source", "zygotone.sources")
