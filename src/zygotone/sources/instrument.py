"""Layers played by phrases, over the whole song."""

from __future__ import annotations

import functools
import math
import zlib
from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace

import numpy as np

from zygotone.dsp.giving_up import give_up_if_unwanted
from zygotone.dsp.levels import side_gains
from zygotone.dsp.tiny import tiny_as_zero
from zygotone.dsp.types import GRID_FRAMES, FloatArray, Stereo
from zygotone.dsp.voice_filters import MODES, FilterRow, add_voice, filter_voices
from zygotone.music.pitch import midi_to_hz
from zygotone.music.tempo import beats_to_seconds
from zygotone.session.instruments import (
    FILTERS,
    Envelope,
    FilterName,
    InstrumentSource,
    Layer,
    Lfo,
    Note,
    Phrase,
    VoiceFilter,
)
from zygotone.session.models import Song
from zygotone.session.parts import Part
from zygotone.sources.base import NoteRequest, ReadClip, source_kind
from zygotone.sources.clip import part_gain
from zygotone.sources.envelopes import envelope_curve
from zygotone.sources.modulation import Automation, Motions, Played, as_it_begins, depends_on_number, depends_on_place
from zygotone.sources.voices import SongNote, Voice, allocate, limited

_CUT_S = 0.005
MAX_TAIL_S = 30  # a layer sounds on past the song for so long at most
Rows = dict[FilterName, list[FilterRow]]  # what is to be filtered, by the filter
_PIECE_FRAMES = 1 << 18  # after so many it is asked whether anybody still waits
_TOGETHER = 8  # voices made before they are filtered and added
_NO_LFOS = (Lfo(), Lfo())


def song_notes(source: InstrumentSource, parts: Sequence[Part], song: Song) -> Iterator[tuple[float, Note, float]]:
    """Each note of the parts with its start in seconds, and the gain of its part."""
    phrases = {phrase.id: phrase for phrase in source.phrases}
    for part in parts:
        phrase = phrases[part.phrase or ""]
        first, end = part.span_beats(song.beats_of(part.section))
        beat = first
        while beat < end:
            for note in _phrase_notes(phrase, part):
                at = beat + note.start_beat
                if at < end:
                    left = note.replace(length_beats=min(note.length_beats, end - at))
                    seconds = beats_to_seconds(at, bpm=song.tempo_bpm)
                    gain = float(part_gain(part, at, first, end, song.tempo_bpm))
                    yield seconds + (note.nudge_ms + phrase.nudge_ms) * 1e-3, left, gain
            beat += phrase.beats if part.loop else math.inf


def _phrase_notes(phrase: Phrase, part: Part) -> Iterator[Note]:
    """The notes as the part plays them: transposed, and backwards where it says so. What begins past the phrase's end is not
    heard; a phrase that was made shorter may hold such notes."""
    for note in phrase.notes:
        if note.start_beat >= phrase.beats:
            continue
        if not (part.reverse or part.transpose_semitones):
            yield note
            continue
        pitch = note.pitch + part.transpose_semitones
        if not 0 <= pitch <= 127:
            continue
        start = max(0.0, phrase.beats - note.start_beat - note.length_beats) if part.reverse else note.start_beat
        yield note.replace(pitch=pitch, start_beat=start, nudge_ms=-note.nudge_ms if part.reverse else note.nudge_ms)


def notes_in_frames(source: InstrumentSource, parts: Sequence[Part], song: Song, rate_hz: int) -> list[SongNote]:
    found = []
    for start_s, note, gain in song_notes(source, parts, song):
        at = round(start_s * rate_hz)
        gate = max(1, round(beats_to_seconds(note.length_beats, bpm=song.tempo_bpm) * rate_hz))
        found.append(SongNote(at, at + gate, note, gain))
    return found


# --- how loud a layer answers to a note ----------------------------------------------------------------------------


def felt_velocity(layer: Layer, velocity: float) -> float:
    """The velocity as the layer's curve has it."""
    return float(velocity ** (2.0 ** (-2.0 * layer.velocity_curve)))


def zone_gain(layer: Layer, note: Note) -> float:
    """0 to 1: whether key and velocity lie within the layer's range, with its fades at equal power."""
    if not layer.key_low <= note.pitch <= layer.key_high:
        return 0.0
    low, high, fade, v = layer.velocity_low, layer.velocity_high, layer.velocity_fade, note.velocity
    if fade <= 0.0:
        return 1.0 if low <= v <= high else 0.0
    # An edge at the end of the range has nothing beyond it to fade to. Fades lie around the edge, so that two layers
    # that meet there share it.
    rise = 1.0 if low <= 0.0 else min(1.0, max(0.0, (v - low) / fade + 0.5))
    fall = 1.0 if high >= 1.0 else min(1.0, max(0.0, (high - v) / fade + 0.5))
    return float(math.sin(0.5 * math.pi * rise) * math.sin(0.5 * math.pi * fall))


def release_frames(layer: Layer, rate_hz: int) -> int:
    return round(layer.envelope.release_ms * 1e-3 * rate_hz)


def as_stereo(audio: FloatArray) -> Stereo:
    """(1 or 2, n) to (2, n)."""
    return audio if len(audio) == 2 else np.repeat(audio, 2, axis=0)


# --- one voice -----------------------------------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class RenderedVoice:
    """audio (1 or 2, frames), its envelope (frames,), and the gains of left and right, (2, 1) or (2, frames)."""

    audio: FloatArray
    curve: FloatArray
    gains: FloatArray

    @property
    def alike(self) -> bool:
        """Whether both sides are."""
        return len(self.audio) == 1 and np.array_equal(self.gains[0], self.gains[1])

    def add_to(self, out: FloatArray, at: int, gain: float = 1.0) -> None:
        """Into out (2, n), or (1, n) of a voice whose sides are alike, from frame ``at``, which may be below 0; what does not
        fit is left out."""
        skip, end = max(0, -at), min(out.shape[1] - at, len(self.curve))
        if end <= skip:
            return
        part = slice(skip, end)
        left, right = (gain * (side if len(side) == 1 else side[part]) for side in self.gains)
        add_voice(self.audio[:, part], self.curve[part], left, right, out[:, at + skip : at + end])


@functools.lru_cache(maxsize=16)
def _held_curve(envelope: Envelope, gate: int, rate_hz: int) -> FloatArray:
    """Notes of a chord share theirs, so nobody writes into it."""
    return envelope_curve(envelope, gate, rate_hz)


def _unfiltered_voice(
    layer: Layer, voice: Voice, *, number: int, shared: tuple[Lfo, Lfo], rate_hz: int, bpm: float, a4_hz: float,
    automation: Automation, clip: ReadClip,
) -> tuple[RenderedVoice, Rows]:  # fmt: skip
    """One voice of one layer, from its own first frame to the end of its release, and what is left to be filtered of it."""
    note, gate = voice.note, voice.gate
    kind = source_kind(layer.sound.kind)
    velocity = felt_velocity(layer, note.velocity)
    offset = layer.transpose_semitones + layer.tune_cents / 100.0
    pitch_hz = midi_to_hz(note.pitch + offset, a4_hz=a4_hz)
    played = Played(
        voice.start / rate_hz, gate, 0, velocity, float(note.pitch), note.macros, note.wheel, number
    )  # fmt: skip
    layer, params = as_it_begins(layer, shared, played, rate_hz=rate_hz, bpm=bpm, automation=automation)
    rings = kind.ring_s(params, pitch_hz, clip, rate_hz) if kind.ring_s is not None else 0.0
    if rings > 0.0:
        frames = gate = max(1, round(rings * rate_hz))
        curve = np.ones(frames)
    else:
        curve = _held_curve(layer.envelope, gate, rate_hz)
        frames = len(curve)
    if voice.cut is not None:
        frames = min(frames, voice.cut + round(_CUT_S * rate_hz))
        curve = curve[:frames].copy()
        _fade_out(curve, voice.cut)
    if frames <= 0:
        return RenderedVoice(np.zeros((1, 0)), np.zeros(0), np.ones((2, 1))), {}
    played = replace(played, gate=gate, frames=frames)
    motions = Motions(layer, shared, played, rate_hz=rate_hz, bpm=bpm, automation=automation)
    line = voice.pitch_line(motions.cells, offset)
    if motions.moves("pitch"):
        line = line + motions.value("pitch")
    if layer.bend_semitones != 0.0 or motions.moves("bend_semitones"):
        line = line + motions.value("bend_semitones") * motions.source("bend")
    hz = a4_hz * np.exp2((line - 69.0) / 12.0)
    request = NoteRequest(hz, frames, velocity, rate_hz, gate, number, motions.moving_sound(), clip, layer_seed(layer))
    audio = np.ascontiguousarray(kind.render(params, request))  # of one row as long as both sides are alike
    rows = {which: _filter_rows(layer, which, motions, line, velocity, audio, rate_hz) for which in FILTERS}
    gain = zone_gain(layer, note) * 10.0 ** (-layer.velocity_db * (1.0 - velocity) / 20.0)
    sides = _sides(motions, layer, frames)
    return RenderedVoice(audio, curve, np.ascontiguousarray(sides * (-gain if layer.polarity else gain))), rows


def rings_by_itself(layer: Layer, clip: ReadClip) -> bool:
    """Whether it sounds to its own end whatever the note's length, so that the level envelope has nothing to shape."""
    ring_s = source_kind(layer.sound.kind).ring_s
    return ring_s is not None and ring_s(layer.sound.params, 261.63, clip, 48000) > 0.0


def layer_seed(layer: Layer) -> int:
    """The same for a layer every time, and another for each."""
    return zlib.crc32(layer.id.encode()) % 9973


def _filter_rows(
    layer: Layer, which: FilterName, motions: Motions, line: FloatArray, velocity: float, audio: FloatArray, rate_hz: int
) -> list[FilterRow]:  # fmt: skip
    f = getattr(layer, which)
    if f is None:
        return []
    octaves = motions.value(f"{which}.velocity_octaves") * (velocity - 1.0)
    octaves += motions.value(f"{which}.key_follow") * (line - 60.0) / 12.0
    if f.envelope_octaves != 0.0 or motions.moves(f"{which}.envelope_octaves"):
        octaves += motions.value(f"{which}.envelope_octaves") * motions.source(which)
    cutoff_hz = np.clip(motions.value(f"{which}.cutoff_hz") * np.exp2(octaves), 20.0, 0.45 * rate_hz)
    cutoffs, resonances = np.tan(np.pi * cutoff_hz / rate_hz), motions.value(f"{which}.resonance")
    drives = np.exp2(motions.value(f"{which}.drive_db") * (math.log2(10.0) / 20.0))
    return [FilterRow(row, cutoffs, resonances, drives) for row in audio]


def filter_stages(f: VoiceFilter) -> int:
    """Sections of two poles."""
    return 2 if f.slope_db_oct == 24 else 1


def _filter(layer: Layer, rows: Rows) -> None:
    """In place; all voices of a layer together, which is quicker. One filter after the other, or the mean of both."""
    second = rows.get("filter2", [])
    beside = layer.filters_beside and layer.filter is not None and layer.filter2 is not None
    if beside:
        second = [replace(row, audio=row.audio.copy()) for row in second]
    for f, mine in ((layer.filter, rows.get("filter", [])), (layer.filter2, second)):
        if f is not None:
            filter_voices(mine, MODES.index(f.mode), filter_stages(f))
    if beside:
        for row, other in zip(rows["filter"], second, strict=True):
            row.audio[:] = 0.5 * (row.audio + other.audio)


def _sides(motions: Motions, layer: Layer, frames: int) -> FloatArray:
    """Gains of left and right as routes have them: (2, 1), or (2, frames) where they move."""
    if not (motions.routed("level_db") or motions.routed("pan_pct")):
        return np.ones((2, 1))
    at = np.arange(frames) / GRID_FRAMES
    boundaries = np.arange(motions.cells + 1)
    pan = motions.value("pan_pct") if pans_voices(layer) else np.zeros(motions.cells + 1)
    gains = side_gains(motions.added("level_db"), pan)
    return np.stack([np.interp(at, boundaries, gains[0]), np.interp(at, boundaries, gains[1])])


# --- a layer's faders, which come after its own chain ---------------------------------------------------------------


def pans_voices(layer: Layer) -> bool:
    """Whether routes place each voice for itself; then the layer's pan is where they start from, before its chain."""
    return any(route.target == "pan_pct" for route in layer.note_routes)


def fader_paths(layer: Layer) -> tuple[str, ...]:
    """Which of its parameters act after its chain."""
    return ("level_db",) if pans_voices(layer) else ("level_db", "pan_pct")


def unfaded(layer: Layer) -> Layer:
    """With what acts after its chain at rest."""
    return layer.replace(**dict.fromkeys(fader_paths(layer), 0.0))


def layer_gains(layer: Layer) -> FloatArray:
    """Of left and right after its chain, (2, 1)."""
    pan = 0.0 if pans_voices(layer) else layer.pan_pct
    return side_gains(np.array([layer.level_db]), np.array([pan]))


def _fade_out(curve: FloatArray, at: int) -> None:
    n = len(curve) - at
    if n > 0:
        curve[at:] *= 0.5 + 0.5 * np.cos(np.pi * (np.arange(n) + 1.0) / n)


def _no_clip(name: str) -> Stereo:
    raise KeyError(name)


def render_note(
    layer: Layer, note: Note, *, gate_frames: int, rate_hz: int, a4_hz: float, bpm: float = 120.0, number: int = 0,
    shared: tuple[Lfo, Lfo] = _NO_LFOS, clip: ReadClip = _no_clip,
) -> Stereo:  # fmt: skip
    """One note of one layer alone at its level and pan, without its chain; shape (2, frames), release included."""
    voice = Voice(0, gate_frames, note, ((0, float(note.pitch)),))
    made, rows = _unfiltered_voice(
        layer, voice, number=number, shared=shared, rate_hz=rate_hz, bpm=bpm, a4_hz=a4_hz, automation={}, clip=clip
    )
    _filter(layer, rows)
    out = np.zeros((2, len(made.curve)))
    made.add_to(out, 0)
    return out * layer_gains(layer)


# --- a layer over the song -----------------------------------------------------------------------------------------


@tiny_as_zero()
def render_voices(
    layer: Layer, voices: Sequence[Voice], frames: int, *, shared: tuple[Lfo, Lfo], rate_hz: int, bpm: float,
    a4_hz: float, automation: Automation, clip: ReadClip,
) -> Stereo:  # fmt: skip
    """A layer's voices summed, from frame 0 to ``frames`` and on to the end of the last, at most 30 s: (1, n) where both
    sides are alike, else (2, n); before its chain and its faders. Equal notes are made once."""
    mine = [(n, v) for n, v in enumerate(voices) if zone_gain(layer, v.note) > 0.0]
    if layer.voices:
        numbers = {id(v): n for n, v in mine}
        cut = limited([v for _, v in mine], layer.voices, release_frames(layer, rate_hz))
        mine = [(numbers[id(old)], new) for (_, old), new in zip(mine, cut, strict=True)]
    kind = source_kind(layer.sound.kind)
    by_place = bool(automation) or depends_on_place(layer, shared)
    counted = depends_on_number(layer, shared)
    by_number = kind.varies(layer.sound.params) or counted
    start = round(layer.start_ms * 1e-3 * rate_hz)
    most = frames + MAX_TAIL_S * rate_hz
    out = np.zeros((1, most))  # what is not written to takes no memory
    made: dict[object, RenderedVoice] = {}  # as long as it is to be heard again
    last = frames
    keyed = [
        (
            (
                voice.pitches, voice.gate, voice.cut, voice.note.velocity, voice.note.macros, voice.note.wheel,
                voice.start if by_place else None, count if by_number else None,
            ),
            count, voice,
        )
        for count, voice in (
            (n if counted or not kind.variants else n % kind.variants, voice) for n, (_, voice) in enumerate(mine)
        )
    ]  # fmt: skip
    to_come = Counter(key for key, _, _ in keyed)
    for at_once in range(0, len(keyed), _TOGETHER):
        give_up_if_unwanted()
        few = keyed[at_once : at_once + _TOGETHER]
        rows: Rows = {which: [] for which in FILTERS}
        for key, count, voice in few:
            give_up_if_unwanted()
            if key not in made:
                made[key], left = _unfiltered_voice(
                    layer, voice, number=count, shared=shared, rate_hz=rate_hz, bpm=bpm, a4_hz=a4_hz,
                    automation=automation, clip=clip,
                )  # fmt: skip
                for which, of_voice in left.items():
                    rows[which] += of_voice
        _filter(layer, rows)
        for key, _, voice in few:
            at = voice.start + start
            end = min(most, at + len(made[key].curve))
            if len(out) == 1 and not made[key].alike:
                out = _copied(out, last, np.zeros((2, most)))
            made[key].add_to(out, at, voice.gain)
            last = max(last, end)
            to_come[key] -= 1
            if not to_come[key]:
                del made[key]
    return out[:, :last] if len(out) == 1 else _copied(out, last, np.empty((2, last)))


def _copied(audio: FloatArray, frames: int, to: FloatArray) -> FloatArray:
    """``to`` (2, n), with the first frames of (1 or 2, n) in it; of a whole song that takes its time."""
    for at in range(0, frames, _PIECE_FRAMES):
        give_up_if_unwanted()
        piece = slice(at, min(frames, at + _PIECE_FRAMES))
        to[:, piece] = audio[:, piece]
    return to


def instrument_voices(source: InstrumentSource, parts: Sequence[Part], song: Song, rate_hz: int) -> list[Voice]:
    """The voices of all notes of the song, before the layers' own limits."""
    release = max((release_frames(layer, rate_hz) for layer in source.layers), default=0)
    return allocate(notes_in_frames(source, parts, song, rate_hz), source.voices, rate_hz=rate_hz, release=release)


def render_layer(
    source: InstrumentSource, layer: Layer, parts: Sequence[Part], song: Song, rate_hz: int, *,
    automation: Automation | None = None, clip: ReadClip = _no_clip,
) -> Stereo:  # fmt: skip
    """One layer over the whole song and its tail, (1, n) where both sides are alike, else (2, n); before the layer's own chain
    and its faders."""
    return render_voices(
        layer, instrument_voices(source, parts, song, rate_hz), round(song.length_s * rate_hz), shared=source.lfos,
        rate_hz=rate_hz, bpm=song.tempo_bpm, a4_hz=song.a4_hz, automation=automation or {}, clip=clip,
    )  # fmt: skip


def add_layers(parts: Sequence[tuple[Layer, FloatArray]]) -> Stereo:
    """The sum of layers of different lengths, (2, frames): each with its audio, (1 or 2, n), and at its level and pan."""
    out = np.zeros((2, max((audio.shape[1] for _, audio in parts), default=0)))
    for layer, audio in parts:
        out[:, : audio.shape[1]] += layer_gains(layer) * audio
    return out
