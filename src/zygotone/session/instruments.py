"""Instruments as values: layers of sound, how their voices behave, and the phrases they play.

Conventions
-----------
Envelopes run from 0 to 1, LFOs from −1 to 1, velocity, macros and wheel from 0 to 1. A route adds its source, times its
amount, to its target: in octaves where the target lies on a ratio scale, else in the target's own unit.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace
from typing import Annotated, Any, Literal, Self

from pydantic import Field, field_validator, model_validator

from zygotone.errors import ParameterError
from zygotone.session.automation import DrawnPoint
from zygotone.session.kinds import Device, Sound, continuous_params, file_names, moving_params, walk
from zygotone.session.params import Param, at_start, frequency, level, nearest, number, share, whole
from zygotone.session.paths import read_path, write_path
from zygotone.session.value import Id, Name, Value

Job = Literal["sub", "body", "attack", "bite", "air", "width", "texture"]
JOBS: tuple[Job, ...] = ("sub", "body", "attack", "bite", "air", "width", "texture")

# --- declarations: rulers, automation, routes and the files read them ----------------------------------------------

ENVELOPE = (
    number("delay_ms", "Delay", "ms", 0.0, 10000.0, 0.0, "Waits this long before it begins."),
    number("attack_ms", "Attack", "ms", 0.1, 10000.0, 2.0, "Time from nothing to full.", scale="log"),
    number("hold_ms", "Hold", "ms", 0.0, 10000.0, 0.0, "Stays full this long."),
    number("decay_ms", "Decay", "ms", 1.0, 30000.0, 200.0, "Time from full to the sustain.", scale="log"),
    share("sustain", "Sustain", 0.7, "Where it stays while the note is held."),
    number("release_ms", "Release", "ms", 1.0, 30000.0, 80.0, "Time from there to nothing after the note.", scale="log"),
    number("attack_curve", "Attack bend", "", -1.0, 1.0, 0.2, "Above 0 quick at first, below 0 slow at first, 0 straight."),
    number("decay_curve", "Decay bend", "", -1.0, 1.0, 0.5, "Above 0 quick at first, below 0 slow at first, 0 straight."),
    number("release_curve", "Release bend", "", -1.0, 1.0, 0.5, "Above 0 quick at first, below 0 slow at first, 0 straight."),
)  # fmt: skip
FILTER = (
    frequency("cutoff_hz", "Cutoff", 8000.0, "Where the filter begins."),
    share("resonance", "Resonance", 0.1, "Emphasis at the cutoff."),
    level("drive_db", "Drive", 0.0, 36.0, 0.0, "Level into a soft curve inside of the filter."),
    number("envelope_octaves", "Envelope", "octaves", -8.0, 8.0, 0.0, "How far its envelope opens it."),
    number("velocity_octaves", "Velocity", "octaves", -8.0, 8.0, 0.0, "How much further the hardest note opens it than the softest."),
    share("key_follow", "Key follow", 0.0, "1 moves the cutoff with the note, counted from C4."),
)  # fmt: skip
LFO = (
    Param(name="rate", label="Rate", type="note_time", unit="Hz", low=0.01, high=40.0, default=4.0, scale="log", help="Cycles a second, or one cycle in a note value."),
    Param(name="rate_to", label="Rate later", type="note_time", unit="Hz", low=0.01, high=40.0, default=4.0, scale="log", help="Where the rate climbs to, where it climbs."),
    Param(name="climb", label="Climbs over", type="note_time", unit="ms", low=0.0, high=60000.0, default=0.0, help="How long the rate takes to get there; 0 stays at the first."),
    Param(name="delay_ms", label="Delay", type="note_time", unit="ms", low=0.0, high=10000.0, default=0.0, help="Stands still this long, in ms or a note value."),
    Param(name="rise_ms", label="Rise", type="note_time", unit="ms", low=0.0, high=10000.0, default=0.0, help="Then grows to its full width over this, in ms or a note value."),
    number("phase_deg", "Phase", "°", 0.0, 360.0, 0.0, "Where in the cycle it begins."),
)  # fmt: skip
LAYER = (
    level("level_db", "Level", -60.0, 24.0, 0.0, "How loud the layer is."),
    number("pan_pct", "Pan", "%", -100.0, 100.0, 0.0, "Left (−100) to right (100), at constant power."),
    whole("transpose_semitones", "Transpose", -48, 48, 0, "Moves the layer.", unit="semitones"),
    number("tune_cents", "Tune", "cents", -100.0, 100.0, 0.0, "Fine tuning."),
    number("start_ms", "Start", "ms", -100.0, 1000.0, 0.0, "Later, or below 0 earlier, than the note."),
    level("velocity_db", "Velocity to level", 0.0, 60.0, 18.0, "How much softer the softest note is."),
    number("velocity_curve", "Velocity curve", "", -1.0, 1.0, 0.0, "Above 0 soft playing already counts as hard, below 0 only hard playing does."),
    Param(name="key_low", label="Lowest key", type="int", unit="note", low=0, high=127, default=0, help="Notes below do not sound on this layer."),
    Param(name="key_high", label="Highest key", type="int", unit="note", low=0, high=127, default=127, help="Notes above do not sound on this layer."),
    Param(name="velocity_low", label="Velocity from", default=0.0, as_midi=True, help="Softer notes do not sound on this layer. From 0 to 1, or 2 to 127 as MIDI counts."),
    Param(name="velocity_high", label="Velocity to", default=1.0, as_midi=True, help="Harder notes do not sound on this layer. From 0 to 1, or 2 to 127 as MIDI counts."),
    share("velocity_fade", "Velocity fade", 0.0, "Width over which it fades in and out at the edges of that range."),
    whole("voices", "Voices", 0, 32, 0, "Most notes at a time on this layer; 0 is as many as the instrument has."),
)  # fmt: skip
VOICES = (
    number("glide_ms", "Glide", "ms", 0.0, 5000.0, 0.0, "Time from one pitch to the next, or for an octave."),
    whole("limit", "Voice limit", 1, 32, 16, "Most notes at a time; then the least missed makes room."),
)  # fmt: skip
BEND = number(
    "bend_semitones", "Pitch envelope", "semitones", -48.0, 48.0, 0.0, "How far the pitch envelope moves the pitch."
)
PITCH = number("pitch", "Pitch", "semitones", -48.0, 48.0, 0.0, "Moves the pitch.")

_DECLARED: dict[str, dict[str, Param]] = {
    name: {p.name: p for p in group}
    for name, group in (("envelope", ENVELOPE), ("filter", FILTER), ("lfo", LFO), ("layer", LAYER), ("voices", VOICES))
}


def _in(group: str, name: str) -> Any:
    """A model field with the range of a declared parameter."""
    p = _DECLARED[group][name]
    # A ruler of ratios cannot reach 0, but a file may say that something happens at once.
    at_once = p.scale == "log" and p.unit == "ms" and name != "release_ms"
    return Field(ge=0.0 if at_once else p.low, le=p.high)


def _usual(group: str, name: str) -> Any:
    return _DECLARED[group][name].default


# --- a layer's parts -----------------------------------------------------------------------------------------------


class Envelope(Value):
    """Delay, attack, hold, decay, sustain, release."""

    delay_ms: Annotated[float, _in("envelope", "delay_ms")] = _usual("envelope", "delay_ms")
    attack_ms: Annotated[float, _in("envelope", "attack_ms")] = _usual("envelope", "attack_ms")
    hold_ms: Annotated[float, _in("envelope", "hold_ms")] = _usual("envelope", "hold_ms")
    decay_ms: Annotated[float, _in("envelope", "decay_ms")] = _usual("envelope", "decay_ms")
    sustain: Annotated[float, _in("envelope", "sustain")] = _usual("envelope", "sustain")
    release_ms: Annotated[float, _in("envelope", "release_ms")] = _usual("envelope", "release_ms")
    attack_curve: Annotated[float, _in("envelope", "attack_curve")] = _usual("envelope", "attack_curve")
    decay_curve: Annotated[float, _in("envelope", "decay_curve")] = _usual("envelope", "decay_curve")
    release_curve: Annotated[float, _in("envelope", "release_curve")] = _usual("envelope", "release_curve")

    @model_validator(mode="before")
    @classmethod
    def _one_curve_for_all(cls, data: Any) -> Any:
        """Files of the first version have one bend for the three ways."""
        if isinstance(data, dict) and "curve" in data:
            rest = {name: value for name, value in data.items() if name != "curve"}
            bend = data["curve"]
            return {"attack_curve": 0.4 * bend, "decay_curve": bend, "release_curve": bend, **rest}
        return data


FilterMode = Literal["lowpass", "highpass", "bandpass", "notch"]


class VoiceFilter(Value):
    """State-variable filter of a layer with its own envelope. A layer may have two."""

    mode: FilterMode = "lowpass"
    slope_db_oct: Literal[12, 24] = 12
    cutoff_hz: Annotated[float, _in("filter", "cutoff_hz")] = _usual("filter", "cutoff_hz")
    resonance: Annotated[float, _in("filter", "resonance")] = _usual("filter", "resonance")
    drive_db: Annotated[float, _in("filter", "drive_db")] = _usual("filter", "drive_db")
    envelope_octaves: Annotated[float, _in("filter", "envelope_octaves")] = _usual("filter", "envelope_octaves")
    velocity_octaves: Annotated[float, _in("filter", "velocity_octaves")] = _usual("filter", "velocity_octaves")
    key_follow: Annotated[float, _in("filter", "key_follow")] = _usual("filter", "key_follow")
    envelope: Envelope = Envelope(sustain=0.0)


FilterName = Literal["filter", "filter2"]
FILTERS: tuple[FilterName, ...] = ("filter", "filter2")


LfoShape = Literal["sine", "triangle", "ramp_up", "ramp_down", "square", "steps", "drift", "drawn"]
LFO_SHAPES: tuple[LfoShape, ...] = ("sine", "triangle", "ramp_up", "ramp_down", "square", "steps", "drift", "drawn")
LfoMode = Literal["retriggered", "free", "one_shot"]


class Lfo(Value):
    """A slow wave: begun by each note, running with the song (``free``), or once per note."""

    shape: LfoShape = "sine"
    mode: LfoMode = "retriggered"
    rate: float | str = _usual("lfo", "rate")
    rate_to: float | str = _usual("lfo", "rate_to")
    climb: float | str = _usual("lfo", "climb")
    delay_ms: float | str = _usual("lfo", "delay_ms")
    rise_ms: float | str = _usual("lfo", "rise_ms")
    one_sided: bool = False  # from 0 to 1 instead of −1 to 1
    phase_deg: Annotated[float, _in("lfo", "phase_deg")] = _usual("lfo", "phase_deg")
    cycle: Annotated[tuple[DrawnPoint, ...], Field(max_length=64)] = ()

    @field_validator("rate", "rate_to", "climb", "delay_ms", "rise_ms", mode="before")
    @classmethod
    def _in_range(cls, value: Any, info: Any) -> Any:
        return _DECLARED["lfo"][info.field_name].check(value, "lfo")


RouteSource = Literal[
    "amp", "filter", "filter2", "bend", "lfo1", "lfo2", "shared1", "shared2", "velocity", "key", "macro1", "macro2", "macro3",
    "macro4", "wheel", "random",
]  # fmt: skip
ROUTE_SOURCES: dict[RouteSource, str] = {
    "amp": "Level envelope", "filter": "Filter envelope", "filter2": "Second filter's envelope", "bend": "Pitch envelope", "lfo1": "LFO 1", "lfo2": "LFO 2",
    "shared1": "Shared LFO 1", "shared2": "Shared LFO 2", "velocity": "Velocity", "key": "Key", "macro1": "Macro 1",
    "macro2": "Macro 2", "macro3": "Macro 3", "macro4": "Macro 4", "wheel": "Wheel", "random": "Chance",
}  # fmt: skip


class Route(Value):
    """``amount`` in octaves where the target lies on a ratio scale, else in the target's unit; times another source where it
    is ``scaled_by`` one, as a vibrato is by the wheel. ``target`` is a parameter of the layer, or of ``device``, a path in its
    chain: that hears all voices at once, so it goes by the note that began last."""

    source: RouteSource
    target: Annotated[str, Field(min_length=1, max_length=200)]
    amount: Annotated[float, Field(ge=-20000, le=20000)]
    scaled_by: RouteSource | None = None
    device: Annotated[str, Field(min_length=1, max_length=400)] | None = None


class Layer(Value):
    id: Id
    name: Name
    job: Job = "body"
    sound: Sound
    envelope: Envelope = Envelope()
    filter: VoiceFilter | None = None
    filter2: VoiceFilter | None = None
    filters_beside: bool = False  # both hear the source, and the mean of them is heard; else the second hears the first
    bend: Envelope = Envelope(attack_ms=0, decay_ms=60, sustain=0.0)
    bend_semitones: Annotated[float, Field(ge=BEND.low, le=BEND.high)] = BEND.default
    lfos: tuple[Lfo, Lfo] = (Lfo(), Lfo())
    routes: Annotated[tuple[Route, ...], Field(max_length=32)] = ()
    level_db: Annotated[float, _in("layer", "level_db")] = _usual("layer", "level_db")
    pan_pct: Annotated[float, _in("layer", "pan_pct")] = _usual("layer", "pan_pct")
    transpose_semitones: Annotated[int, _in("layer", "transpose_semitones")] = _usual("layer", "transpose_semitones")
    tune_cents: Annotated[float, _in("layer", "tune_cents")] = _usual("layer", "tune_cents")
    start_ms: Annotated[float, _in("layer", "start_ms")] = _usual("layer", "start_ms")
    velocity_db: Annotated[float, _in("layer", "velocity_db")] = _usual("layer", "velocity_db")
    velocity_curve: Annotated[float, _in("layer", "velocity_curve")] = _usual("layer", "velocity_curve")
    key_low: Annotated[int, _in("layer", "key_low")] = _usual("layer", "key_low")
    key_high: Annotated[int, _in("layer", "key_high")] = _usual("layer", "key_high")
    velocity_low: Annotated[float, _in("layer", "velocity_low")] = _usual("layer", "velocity_low")
    velocity_high: Annotated[float, _in("layer", "velocity_high")] = _usual("layer", "velocity_high")
    velocity_fade: Annotated[float, _in("layer", "velocity_fade")] = _usual("layer", "velocity_fade")
    voices: Annotated[int, _in("layer", "voices")] = _usual("layer", "voices")
    polarity: bool = False
    mute: bool = False
    solo: bool = False
    chain: Annotated[tuple[Device, ...], Field(max_length=32)] = ()
    output: Literal["chain", "direct"] = "chain"  # direct: past the track's chain

    @model_validator(mode="after")
    def _routes_lead_somewhere(self) -> Self:
        for route in self.routes:
            params = routable(self, route.device)
            if route.target not in params:
                meant = nearest(route.target, params, "it can move") if params else ""
                what = route.target if route.device is None else f"{route.target} of {route.device}"
                raise ParameterError(f"layer {self.name!r} cannot move {what!r}{meant}")
        return self

    @property
    def note_routes(self) -> tuple[Route, ...]:
        """Those that move something of each note."""
        return tuple(route for route in self.routes if route.device is None)

    @property
    def chain_routes(self) -> tuple[Route, ...]:
        """Those that move devices of its chain."""
        return tuple(route for route in self.routes if route.device is not None)


_STARTING = {
    name: at_start(p) for name, p in _DECLARED["envelope"].items()
}  # an envelope is laid down as a note begins
_LFO_STARTING = {
    name: at_start(replace(p, type="float")) for name, p in _DECLARED["lfo"].items() if name not in ("rate_to", "climb")
}


def layer_params(layer: Layer) -> dict[str, Param]:
    """What routes and automation can move on a layer, by path: ``pitch``, ``filter.cutoff_hz``, ``sound.position``."""
    declared = _DECLARED["layer"]
    found: dict[str, Param] = {"level_db": declared["level_db"], "pan_pct": declared["pan_pct"], "pitch": PITCH}
    filters = [which for which in FILTERS if getattr(layer, which) is not None]
    for which in filters:
        found |= {f"{which}.{name}": p for name, p in _DECLARED["filter"].items()}
    found |= {f"sound.{path}": p for path, p in moving_params(layer.sound).items()}
    found |= {f"envelope.{name}": p for name, p in _STARTING.items()}
    for which in filters:
        found |= {f"{which}.envelope.{name}": p for name, p in _STARTING.items()}
    found |= {BEND.name: BEND, **{f"bend.{name}": p for name, p in _STARTING.items()}}
    return found | {f"lfos.{n}.{name}": p for n in range(2) for name, p in _LFO_STARTING.items()}


def routable(layer: Layer, device: str | None) -> dict[str, Param]:
    """What routes can move on a layer, or on a device of its chain; nothing of a device that is not there."""
    if device is None:
        return layer_params(layer)
    there = dict(walk(layer.chain)).get(device)
    return {} if there is None else continuous_params(there)


def leading_routes(layer: Layer) -> tuple[Route, ...]:
    """Of a layer's routes those that still lead somewhere."""
    return tuple(route for route in layer.routes if route.target in routable(layer, route.device))


def layer_value(layer: Layer, path: str, *, bpm: float) -> float:
    """What ``path`` of ``layer_params`` is set to; a rate or time in note values is one in Hz or ms at that tempo."""
    if path == "pitch":
        return 0.0
    value = read_path(layer, path)
    if isinstance(value, str):
        return _DECLARED["lfo"][path.rsplit(".", 1)[-1]].number_of(value, bpm=bpm)
    return float(value)


def with_layer_value(layer: Layer, path: str, value: float) -> Layer:
    """The layer with ``path`` of ``layer_params`` set; ``pitch`` is set nowhere."""
    return write_path(layer, path, value)


# --- notes ---------------------------------------------------------------------------------------------------------

Macro = Annotated[float, Field(ge=0, le=1)]
Macros = tuple[Macro, Macro, Macro, Macro]


class Note(Value):
    by_the_thousand = True

    start_beat: Annotated[float, Field(ge=0, le=100000)]
    length_beats: Annotated[float, Field(gt=0, le=10000)]
    pitch: Annotated[int, Field(ge=0, le=127)]
    velocity: Annotated[float, Field(ge=0, le=1)] = 0.8
    nudge_ms: Annotated[float, Field(ge=-200, le=200)] = 0.0
    macros: Macros = (0.0, 0.0, 0.0, 0.0)
    wheel: Annotated[float, Field(ge=0, le=1)] = 0.0


class Phrase(Value):
    """Notes in beats; repeats every ``beats`` while the section lasts."""

    id: Id
    beats: Annotated[float, Field(ge=1 / 64, le=10000)]
    notes: Annotated[tuple[Note, ...], Field(max_length=20_000)] = ()
    nudge_ms: Annotated[float, Field(ge=-200, le=200)] = 0.0


# --- the instrument ------------------------------------------------------------------------------------------------


class Voices(Value):
    """``mono`` begins anew with each note, ``legato`` goes on where notes overlap; glide takes ``glide_ms`` for any
    interval (``time``) or for an octave (``rate``)."""

    mode: Literal["poly", "mono", "legato"] = "poly"
    glide_ms: Annotated[float, _in("voices", "glide_ms")] = _usual("voices", "glide_ms")
    glide_by: Literal["time", "rate"] = "time"
    glide_when: Literal["always", "overlap"] = "always"
    limit: Annotated[int, _in("voices", "limit")] = _usual("voices", "limit")


class InstrumentSource(Value):
    type: Literal["instrument"] = "instrument"
    layers: Annotated[tuple[Layer, ...], Field(max_length=32)]
    voices: Voices = Voices()
    lfos: tuple[Lfo, Lfo] = (Lfo(mode="free"), Lfo(mode="free"))  # shared by the layers, so that they move as one
    macros: tuple[str, str, str, str] = ("", "", "", "")  # what they are called
    phrases: Annotated[tuple[Phrase, ...], Field(max_length=500)] = ()

    @property
    def sounding(self) -> tuple[Layer, ...]:
        """The layers that are heard: those on solo, or all but the muted."""
        solo = tuple(layer for layer in self.layers if layer.solo and not layer.mute)
        return solo or tuple(layer for layer in self.layers if not layer.mute)


def instrument_files(layers: Iterable[Layer]) -> set[str]:
    """The clips that layers use, by asset id: of their sounds and of their chains."""
    found: set[str] = set()
    for layer in layers:
        found |= set(file_names(layer.sound))
        for _, device in walk(layer.chain):
            found |= set(file_names(device))
    return found
