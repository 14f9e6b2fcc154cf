"""Layers played by phrases, over the whole song."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping

import numpy as np

from zygotone.dsp.filters import svf_lowpass
from zygotone.dsp.levels import db_to_gain
from zygotone.dsp.types import FloatArray, Stereo
from zygotone.music.pitch import midi_to_hz
from zygotone.music.tempo import beats_to_seconds
from zygotone.session.models import InstrumentSource, Layer, Note, Song
from zygotone.sources.base import NoteRequest, source_kind
from zygotone.sources.envelopes import envelope_curve


def song_notes(source: InstrumentSource, song: Song) -> Iterator[tuple[float, Note]]:
    """Each note with its start in seconds, in the order of the sections."""
    phrases = {phrase.id: phrase for phrase in source.phrases}
    parts = {part.section: part.phrase for part in source.parts}
    for section, first_bar, end_bar in song.spans():
        phrase = phrases.get(parts.get(section.id, ""))
        if phrase is None:
            continue
        beat, end = first_bar * song.bar_beats, end_bar * song.bar_beats
        while beat < end:
            for note in phrase.notes:
                at = beat + note.start_beat
                if at < end:
                    left = note.replace(length_beats=min(note.length_beats, end - at))
                    seconds = beats_to_seconds(at, bpm=song.tempo_bpm)
                    yield seconds + (note.nudge_ms + phrase.nudge_ms) * 1e-3, left
            beat += phrase.beats


def render_note(
    layer: Layer, note: Note, *, gate_frames: int, rate_hz: int, a4_hz: float, at_unity: bool = False
) -> Stereo:
    """One note of one layer, shape (2, frames), release included; ``at_unity`` leaves the layer's level and pan out."""
    pitch = note.pitch + layer.transpose_semitones + layer.tune_cents / 100.0
    pitch_hz = midi_to_hz(pitch, a4_hz=a4_hz)
    kind = source_kind(layer.sound.kind)
    if kind.one_shot:
        audio = kind.render(layer.sound.params, NoteRequest(pitch_hz, note.velocity, 0, rate_hz))
        gate_frames = audio.shape[1]
        curve = np.ones(gate_frames)
    else:
        curve = envelope_curve(layer.envelope, gate_frames, rate_hz)
        audio = kind.render(layer.sound.params, NoteRequest(pitch_hz, note.velocity, len(curve), rate_hz))
    if layer.filter is not None:
        f = layer.filter
        sweep = envelope_curve(f.envelope, gate_frames, rate_hz)[: len(curve)]
        sweep = np.pad(sweep, (0, len(curve) - len(sweep)))
        octaves = f.envelope_octaves * sweep + f.velocity_octaves * (note.velocity - 1.0)
        octaves += f.key_follow * (pitch - 60.0) / 12.0
        cutoff_hz = np.clip(f.cutoff_hz * 2.0**octaves, 20.0, 0.45 * rate_hz)
        for channel in audio:
            svf_lowpass(channel, cutoff_hz, f.resonance, float(rate_hz), np.zeros(2), channel)
    if at_unity:
        layer = layer.replace(level_db=0.0, pan_pct=0.0)
    gain = db_to_gain(layer.level_db - layer.velocity_db * (1.0 - note.velocity))
    angle = (layer.pan_pct / 100.0 + 1.0) * np.pi / 4.0
    sides = np.array([[np.cos(angle)], [np.sin(angle)]]) * np.sqrt(2.0)
    return np.asarray(audio * curve * sides * (-gain if layer.polarity else gain))


LayerGain = Callable[[int, int], FloatArray]


def render_instrument(
    source: InstrumentSource, song: Song, rate_hz: int, moving: Mapping[str, LayerGain] | None = None
) -> Stereo:
    """The whole song, shape (2, frames), and the tail of its last notes.

    ``moving`` holds, for layers whose level and pan are automated, the gains (2, n) over any n frames of the song.
    """
    moving = moving or {}
    length = round(song.length_s * rate_hz)
    out = np.zeros((2, length + 8 * rate_hz))
    made: dict[tuple[str, int, float, int], Stereo] = {}
    last = length
    for start_s, note in song_notes(source, song):
        gate = max(1, round(beats_to_seconds(note.length_beats, bpm=song.tempo_bpm) * rate_hz))
        for layer in source.layers:
            if layer.mute:
                continue
            key = (layer.id, note.pitch, note.velocity, gate)
            if key not in made:
                made[key] = render_note(
                    layer, note, gate_frames=gate, rate_hz=rate_hz, a4_hz=song.a4_hz, at_unity=layer.id in moving
                )
            audio = made[key]
            at = round((start_s + layer.start_ms * 1e-3) * rate_hz)
            if layer.id in moving:
                audio = audio * moving[layer.id](at, audio.shape[1])
            skip = max(0, -at)
            end = min(out.shape[1], at + audio.shape[1])
            if end > at + skip:
                out[:, at + skip : end] += audio[:, skip : end - at]
                last = max(last, end)
    return np.ascontiguousarray(out[:, :last])
