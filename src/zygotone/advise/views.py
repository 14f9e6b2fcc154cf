"""What the stages show of the material: a device's effect, and a pair's low end. Numbers and curves, no drawing."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from zygotone.advise.hearing import Hearing
from zygotone.advise.kick_and_bass import measure_pair
from zygotone.devices import Host, make_processor
from zygotone.dsp.types import FloatArray, Stereo
from zygotone.engine.nodes import Node
from zygotone.measure.dynamics import crest_db, pumping_db
from zygotone.measure.loudness import integrated_lufs
from zygotone.measure.low_end import band_envelope
from zygotone.measure.spectrum import centroid_hz, log_spectrum_db, spectrum
from zygotone.session.edits import layer_of
from zygotone.session.models import Device, walk

FREQS_HZ: FloatArray = np.geomspace(25.0, 16000.0, 300)
LOW_BAND_HZ = (30.0, 120.0)
BAR_POINTS = 480
TIME_POINTS = 600
_MOVED_DB = 0.3  # a gain closer to 0 than this counts as standing still


@dataclass(frozen=True, slots=True)
class Heard:
    """A signal in the numbers and the curve of the device cards."""

    lufs: float
    crest_db: float
    centroid_hz: float
    spectrum_db: FloatArray  # at FREQS_HZ


def heard_at(hearing: Hearing, node: Node) -> Heard:
    """What a node sounds like over the section; remembered, since an edit leaves most nodes as they were."""

    def measure() -> Heard:
        audio = hearing.take(node).audio
        average = spectrum(audio, hearing.rate_hz)
        curve = log_spectrum_db(average, FREQS_HZ)
        return Heard(integrated_lufs(audio, hearing.rate_hz), crest_db(audio), centroid_hz(average), curve)

    return hearing.fact("heard", node.key, measure)


@dataclass(frozen=True, slots=True)
class Effect:
    """What one device does: before and after it, its gain over time, and its key."""

    before: Heard
    after: Heard
    key: Heard | None
    gain_db: FloatArray | None  # shape (TIME_POINTS,), the lowest gain in each slice of the section
    deepest_db: float | None
    reduced_share: float | None  # of the time, 0 to 1
    pumping_db: float | None
    latency_ms: float


def device_effect(hearing: Hearing, strip_id: str, path: str, *, layer: str | None = None) -> Effect:
    """Measured on the section of ``hearing``; ``path`` as in ``models.walk``, in the strip's chain or in that of one of its
    layers. A device that is off changes nothing."""
    rate, session = hearing.rate_hz, hearing.session
    device = dict(walk((session.strip(strip_id) if layer is None else layer_of(session, strip_id, layer)).chain))[path]
    before_node, after_node = hearing.graph.tap(strip_id, path, layer=layer)
    keyed = device.key is not None and device.on
    gain = before = None
    if after_node is not before_node:
        gain = hearing.take(after_node).gain_db
    if gain is not None:
        before = hearing.take(before_node).audio
    curve = deepest = share = pumping = None
    if gain is not None and before is not None:
        edges = np.linspace(0, len(gain), TIME_POINTS + 1).astype(int)[:-1]
        low, high = np.minimum.reduceat(gain, edges), np.maximum.reduceat(gain, edges)
        curve = np.where(-low >= high, low, high)
        deepest = float(gain[np.argmax(np.abs(gain))])
        share = float(np.mean(np.abs(gain) > _MOVED_DB))
        pumping = pumping_db(gain, before, rate)
    return Effect(
        before=heard_at(hearing, before_node),
        after=heard_at(hearing, after_node),
        key=heard_at(hearing, after_node.inputs[1]) if keyed else None,
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


def chain_steps(hearing: Hearing, strip_id: str) -> dict[str, Step]:
    """Change of loudness and crest through each device of a chain, by path."""
    steps: dict[str, Step] = {}
    for path, _ in walk(hearing.session.strip(strip_id).chain):
        before, after = (heard_at(hearing, node) for node in hearing.graph.tap(strip_id, path))
        steps[path] = Step(after.lufs - before.lufs, after.crest_db - before.crest_db)
    return steps


@dataclass(frozen=True, slots=True)
class PairView:
    """Kick and bass over the section, and their low end over one bar."""

    kick_hz: float
    clear_db: float
    gap_ms: float  # NaN where no bass note begins near a hit
    kick_spectrum_db: FloatArray  # at FREQS_HZ
    bass_spectrum_db: FloatArray
    bar: int  # which bar of the section is shown, from 0
    kick_low: FloatArray  # shape (BAR_POINTS,), linear level between 30 and 120 Hz
    bass_low: FloatArray
    hits: tuple[float, ...]  # where in the bar the kick starts, 0 to 1


def pair_view(hearing: Hearing, kick_id: str, bass_id: str, *, bar: int | None = None) -> PairView | None:
    """None where the two do not sound together. The bar with most hits is taken if none is asked for."""
    pair = measure_pair(hearing, kick_id, bass_id)
    if pair is None:
        return None
    rate = hearing.rate_hz
    kick, bass = hearing.stem(kick_id), hearing.stem(bass_id)
    bar_frames = hearing.session.song.bar_s * rate
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
        kick_hz=pair.kick.fundamental_hz,
        clear_db=pair.clear_db,
        gap_ms=pair.gap_ms,
        kick_spectrum_db=heard_at(hearing, hearing.graph.strip[kick_id]).spectrum_db,
        bass_spectrum_db=heard_at(hearing, hearing.graph.strip[bass_id]).spectrum_db,
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


# --- what a device does to a click ---------------------------------------------------------------------------------

_CLICK = 1e-3  # soft enough for any loop to be straight
_LONGEST_PICTURE_S = 8.0


@dataclass(frozen=True, slots=True)
class ClickAnswer:
    """What a click gives: its spectrum, and its level over time."""

    response_db: FloatArray  # at FREQS_HZ, dry and wet blended as the device has them
    seconds: float
    level_db: FloatArray  # shape (2, TIME_POINTS), left and right, peak in equal slices of ``seconds``


def click_answer(device: Device, host: Host) -> ClickAnswer:
    """Of the device alone, as it is at the song's start. A clip it uses must be there."""
    processor = make_processor(device, host)
    # Drawn while a hand moves a ruler: a longer tail is cut short in the picture.
    seconds = min(_LONGEST_PICTURE_S, max(0.25, 1.15 * processor.tail_s))
    frames = round(seconds * host.rate_hz)
    click = np.zeros((2, frames + processor.latency))
    click[:, 0] = _CLICK
    whole = processor.process(click, None) / _CLICK
    if device.mix < 1.0:
        whole = device.mix * whole
        whole[:, processor.latency] += 1.0 - device.mix
    # The whole of it, since what a linear-phase filter gives comes before its latency has passed, too.
    size = 1 << max(15, (whole.shape[1] - 1).bit_length())
    spectrum_ = np.abs(np.fft.rfft(whole[0], size))
    freqs = np.fft.rfftfreq(size, 1.0 / host.rate_hz)
    response = np.interp(FREQS_HZ, freqs, spectrum_)
    wet = whole[:, processor.latency :]
    edges = np.linspace(0, frames, TIME_POINTS + 1).astype(int)[:-1]
    level = np.maximum.reduceat(np.abs(wet), edges, axis=1)
    return ClickAnswer(
        np.asarray(20.0 * np.log10(np.maximum(response, 1e-4))), seconds,
        np.asarray(20.0 * np.log10(np.maximum(level, 1e-5))),
    )  # fmt: skip
