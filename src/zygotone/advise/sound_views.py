"""Numbers and curves that the Sounds stage shows: who owns which octave, and what a layer's source gives."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from zygotone.advise.hearing import Hearing
from zygotone.advise.views import FREQS_HZ
from zygotone.dsp.onsets import onsets
from zygotone.dsp.strings import design_string, pluck_softness
from zygotone.dsp.types import FloatArray, Stereo
from zygotone.engine.graph import Graph
from zygotone.engine.renderer import Renderer
from zygotone.measure.layers import band_levels_db, owners
from zygotone.measure.loudness import integrated_lufs
from zygotone.measure.spectrum import log_spectrum_db, spectrum
from zygotone.session.models import ClipSource, InstrumentSource, Layer, Section
from zygotone.session.params import Values
from zygotone.sources import drum
from zygotone.sources.base import C4_HZ, NoteRequest, ReadClip, cells_of, source_kind
from zygotone.sources.string import pick_brightness, string_losses

CYCLES = 3  # shown of a waveform
WAVE_POINTS = 600


@dataclass(frozen=True, slots=True)
class LayerMapView:
    """Of an instrument over a section: third-octave levels in dB of each layer, (layers, 31), and of their sum, (31,); which
    layers own each band; and each layer's loudness."""

    layers: tuple[str, ...]
    levels_db: FloatArray
    sum_db: FloatArray
    owned: tuple[tuple[int, ...], ...]
    lufs: tuple[float, ...]


def layer_map(hearing: Hearing, track_id: str) -> LayerMapView | None:
    """None where the track plays a clip."""
    source = hearing.session.track(track_id).source
    if not isinstance(source, InstrumentSource):
        return None
    heard = [(layer, hearing.layer(track_id, layer.id)) for layer in source.layers]
    levels = np.array([band_levels_db(spectrum(audio, hearing.rate_hz)) for _, audio in heard]).reshape(len(heard), 31)
    sounding = {layer.id for layer in source.sounding}
    parts = [audio for layer, audio in heard if layer.id in sounding]
    total = band_levels_db(spectrum(np.sum(parts, axis=0), hearing.rate_hz)) if parts else np.full(31, -120.0)
    counted = np.array([row if layer.id in sounding else np.full(31, -120.0) for (layer, _), row in zip(heard, levels, strict=True)]).reshape(len(heard), 31)  # fmt: skip
    return LayerMapView(
        tuple(layer.id for layer, _ in heard), levels, total, tuple(tuple(o) for o in owners(counted)),
        tuple(integrated_lufs(audio, hearing.rate_hz) for _, audio in heard),
    )  # fmt: skip


@dataclass(frozen=True, slots=True)
class SourceView:
    """A note of a layer's source alone: a few cycles (or the first of a hit), (WAVE_POINTS,), over ``seconds``, and its
    spectrum in dB at ``FREQS_HZ``, 0 the loudest."""

    wave: FloatArray
    seconds: float
    spectrum_db: FloatArray
    pitch_hz: float


def source_view(layer: Layer, *, pitch_hz: float, rate_hz: int, clip: ReadClip) -> SourceView:
    kind = source_kind(layer.sound.kind)
    rings = kind.ring_s(layer.sound.params, pitch_hz, clip, rate_hz) if kind.ring_s is not None else 0.0
    frames = round(min(2.0, max(0.6, rings)) * rate_hz)
    request = NoteRequest(
        np.full(cells_of(frames) + 1, pitch_hz), frames, 0.8, rate_hz, frames, clip=clip
    )  # fmt: skip
    audio: Stereo = kind.render(layer.sound.params, request)
    hit = rings > 0.0
    seconds = min(0.08, frames / rate_hz) if hit else CYCLES / pitch_hz
    start = 0 if hit else round(0.25 * rate_hz)
    at = start + np.linspace(0.0, seconds * rate_hz, WAVE_POINTS)
    wave = np.interp(at, np.arange(frames), audio[0])
    whole = log_spectrum_db(spectrum(audio, rate_hz), FREQS_HZ)
    return SourceView(wave, seconds, np.asarray(whole - np.max(whole)), pitch_hz)


# --- a string, a drum ----------------------------------------------------------------------------------------------

PARTIALS = 24
_PLACES = np.linspace(0.0, 1.0, 201)
_LATER_S = (0.0, 0.1, 0.5)


@dataclass(frozen=True, slots=True)
class StringView:
    """A plucked string: where it is plucked, 0 (bridge) to 1; how far it is pulled aside along its length at ``times_s``, (times, 201), 1 the farthest of all, and
    the time to −60 dB of each partial in s, (partials,), of those below half the rate."""

    pick: float
    times_s: tuple[float, ...]
    places: FloatArray
    shapes: FloatArray
    decays_s: FloatArray


def string_view(params: Values, *, pitch_hz: float, rate_hz: int, velocity: float = 0.8) -> StringView:
    """The sum of the modes of an ideal string, each as strong as our pluck makes it and as far decayed; at whole periods,
    when all of them are back where they began."""
    string = design_string(pitch_hz, sample_rate_hz=rate_hz, **string_losses(params, pitch_hz))
    modes = np.arange(1.0, max(2, min(160, int(0.49 * rate_hz / pitch_hz))) + 1)
    decays = string.decays_s(modes)
    strength = np.sin(np.pi * modes * params["pick"]) / modes
    strength *= pluck_softness(modes * pitch_hz, pick_brightness(params, velocity))
    left = 10.0 ** (-3.0 * np.array(_LATER_S)[:, None] / decays)
    shapes = (left * strength) @ np.sin(np.pi * modes[:, None] * _PLACES)
    return StringView(
        params["pick"], _LATER_S, _PLACES, shapes / max(float(np.max(np.abs(shapes))), 1e-9), decays[:PARTIALS]
    )


@dataclass(frozen=True, slots=True)
class DrumView:
    """A hit over ``at_s``, (n,): the levels of its parts in dB and the pitch of its tone in Hz, each (n,); None for a part that is
    off."""

    at_s: FloatArray
    tone_db: FloatArray | None
    noise_db: FloatArray | None
    click_db: FloatArray | None
    tone_hz: FloatArray | None


def drum_view(params: Values, *, pitch_hz: float) -> DrumView:
    seconds = drum.ring_s(params) * 0.75  # down to −60 dB
    at = np.linspace(0.0, seconds, 400)

    def part(level_db: float, envelope: FloatArray) -> FloatArray | None:
        if level_db <= drum.OFF_DB:
            return None
        return np.asarray(level_db + 20.0 * np.log10(np.maximum(envelope, 1e-6)))

    tone_hz = params["tune_hz"] * pitch_hz / C4_HZ * np.exp2(drum.tone_octaves(params, at))
    tone = part(params["tone_db"], drum.tone_envelope(params, at))
    return DrumView(
        at, tone, part(params["noise_db"], drum.noise_envelope(params, at)), part(params["click_db"], drum.click_envelope(at)),
        None if tone is None else np.asarray(tone_hz),
    )  # fmt: skip


# --- clips ---------------------------------------------------------------------------------------------------------

_SHAPE_COLUMNS = 1600


@dataclass(frozen=True, slots=True)
class ClipShape:
    """What a track's clips give over a section, before its chain: lowest and highest sample of each of many columns, and its
    hits, in beats of the song."""

    section: str
    first_beat: float
    end_beat: float
    low: FloatArray  # (columns,)
    high: FloatArray  # (columns,)
    hits: tuple[float, ...]


def clip_shape(graph: Graph, section: Section, track_id: str, renderer: Renderer) -> ClipShape | None:
    """None where the track plays no clip."""
    session = graph.session
    track = session.track(track_id)
    if not isinstance(track.source, ClipSource):
        return None
    start, end = session.section_span(section.id)
    reader = renderer.clips_of(session, track)
    audio = reader.read(start, end - start)
    columns = min(_SHAPE_COLUMNS, audio.shape[1])
    edges = np.linspace(0, audio.shape[1], columns + 1).astype(int)[:-1]
    low = np.minimum.reduceat(audio.min(axis=0), edges)
    high = np.maximum.reduceat(audio.max(axis=0), edges)
    per_beat = 60.0 / session.song.tempo_bpm * session.rate_hz
    hits = tuple(float((start + at) / per_beat) for at in onsets(audio, session.rate_hz)) if np.any(audio) else ()
    first, last = session.song.beats_of(section.id)
    return ClipShape(section.id, first, last, low, high, hits)
