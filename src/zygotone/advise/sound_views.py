"""Numbers and curves that the Sounds stage shows: who owns which octave, and what a layer's source gives."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from zygotone.advise.findings import Context
from zygotone.advise.views import FREQS_HZ
from zygotone.dsp.types import FloatArray, Stereo
from zygotone.measure.layers import band_levels_db, owners
from zygotone.measure.loudness import integrated_lufs
from zygotone.measure.spectrum import log_spectrum_db, spectrum
from zygotone.session.models import InstrumentSource, Layer
from zygotone.sources.base import NoteRequest, ReadClip, cells_of, source_kind

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


def layer_map(context: Context, track_id: str) -> LayerMapView | None:
    """None where the track plays a clip."""
    source = context.session.track(track_id).source
    if not isinstance(source, InstrumentSource):
        return None
    heard = [(layer, context.layer(track_id, layer.id)) for layer in source.layers]
    levels = np.array([band_levels_db(audio, context.rate_hz) for _, audio in heard]).reshape(len(heard), 31)
    sounding = {layer.id for layer in source.sounding}
    parts = [audio for layer, audio in heard if layer.id in sounding]
    total = band_levels_db(np.sum(parts, axis=0), context.rate_hz) if parts else np.full(31, -120.0)
    counted = np.array([row if layer.id in sounding else np.full(31, -120.0) for (layer, _), row in zip(heard, levels, strict=True)]).reshape(len(heard), 31)  # fmt: skip
    return LayerMapView(
        tuple(layer.id for layer, _ in heard), levels, total, tuple(tuple(o) for o in owners(counted)),
        tuple(integrated_lufs(audio, context.rate_hz) for _, audio in heard),
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
