"""The session as an immutable value.

Every model is frozen; an edit makes a new session that shares what did not change. Times people set are in ms,
positions in the song in beats or bars.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator
from typing import Annotated, Any, Literal, Self

import numpy as np
from pydantic import Field, field_validator, model_validator

from zygotone.errors import ParameterError
from zygotone.music.keys import Key, parse_key
from zygotone.session.automation import Lane, lane_range, offset_param, shifted
from zygotone.session.instruments import Envelope as Envelope
from zygotone.session.instruments import InstrumentSource as InstrumentSource
from zygotone.session.instruments import Job as Job
from zygotone.session.instruments import Layer as Layer
from zygotone.session.instruments import Lfo as Lfo
from zygotone.session.instruments import Note as Note
from zygotone.session.instruments import Phrase as Phrase
from zygotone.session.instruments import Route as Route
from zygotone.session.instruments import VoiceFilter as VoiceFilter
from zygotone.session.instruments import Voices as Voices
from zygotone.session.instruments import instrument_files as instrument_files
from zygotone.session.instruments import layer_params as layer_params
from zygotone.session.instruments import layer_value as layer_value
from zygotone.session.kinds import MAX_CHAIN as MAX_CHAIN
from zygotone.session.kinds import MAX_NESTING as MAX_NESTING
from zygotone.session.kinds import Device as Device
from zygotone.session.kinds import KeyInput as KeyInput
from zygotone.session.kinds import Sound as Sound
from zygotone.session.kinds import branches as branches
from zygotone.session.kinds import continuous_params as continuous_params
from zygotone.session.kinds import file_names as file_names
from zygotone.session.kinds import walk as walk
from zygotone.session.params import Param, level, nearest, number
from zygotone.session.parts import Part as Part
from zygotone.session.paths import read_path
from zygotone.session.schools import Schools
from zygotone.session.value import Id, Name, Value

MAX_TRACKS, MAX_BUSES = 256, 64
MOST_STRIPS = MAX_TRACKS + MAX_BUSES + 1  # the mix
MAX_NOTES = 200_000  # that one track plays over the song
SAMPLE_RATES = (44100, 48000, 88200, 96000)

Role = Literal[
    "kick", "snare", "hats", "percussion", "sub", "bass", "guitar", "lead", "keys", "pad", "voice", "effect", "other"
]
ROLES: tuple[Role, ...] = (
    "kick", "snare", "hats", "percussion", "sub", "bass", "guitar", "lead", "keys", "pad", "voice", "effect", "other",
)  # fmt: skip
LOW_ROLES = ("bass", "sub")

# A usual order of importance, where a person has set none: rhythm and lead first (common practice).
USUAL_SEAT: dict[str, int] = {
    "kick": 1, "lead": 1, "voice": 1, "snare": 2, "sub": 2, "bass": 3, "guitar": 5, "hats": 6, "keys": 6,
    "percussion": 6, "pad": 7, "effect": 8, "other": 8,
}  # fmt: skip


class ClipSource(Value):
    """An audio clip, from ``start_s`` of the song; a loop repeats to the song's end. Where the track has parts, it is heard
    only in them."""

    type: Literal["clip"] = "clip"
    asset: Annotated[str, Field(pattern=r"^[0-9a-f]{64}$")]
    gain_db: Annotated[float, Field(ge=-60, le=60)] = 0.0
    start_s: Annotated[float, Field(ge=0, le=36000)] = 0.0
    loop: bool = False


LEVEL = level("level_db", "Level", -60.0, 12.0, 0.0, "How loud the track goes on, after its chain.")
PAN = number("pan_pct", "Pan", "%", -100.0, 100.0, 0.0, "Left (−100) to right (100), at constant power.")
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


class Strip(Value):
    """What tracks and buses share."""

    id: Id
    name: Name
    chain: Annotated[tuple[Device, ...], Field(max_length=MAX_CHAIN)] = ()
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

    def value_of(self, device: str | None, param: str) -> Any:
        """What a parameter that automation can move is set to: the strip's own, or with ``device`` one of it."""
        if device is None:
            if param.startswith("send."):
                return next(s.level_db for s in self.sends if s.to == param.removeprefix("send."))
            return getattr(self, param)
        return _moving_value(self.device(device), param)


def _moving_value(device: Device, param: str) -> Any:
    return device.mix if param == "mix" else read_path(device.params, param)


class Track(Strip):
    role: Role = "other"
    seat: Annotated[int, Field(ge=1, le=16)] = 8
    source: Annotated[ClipSource | InstrumentSource, Field(discriminator="type")]
    parts: Annotated[tuple[Part, ...], Field(max_length=2000)] = ()  # a clip without any plays throughout
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
    key: Annotated[str, Field(max_length=20)] = ""  # empty as long as none was chosen
    a4_hz: Annotated[float, Field(ge=380, le=500)] = 440.0
    sections: Annotated[tuple[Section, ...], Field(min_length=1, max_length=200)]

    @field_validator("key")
    @classmethod
    def _a_key(cls, text: str) -> str:
        return parse_key(text).name if text.strip() else ""

    @property
    def parsed_key(self) -> Key | None:
        """None where no key was chosen: then nothing is judged against one."""
        return parse_key(self.key) if self.key else None

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

    def beats_of(self, section_id: str | None) -> tuple[float, float]:
        """First beat of a section, or of the song, and the one after its last."""
        for section, first, end in self.spans():
            if section.id == section_id:
                return first * self.bar_beats, end * self.bar_beats
        if section_id is not None:
            raise KeyError(section_id)
        return 0.0, self.bars * self.bar_beats

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


def _twice(names: Iterable[str]) -> list[str]:
    """Those that occur more than once."""
    names = tuple(names)
    if len(set(names)) == len(names):  # mostly; to count them takes several times as long
        return []
    return [name for name, times in Counter(names).items() if times > 1]


def chains_of(strip: Strip) -> Iterator[tuple[Device, ...]]:
    """The strip's chain, and those of its layers."""
    yield strip.chain
    if isinstance(strip, Track) and isinstance(strip.source, InstrumentSource):
        for layer in strip.source.layers:
            yield layer.chain


class OnPurpose(Value):
    """A finding that is meant: it stays quiet as long as its number is not worse than ``value`` by more than ``may_change``."""

    rule: Annotated[str, Field(min_length=1, max_length=100)]
    tracks: Annotated[tuple[Id, ...], Field(max_length=64)]
    layers: Annotated[tuple[Id, ...], Field(max_length=64)] = ()
    section: Id | None = None  # None: wherever it is found
    reason: Annotated[str, Field(max_length=2000)] = ""
    quantity: Annotated[str, Field(min_length=1, max_length=100)]
    value: float
    may_change: Annotated[float, Field(ge=0)] = 0.0


class Session(Value):
    rate_hz: Literal[44100, 48000, 88200, 96000] = 48000
    song: Song
    tracks: Annotated[tuple[Track, ...], Field(max_length=MAX_TRACKS)] = ()
    buses: Annotated[tuple[Bus, ...], Field(max_length=MAX_BUSES)] = ()
    mix: Bus = Bus(id="mix", name="Mix")
    assets: Annotated[tuple[Asset, ...], Field(max_length=10_000)] = ()
    lanes: Annotated[tuple[Lane, ...], Field(max_length=500)] = ()
    on_purpose: Annotated[tuple[OnPurpose, ...], Field(max_length=1000)] = ()
    schools: Schools = Schools()

    @model_validator(mode="after")
    def _holds_together(self) -> Self:
        if not self.is_sound:  # asked again whenever another value takes the session in
            self.check()
        return self

    def check(self) -> None:
        """Every name that one part uses for another must exist, once.

        Raises
        ------
        ParameterError : one does not.
        """
        for i in _twice(s.id for s in self.strips()):
            raise ParameterError(f"two tracks or buses are called {i!r}")
        for name in _twice(s.name for s in self.strips()):
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
            if isinstance(track.source, InstrumentSource):
                for name in instrument_files(track.source.layers):
                    if name not in assets:
                        raise ParameterError(f"a layer of {track.name!r} uses clip {name[:12]}…, which is missing")
                for group, found in (("layers", track.source.layers), ("phrases", track.source.phrases)):
                    if len({each.id for each in found}) != len(found):
                        raise ParameterError(f"two {group} of {track.name!r} have one id")
            self._check_parts(track, sections, assets)
        buses = {b.id for b in self.buses}
        strips = {*(t.id for t in self.tracks), *buses}
        for strip in self.strips():
            for chain in chains_of(strip):
                for path in _twice(path for path, _ in walk(chain)):
                    raise ParameterError(f"two devices on {strip.name!r} have one id, {path!r}")
                for _, device in walk(chain):
                    if device.key is not None and device.key.track not in strips:
                        raise ParameterError(
                            f"{device.title} on {strip.name!r} listens to track {device.key.track!r}, which does not exist"
                        )
            for _, device in walk(strip.chain):
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

    def _check_parts(self, track: Track, sections: set[str], assets: set[str]) -> None:
        """Each must name a section, phrase or clip that is there, and ask for no more notes than can be played."""
        source = track.source
        notes = 0.0
        phrases = {p.id: p for p in source.phrases} if isinstance(source, InstrumentSource) else {}
        for n, part in enumerate(track.parts, 1):
            where = f"part {n} of {track.name!r}"
            if part.section is not None and part.section not in sections:
                raise ParameterError(f"{where} plays in section {part.section!r}, which does not exist")
            if isinstance(source, ClipSource):
                if part.phrase is not None:
                    raise ParameterError(f"{where} plays a phrase, but the track plays a clip")
                if part.clip is not None and part.clip not in assets:
                    raise ParameterError(f"{where} plays clip {part.clip[:12]}…, which is missing")
            elif part.phrase not in phrases:
                raise ParameterError(f"{where} plays phrase {part.phrase!r}, which does not exist")
            else:
                phrase = phrases[part.phrase]
                first, end = part.span_beats(self.song.beats_of(part.section))
                notes += len(phrase.notes) * max(1.0, (end - first) / phrase.beats if part.loop else 1.0)
        if notes > MAX_NOTES:
            raise ParameterError(f"{track.name!r} would play {notes:.0f} notes, more than {MAX_NOTES}")

    def _check_lane(self, lane: Lane, sections: set[str]) -> None:
        """Its section, target and values must be there and possible."""
        if lane.section is not None and lane.section not in sections:
            raise ParameterError(f"automation {lane.id!r} plays in section {lane.section!r}, which does not exist")
        param = self.lane_param(lane)
        for value in lane.values():
            param.check(value, f"automation {lane.id!r}")

    def automated_range(
        self, strip_id: str, param: str, *, device: str | None = None, layer: str | None = None
    ) -> tuple[float, float] | None:
        """From where to where automation moves a parameter; None where none does."""
        place = (strip_id, device, layer, param)
        lanes = [e for e in self.lanes if e.moves and (e.strip, e.device, e.layer, e.param) == place]
        if not lanes:
            return None
        target = self.lane_target(lanes[0])

        def reach(lane: Lane, param: Param) -> tuple[float, float]:
            first, end = self.song.beats_of(lane.section)
            return lane_range(lane, param, end - first)

        ends = [reach(lane, target) for lane in lanes if not lane.relative]
        added = [reach(lane, offset_param(target)) for lane in lanes if lane.relative]
        if added or not ends:  # what is added is added to what is set, too
            ends.append((self.value_at(lanes[0]),) * 2)
        low, high = min(low for low, _ in ends), max(high for _, high in ends)
        for less, more in added:
            low, high = (
                float(v) for v in shifted(target, np.array([low, high]), np.array([min(0.0, less), max(0.0, more)]))
            )
        return low, high

    def value_at(self, lane: Lane) -> float:
        """What the parameter that a lane moves is set to."""
        strip, bpm = self.strip(lane.strip), self.song.tempo_bpm
        if lane.layer is None:
            return self.lane_target(lane).number_of(strip.value_of(lane.device, lane.param), bpm=bpm)
        layer = self._layer_of(lane)
        if lane.device is None:
            return layer_value(layer, lane.param, bpm=bpm)
        return self.lane_target(lane).number_of(
            _moving_value(dict(walk(layer.chain))[lane.device], lane.param), bpm=bpm
        )

    def _layer_of(self, lane: Lane) -> Layer:
        """The layer that a lane moves, or of whose chain a device. Raises ParameterError where there is none."""
        strip = self.strip(lane.strip)
        source = strip.source if isinstance(strip, Track) else None
        layers = source.layers if isinstance(source, InstrumentSource) else ()
        layer = next((each for each in layers if each.id == lane.layer), None)
        if layer is None:
            raise ParameterError(f"automation {lane.id!r}: {strip.name!r} has no layer {lane.layer!r}")
        return layer

    def lane_param(self, lane: Lane) -> Param:
        """The declaration of a lane's values: of what it moves, or, where it is relative, of what it adds.

        Raises
        ------
        ParameterError : there is no such thing, or it cannot be automated.
        """
        target = self.lane_target(lane)
        return offset_param(target) if lane.relative else target

    def lane_target(self, lane: Lane) -> Param:
        """The declaration of what a lane moves.

        Raises
        ------
        ParameterError : there is no such thing, or it cannot be automated.
        """
        strip = self.strip(lane.strip)
        where = f"automation {lane.id!r}"
        layer = self._layer_of(lane) if lane.layer is not None else None
        if lane.device is not None:
            device = dict(walk(strip.chain if layer is None else layer.chain)).get(lane.device)
            if device is None:
                raise ParameterError(f"{where}: {(layer or strip).name!r} has no device {lane.device!r}")
            params = continuous_params(device)
        elif layer is not None:
            params = layer_params(layer)
        else:
            params = {p.name: p for p in (LEVEL, PAN)}
            params |= {f"send.{send.to}": SEND for send in strip.sends}
        if lane.param not in params:
            raise ParameterError(
                f"{where} cannot move {lane.param!r}{nearest(lane.param, params, 'there it can move')}"
            )
        return params[lane.param]

    def section_span(self, section_id: str | None) -> tuple[int, int]:
        """Frames of a section, or of the whole song. Raises KeyError where there is no such section."""
        first, end = self.song.beats_of(section_id)
        frames_per_beat = 60.0 / self.song.tempo_bpm * self.rate_hz
        return round(first * frames_per_beat), round(end * frames_per_beat)

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
