"""What the stages show of the material: a device's effect, and a pair's low end. Numbers and curves, no drawing."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from zygotone.advise.findings import Context
from zygotone.advise.kick_bass import Pair, measure_pair
from zygotone.dsp.types import FloatArray, Stereo
from zygotone.measure.dynamics import crest_db, pumping_db
from zygotone.measure.loudness import integrated_lufs
from zygotone.measure.low_end import band_envelope
from zygotone.measure.spectrum import centroid_hz, log_spectrum_db, spectrum
from zygotone.session.models import Device

FREQS_HZ: FloatArray = np.geomspace(25.0, 16000.0, 300)
LOW_BAND_HZ = (30.0, 120.0)
BAR_POINTS = 480
TIME_POINTS = 600
_MOVED_DB = 0.3  # a gain closer to 0 than this counts as standing still


@dataclass(frozen=True, slots=True)
class Heard:
    """A signal in the numbers of the device cards."""

    lufs: float
    crest_db: float
    centroid_hz: float

    @classmethod
    def of(cls, audio: Stereo, rate_hz: int) -> Heard:
        return cls(integrated_lufs(audio, rate_hz), crest_db(audio), centroid_hz(spectrum(audio, rate_hz)))


@dataclass(frozen=True, slots=True)
class Effect:
    """What one device does: before and after it, its gain over time, and its key."""

    before: Heard
    after: Heard
    spectrum_before_db: FloatArray  # at FREQS_HZ
    spectrum_after_db: FloatArray
    spectrum_key_db: FloatArray | None
    gain_db: FloatArray | None  # shape (TIME_POINTS,), the lowest gain in each slice of the section
    deepest_db: float | None
    reduced_share: float | None  # of the time, 0 to 1
    pumping_db: float | None
    latency_ms: float


def device_effect(context: Context, strip_id: str, device: Device) -> Effect:
    """Measured on the section of ``context``. A device that is off changes nothing."""
    rate = context.rate_hz
    before_node, after_node = context.graph.tap(strip_id, device.id)
    take = context.renderer.take

    def audio_of(node: object) -> Stereo:
        return take(context.graph, node, context.span, cancelled=context.cancelled).audio  # type: ignore[arg-type]

    before = audio_of(before_node)
    result = take(context.graph, after_node, context.span, cancelled=context.cancelled)
    key_db = None
    if device.key is not None and device.on:
        key_db = log_spectrum_db(spectrum(audio_of(after_node.inputs[1]), rate), FREQS_HZ)
    gain = result.gain_db if after_node is not before_node else None
    curve = deepest = share = pumping = None
    if gain is not None:
        edges = np.linspace(0, len(gain), TIME_POINTS + 1).astype(int)[:-1]
        low, high = np.minimum.reduceat(gain, edges), np.maximum.reduceat(gain, edges)
        curve = np.where(-low >= high, low, high)
        deepest = float(gain[np.argmax(np.abs(gain))])
        share = float(np.mean(np.abs(gain) > _MOVED_DB))
        pumping = pumping_db(gain, before, rate)
    return Effect(
        before=Heard.of(before, rate),
        after=Heard.of(result.audio, rate),
        spectrum_before_db=log_spectrum_db(spectrum(before, rate), FREQS_HZ),
        spectrum_after_db=log_spectrum_db(spectrum(result.audio, rate), FREQS_HZ),
        spectrum_key_db=key_db,
        gain_db=curve,
        deepest_db=deepest,
        reduced_share=share,
        pumping_db=pumping,
        latency_ms=1000.0 * (after_node.latency - before_node.latency) / rate,
    )


@dataclass(frozen=True, slots=True)
class Step:
    """What a device changes, for its card in the chain."""

    lufs: float
    crest_db: float


def chain_steps(context: Context, strip_id: str) -> dict[str, Step]:
    """Change of loudness and crest through each device of a chain."""
    rate = context.rate_hz
    steps: dict[str, Step] = {}
    heard: dict[str, tuple[float, float]] = {}

    def measured(node_key: str, audio: Stereo) -> tuple[float, float]:
        if node_key not in heard:
            heard[node_key] = (integrated_lufs(audio, rate), crest_db(audio))
        return heard[node_key]

    for device in context.session.strip(strip_id).chain:
        nodes = context.graph.tap(strip_id, device.id)
        numbers = [
            measured(n.key, context.renderer.take(context.graph, n, context.span, cancelled=context.cancelled).audio)
            for n in nodes
        ]
        steps[device.id] = Step(numbers[1][0] - numbers[0][0], numbers[1][1] - numbers[0][1])
    return steps


@dataclass(frozen=True, slots=True)
class PairView:
    """Kick and bass over the section, and their low end over one bar."""

    pair: Pair
    kick_spectrum_db: FloatArray  # at FREQS_HZ
    bass_spectrum_db: FloatArray
    bar: int  # which bar of the section is shown, from 0
    kick_low: FloatArray  # shape (BAR_POINTS,), linear level between 30 and 120 Hz
    bass_low: FloatArray
    hits: tuple[float, ...]  # where in the bar the kick starts, 0 to 1


def pair_view(context: Context, kick_id: str, bass_id: str, *, bar: int | None = None) -> PairView | None:
    """None where the two do not sound together. The bar with most hits is taken if none is asked for."""
    pair = measure_pair(context, context.session.track(kick_id), context.session.track(bass_id))
    if pair is None:
        return None
    rate = context.rate_hz
    kick, bass = context.stem(kick_id), context.stem(bass_id)
    bar_frames = context.session.song.bar_s * rate
    bars = [int(at / bar_frames) for at in pair.kick.onsets]
    if bar is None:
        bar = max(sorted(set(bars)), key=bars.count)
    start, end = round(bar * bar_frames), round((bar + 1) * bar_frames)

    def low(audio: Stereo) -> FloatArray:
        margin = rate // 4  # so that the filter has settled at the bar's edges
        first, last = max(0, start - margin), min(audio.shape[1], end + margin)
        points = round(BAR_POINTS * (last - first) / (end - start))
        curve = band_envelope(audio[:, first:last], *LOW_BAND_HZ, rate, points=points)
        skip = round(BAR_POINTS * (start - first) / (end - start))
        # A period of a low note is longer than a point; an average over 20 ms shows the level, not the wave.
        width = max(1, round(0.02 * rate * BAR_POINTS / (end - start)))
        smooth = np.sqrt(np.convolve(curve**2, np.ones(width) / width, mode="same"))
        part = smooth[skip : skip + BAR_POINTS]
        return np.pad(part, (0, BAR_POINTS - len(part)))

    return PairView(
        pair=pair,
        kick_spectrum_db=log_spectrum_db(spectrum(kick, rate), FREQS_HZ),
        bass_spectrum_db=log_spectrum_db(spectrum(bass, rate), FREQS_HZ),
        bar=bar,
        kick_low=low(kick),
        bass_low=low(bass),
        hits=tuple((at - start) / (end - start) for at in pair.kick.onsets if start <= at < end),
    )


def harmonics_db(curve_output: FloatArray, *, count: int = 10) -> FloatArray:
    """Levels of the first harmonics of one period of a bent sine, relative to the first, shape (count,)."""
    spectrum_ = np.abs(np.fft.rfft(curve_output))[1 : count + 1]
    reference = max(float(spectrum_[0]), 1e-12)
    return np.asarray(20.0 * np.log10(np.maximum(spectrum_ / reference, 10.0 ** (-90.0 / 20.0))))


def finite(value: float | None) -> bool:
    return value is not None and math.isfinite(value)
