"""The session as an immutable value.

Every model is frozen; an edit makes a new session that shares what did not change. Times people set are in ms,
positions in the song in beats or bars.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Annotated, Any, Literal, Self

from pydantic import ConfigDict, Field, ValidationError, field_validator, model_serializer, model_validator

from zygotone.errors import ParameterError, one_line
from zygotone.music.keys import Key, parse_key
from zygotone.session.automation import Lane
from zygotone.session.catalogue import DEVICES, SOURCES, Catalogue, Kind
from zygotone.session.params import ENTRY_CHECKS, Param, Values, level, number, share
from zygotone.session.value import Id, Name, Value

SAMPLE_RATES = (44100, 48000, 88200, 96000)

Role = Literal[
    "kick", "snare", "hats", "percussion", "sub", "bass", "guitar", "lead", "keys", "pad", "voice", "effect", "other"
]
ROLES: tuple[Role, ...] = (
    "kick", "snare", "hats", "percussion", "sub", "bass", "guitar", "lead", "keys", "pad", "voice", "effect", "other",
)  # fmt: skip
LOW_ROLES = ("bass", "sub")

Job = Literal["sub", "body", "attack", "bite", "air", "width", "texture"]

# A usual order of importance, where a person has set none: rhythm and lead first (common practice).
USUAL_SEAT: dict[str, int] = {
    "kick": 1, "lead": 1, "voice": 1, "snare": 2, "sub": 2, "bass": 3, "guitar": 5, "hats": 6, "keys": 6,
    "percussion": 6, "pad": 7, "effect": 8, "other": 8,
}  # fmt: skip


class KindValues(Value):
    """A kind with its parameter values, flat in files: ``{"kind": "pan", "pan_pct": -20}``."""

    kind: str
    params: Values

    model_config = ConfigDict(frozen=True, extra="forbid", arbitrary_types_allowed=True)

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
    """The parallel branches of a split; none of any other device."""
    return device.params["branches"] if device.kind == "split" else ()


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


class Envelope(Value):
    """Delay, attack, hold, decay, sustain, release. ``curve`` 0 is straight, 1 strongly bent (exponential)."""

    delay_ms: Annotated[float, Field(ge=0, le=10000)] = 0.0
    attack_ms: Annotated[float, Field(ge=0, le=10000)] = 2.0
    hold_ms: Annotated[float, Field(ge=0, le=10000)] = 0.0
    decay_ms: Annotated[float, Field(ge=0, le=30000)] = 200.0
    sustain: Annotated[float, Field(ge=0, le=1)] = 0.7
    release_ms: Annotated[float, Field(ge=1, le=30000)] = 80.0
    curve: Annotated[float, Field(ge=0, le=1)] = 0.5


class VoiceFilter(Value):
    """Low-pass of a layer with its own envelope."""

    cutoff_hz: Annotated[float, Field(ge=20, le=20000)] = 8000.0
    resonance: Annotated[float, Field(ge=0, le=1)] = 0.1
    envelope_octaves: Annotated[float, Field(ge=-8, le=8)] = 0.0
    velocity_octaves: Annotated[float, Field(ge=-8, le=8)] = 0.0
    key_follow: Annotated[float, Field(ge=0, le=1)] = 0.0
    envelope: Envelope = Envelope(sustain=0.0)


class Layer(Value):
    id: Id
    name: Name
    job: Job = "body"
    sound: Sound
    envelope: Envelope = Envelope()
    filter: VoiceFilter | None = None
    level_db: Annotated[float, Field(ge=-60, le=24)] = 0.0
    pan_pct: Annotated[float, Field(ge=-100, le=100)] = 0.0
    transpose_semitones: Annotated[int, Field(ge=-48, le=48)] = 0
    tune_cents: Annotated[float, Field(ge=-100, le=100)] = 0.0
    velocity_db: Annotated[float, Field(ge=0, le=60)] = 18.0  # how much softer the softest velocity is
    start_ms: Annotated[float, Field(ge=-100, le=1000)] = 0.0
    polarity: bool = False
    mute: bool = False


class Note(Value):
    start_beat: Annotated[float, Field(ge=0, le=100000)]
    length_beats: Annotated[float, Field(gt=0, le=10000)]
    pitch: Annotated[int, Field(ge=0, le=127)]
    velocity: Annotated[float, Field(ge=0, le=1)] = 0.8
    nudge_ms: Annotated[float, Field(ge=-200, le=200)] = 0.0


class Phrase(Value):
    """Notes in beats; repeats every ``beats`` while the section lasts."""

    id: Id
    beats: Annotated[float, Field(gt=0, le=10000)]
    notes: tuple[Note, ...] = ()
    nudge_ms: Annotated[float, Field(ge=-200, le=200)] = 0.0


class Part(Value):
    """Which phrase a section plays."""

    section: Id
    phrase: Id


class ClipSource(Value):
    """An audio clip, from ``start_s`` of the song; a loop repeats to the song's end."""

    type: Literal["clip"] = "clip"
    asset: Annotated[str, Field(pattern=r"^[0-9a-f]{64}$")]
    gain_db: Annotated[float, Field(ge=-60, le=60)] = 0.0
    start_s: Annotated[float, Field(ge=0, le=36000)] = 0.0
    loop: bool = False
    sections: tuple[Id, ...] | None = None  # silent elsewhere; None plays in all


class InstrumentSource(Value):
    type: Literal["instrument"] = "instrument"
    layers: tuple[Layer, ...]
    phrases: tuple[Phrase, ...] = ()
    parts: tuple[Part, ...] = ()


LEVEL = level("level_db", "Level", -60.0, 12.0, 0.0, "How loud the track goes on, after its chain.")
PAN = number("pan_pct", "Pan", "%", -100.0, 100.0, 0.0, "Left (−100) to right (100), at constant power.")
WET = share("mix", "Wet / dry", 1.0, "How much of the processed signal is heard; the rest is dry, aligned.")
LAYER_LEVEL = level("level_db", "Level", -60.0, 24.0, 0.0, "How loud the layer is.")
LAYER_PAN = number("pan_pct", "Pan", "%", -100.0, 100.0, 0.0, "Left (−100) to right (100), at constant power.")
SEND = level("level_db", "Send", -60.0, 12.0, -12.0, "How loud the copy goes to the return.")
NUDGE = number("nudge_ms", "Nudge", "ms", -200.0, 200.0, 0.0, "Moves the whole track later (above 0) or earlier.")


def _within(param: Param) -> Any:
    """A model field with the range of a declared parameter."""
    return Field(ge=param.low, le=param.high)


class Send(Value):
    """A copy of a strip's signal to a bus, taken after or before the strip's level and pan."""

    to: Id
    level_db: Annotated[float, _within(SEND)] = SEND.default
    tap: Literal["after", "before"] = "after"


def continuous_params(device: Device) -> dict[str, Param]:
    """What automation can move on a device, by path: ``threshold_db``, ``bands.0.gain_db``, ``mix``."""
    found: dict[str, Param] = {"mix": WET}
    for p in device.spec.params:
        if p.is_continuous:
            found[p.name] = p
        elif p.type == "list" and p.entries == "values":
            for n in range(len(device.params[p.name])):
                found |= {f"{p.name}.{n}.{q.name}": q for q in p.items if q.is_continuous}
    return found


def file_names(device: Device) -> list[str]:
    """The clips that a device uses, by asset id."""
    return [device.params[p.name] for p in device.spec.params if p.type == "file" and device.params[p.name]]


class Strip(Value):
    """What tracks and buses share."""

    id: Id
    name: Name
    chain: tuple[Device, ...] = ()
    level_db: Annotated[float, _within(LEVEL)] = LEVEL.default
    pan_pct: Annotated[float, _within(PAN)] = PAN.default
    mute: bool = False
    solo: bool = False
    sends: Annotated[tuple[Send, ...], Field(max_length=16)] = ()

    def device(self, path: str) -> Device:
        """By its id, or within splits by its path. Raises ParameterError where there is none."""
        found = dict(walk(self.chain)).get(path)
        if found is None:
            raise ParameterError(f"{self.name!r} has no device {path!r}")
        return found

    def index_of(self, device_id: str) -> int:
        return next(i for i, d in enumerate(self.chain) if d.id == device_id)


class Track(Strip):
    role: Role = "other"
    seat: Annotated[int, Field(ge=1, le=16)] = 8
    source: Annotated[ClipSource | InstrumentSource, Field(discriminator="type")]
    nudge_ms: Annotated[float, _within(NUDGE)] = NUDGE.default
    bus: Id | None = None  # None: straight into the mix


class Bus(Strip):
    pass


class Section(Value):
    id: Id
    name: Name
    bars: Annotated[int, Field(ge=1, le=1000)]


class Song(Value):
    title: Annotated[str, Field(max_length=200)] = "Untitled"
    tempo_bpm: Annotated[float, Field(ge=20, le=400)] = 120.0
    beats_per_bar: Annotated[int, Field(ge=1, le=16)] = 4
    beat_unit: Literal[2, 4, 8, 16] = 4
    key: Annotated[str, Field(max_length=20)] = "C major"
    a4_hz: Annotated[float, Field(ge=380, le=500)] = 440.0
    sections: Annotated[tuple[Section, ...], Field(min_length=1, max_length=200)]

    @field_validator("key")
    @classmethod
    def _a_key(cls, text: str) -> str:
        return parse_key(text).name

    @property
    def parsed_key(self) -> Key:
        return parse_key(self.key)

    @property
    def bars(self) -> int:
        return sum(section.bars for section in self.sections)

    @property
    def bar_beats(self) -> float:
        """Length of a bar in beats, which are quarter notes."""
        return self.beats_per_bar * 4.0 / self.beat_unit

    @property
    def bar_s(self) -> float:
        return self.bar_beats * 60.0 / self.tempo_bpm

    @property
    def length_s(self) -> float:
        return self.bars * self.bar_s

    def spans(self) -> Iterator[tuple[Section, int, int]]:
        """Each section with its first bar and the bar after its last, counted from 0."""
        bar = 0
        for section in self.sections:
            yield section, bar, bar + section.bars
            bar += section.bars

    def section(self, name_or_id: str) -> Section:
        for section in self.sections:
            if name_or_id in (section.id, section.name):
                return section
        names = ", ".join(s.name for s in self.sections)
        raise ParameterError(f"there is no section {name_or_id!r}; the song has {names}")


class Asset(Value):
    """A clip's audio in the project: 24-bit, at the session's rate; ``scale`` restores levels above full scale."""

    id: Annotated[str, Field(pattern=r"^[0-9a-f]{64}$")]  # SHA-256 of the samples, see session/audio_store.py
    name: Annotated[str, Field(max_length=255)]
    channels: Literal[1, 2]
    frames: Annotated[int, Field(ge=1, le=2_000_000_000)]
    scale: Annotated[float, Field(gt=0, le=1e6)] = 1.0


class Session(Value):
    rate_hz: Literal[44100, 48000, 88200, 96000] = 48000
    song: Song
    tracks: Annotated[tuple[Track, ...], Field(max_length=256)] = ()
    buses: Annotated[tuple[Bus, ...], Field(max_length=64)] = ()
    mix: Bus = Bus(id="mix", name="Mix")
    assets: tuple[Asset, ...] = ()
    lanes: Annotated[tuple[Lane, ...], Field(max_length=500)] = ()

    @model_validator(mode="after")
    def _holds_together(self) -> Self:
        self.check()
        return self

    def check(self) -> None:
        """Every name that one part uses for another must exist, once.

        Raises
        ------
        ParameterError : one does not.
        """
        ids = [s.id for s in self.strips()]
        for i in ids:
            if ids.count(i) > 1:
                raise ParameterError(f"two tracks or buses are called {i!r}")
        names = [s.name for s in self.strips()]
        for name in names:
            if names.count(name) > 1:
                raise ParameterError(f"two tracks or buses are named {name!r}")
        assets = {a.id for a in self.assets}
        sections = {s.id for s in self.song.sections}
        if len(sections) != len(self.song.sections):
            raise ParameterError("two sections have one id")
        for track in self.tracks:
            if track.bus is not None and track.bus not in {b.id for b in self.buses}:
                raise ParameterError(f"track {track.name!r} goes to bus {track.bus!r}, which does not exist")
            if isinstance(track.source, ClipSource) and track.source.asset not in assets:
                raise ParameterError(f"track {track.name!r} plays clip {track.source.asset[:12]}…, which is missing")
        buses = {b.id for b in self.buses}
        for strip in self.strips():
            paths = [path for path, _ in walk(strip.chain)]
            if len(set(paths)) != len(paths):
                raise ParameterError(f"two devices on {strip.name!r} have one id")
            for _, device in walk(strip.chain):
                if device.key is not None and device.key.track not in {*(t.id for t in self.tracks), *buses}:
                    raise ParameterError(
                        f"{device.title} on {strip.name!r} listens to track {device.key.track!r}, which does not exist"
                    )
                for name in file_names(device):
                    if name not in assets:
                        raise ParameterError(
                            f"{device.title} on {strip.name!r} uses clip {name[:12]}…, which is missing"
                        )
            for send in strip.sends:
                if send.to not in buses:
                    raise ParameterError(f"{strip.name!r} sends to bus {send.to!r}, which does not exist")
            if len({send.to for send in strip.sends}) != len(strip.sends):
                raise ParameterError(f"{strip.name!r} sends to one bus twice")
        if self.mix.sends:
            raise ParameterError("the mix cannot send anywhere; it is the end")
        lane_ids = [lane.id for lane in self.lanes]
        if len(set(lane_ids)) != len(lane_ids):
            raise ParameterError("two automation lanes have one id")
        for lane in self.lanes:
            self._check_lane(lane, sections)

    def _check_lane(self, lane: Lane, sections: set[str]) -> None:
        """Its section, target and values must be there and possible."""
        if lane.section is not None and lane.section not in sections:
            raise ParameterError(f"automation {lane.id!r} plays in section {lane.section!r}, which does not exist")
        param = self.lane_param(lane)
        for value in lane.values():
            param.check(value, f"automation {lane.id!r}")

    def lane_param(self, lane: Lane) -> Param:
        """The declaration of what a lane moves.

        Raises
        ------
        ParameterError : there is no such thing, or it cannot be automated.
        """
        strip = self.strip(lane.strip)
        where = f"automation {lane.id!r}"
        if lane.layer is not None:
            layers = (
                strip.source.layers if isinstance(strip, Track) and isinstance(strip.source, InstrumentSource) else ()
            )
            if lane.layer not in {layer.id for layer in layers}:
                raise ParameterError(f"{where}: {strip.name!r} has no layer {lane.layer!r}")
            params = {p.name: p for p in (LAYER_LEVEL, LAYER_PAN)}
        elif lane.device is not None:
            device = dict(walk(strip.chain)).get(lane.device)
            if device is None:
                raise ParameterError(f"{where}: {strip.name!r} has no device {lane.device!r}")
            params = continuous_params(device)
        else:
            params = {p.name: p for p in (LEVEL, PAN)}
            params |= {f"send.{send.to}": SEND for send in strip.sends}
        if lane.param not in params:
            known = ", ".join(params) or "nothing"
            raise ParameterError(f"{where} cannot move {lane.param!r}; there it can move {known}")
        return params[lane.param]

    def strips(self) -> tuple[Strip, ...]:
        return (*self.tracks, *self.buses, self.mix)

    def strip(self, strip_id: str) -> Strip:
        for strip in self.strips():
            if strip.id == strip_id:
                return strip
        raise ParameterError(f"there is no track or bus {strip_id!r}")

    def track(self, track_id: str) -> Track:
        for track in self.tracks:
            if track.id == track_id:
                return track
        raise ParameterError(f"there is no track {track_id!r}")

    def track_named(self, name: str) -> Track:
        for track in self.tracks:
            if track.name == name or track.id == name:
                return track
        raise ParameterError(f"there is no track {name!r}; there are {', '.join(t.name for t in self.tracks)}")

    def asset(self, asset_id: str) -> Asset:
        return next(a for a in self.assets if a.id == asset_id)

    def with_role(self, *roles: str) -> tuple[Track, ...]:
        return tuple(t for t in self.tracks if t.role in roles)
