"""Drum models: a tone that drops in pitch, a click, and shaped noise, bursts or metal."""

from __future__ import annotations

import functools
import math
from dataclasses import replace

import numpy as np

from zygotone.dsp.levels import db_to_gain
from zygotone.dsp.oversampling import bent
from zygotone.dsp.rings import add_rings
from zygotone.dsp.types import FloatArray, Stereo
from zygotone.dsp.voice_filters import band_between
from zygotone.session.catalogue import Kind
from zygotone.session.params import Values, at_start, choice, frequency, level, number, share, switch, whole
from zygotone.sources.base import C4_HZ, NoteRequest, ReadClip, source

# Ratios of the partials and their levels: a struck circular membrane's first modes (Rossing, "Science of Percussion
# Instruments", table of ideal membrane modes, from memory); a wooden bar's two; and partials of metal, ours, without order.
_PARTIALS: dict[str, tuple[tuple[float, float], ...]] = {
    "kick": ((1.0, 1.0),),
    "snare": ((1.0, 1.0), (1.594, 0.6), (2.136, 0.25)),
    "hat": ((1.0, 1.0), (1.342, 0.9), (1.672, 0.8), (2.043, 0.7), (2.531, 0.7), (3.087, 0.6)),
    "clap": ((1.0, 1.0),),
    "tom": ((1.0, 1.0), (1.594, 0.35), (2.136, 0.12), (2.296, 0.1)),
    "cymbal": ((1.0, 1.0), (1.27, 0.8), (1.61, 0.9), (1.93, 0.7), (2.41, 0.8), (2.83, 0.6), (3.37, 0.6), (4.11, 0.5), (4.73, 0.4), (5.59, 0.4)),
    "shaker": ((1.0, 1.0), (1.73, 0.6)),
    "rim": ((1.0, 1.0), (1.81, 0.8), (3.07, 0.3)),
}  # fmt: skip
MODELS = tuple(_PARTIALS)


# A cymbal is a plate, whose modes are about evenly apart in frequency however high (Fletcher and Rossing, "The Physics of Musical
# Instruments"): over the first ones, which are the loudest, come so many more.
_MORE_MODES, _MODES_TO = 260, 48.0


@functools.cache
def _modes(model: str) -> tuple[FloatArray, FloatArray]:
    """Ratios and levels of all that rings."""
    ratios, gains = np.array(_PARTIALS[model]).T
    if model == "cymbal":
        rng = np.random.default_rng(7)
        apart = (_MODES_TO - ratios[-1]) / _MORE_MODES
        more = ratios[-1] + apart * (np.arange(1, _MORE_MODES + 1) + rng.uniform(-0.4, 0.4, _MORE_MODES))
        # Of either sign, as the place of the stroke has it.
        levels = rng.choice([-0.3, 0.3], _MORE_MODES) * rng.rayleigh(0.8, _MORE_MODES) * (more / ratios[-1]) ** -0.35
        ratios, gains = np.concatenate([ratios, more]), np.concatenate([gains, levels])
    return np.asarray(ratios), np.asarray(gains)


def partial_ratios(model: str) -> tuple[float, ...]:
    """Ratios of a model's loudest partials to the lowest."""
    return tuple(ratio for ratio, _ in _PARTIALS[model])


KIND = Kind(
    kind="drum",
    picture="drum",
    title="Drum",
    summary="Drums and metal: a tone that drops in pitch, a click, and noise, single or in bursts.",
    params=(
        choice("model", "Model", MODELS, "kick", "What rings: a sine, a drum head, wood, or metal; a clap is noise in bursts."),
        frequency("tune_hz", "Tune", 50.0, "Where the tone settles, when played at C4; it follows the note.", high=12000.0),
        at_start(number("drop_semitones", "Drop", "semitones", 0.0, 60.0, 24.0, "How far above that the tone begins.")),
        at_start(number("drop_ms", "Drop time", "ms", 1.0, 200.0, 12.0, "How fast it falls: time to a third of the way.", scale="log")),
        at_start(number("decay_ms", "Tone decay", "ms", 5.0, 4000.0, 350.0, "Time for the tone to fall by 20 dB.", scale="log")),
        level("tone_db", "Tone", -60.0, 6.0, 0.0, "Level of the tone; −60 is off."),
        at_start(level("click_db", "Click", -60.0, 6.0, -18.0, "Level of the first two milliseconds' click; −60 is off.")),
        at_start(frequency("click_hz", "Click colour", 3000.0, "Where the click lies.", low=500.0, high=12000.0)),
        level("noise_db", "Noise", -60.0, 6.0, -60.0, "Level of the noise; −60 is off."),
        at_start(number("noise_decay_ms", "Noise decay", "ms", 2.0, 4000.0, 120.0, "Time for the noise to fall by 20 dB.", scale="log")),
        frequency("noise_low_hz", "Noise from", 1000.0, "Lower edge of the noise."),
        frequency("noise_high_hz", "Noise to", 12000.0, "Upper edge of the noise."),
        at_start(number("noise_rise_ms", "Noise rise", "ms", 0.0, 400.0, 0.0, "How slowly the noise comes, as of a shaker.")),
        whole("bursts", "Bursts", 1, 8, 1, "How often the noise begins anew before it dies away, as hands that do not clap at once."),
        at_start(number("burst_ms", "Burst gap", "ms", 2.0, 60.0, 11.0, "Time from burst to burst.")),
        level("bend_db", "Bend", 0.0, 24.0, 0.0, "Drive of the tone into a soft curve, for a rounder body."),
        at_start(share("vary", "Each hit differs", 0.4, "How far one hit is from the next, in its noise, pitch, decay and balance; at 0 all are alike.")),
        switch("gated", "Ends with the note", False, "On, it lasts as long as the note and follows the level envelope; off, a hit rings as long as it rings."),
    ),
)  # fmt: skip

_MANY = 16
_QUIET_DB = -80.0
OFF_DB = -60.0  # a part at this level is not there


def _decay(t: FloatArray, ms_to_minus_20: float) -> FloatArray:
    return np.asarray(10.0 ** (-t / (ms_to_minus_20 * 1e-3)))


def ring_s(params: Values, pitch_hz: float = C4_HZ, clip: ReadClip | None = None, rate_hz: int = 48000) -> float:
    """How long a hit rings, down to −80 dB."""
    times = []
    if params["tone_db"] > OFF_DB:
        times.append(params["decay_ms"])
    if params["noise_db"] > OFF_DB:
        times.append(params["noise_decay_ms"])
    before_s = (params["noise_rise_ms"] + (params["bursts"] - 1) * params["burst_ms"]) * 1e-3
    return float(min(8.0, before_s + max([5.0, *times]) * 1e-3 * _QUIET_DB / -20.0))


def tone_octaves(params: Values, t: FloatArray) -> FloatArray:
    """How far above its tuning the tone is over t in s: f(t) = f0·2^(drop·exp(−t/τ)/12)."""
    return np.asarray(params["drop_semitones"] / 12.0 * np.exp(-t / (params["drop_ms"] * 1e-3)))


def tone_envelope(params: Values, t: FloatArray, ratio: float = 1.0) -> FloatArray:
    """Decay of a partial of the tone; higher ones are gone sooner."""
    return _decay(t, params["decay_ms"] / math.sqrt(ratio))


def click_envelope(t: FloatArray) -> FloatArray:
    """Decay of the click over t in s, from 1: gone after some 5 ms."""
    return np.asarray(np.exp(-t / 0.0009))


def noise_envelope(params: Values, t: FloatArray) -> FloatArray:
    """Rise, bursts and decay of the noise over t in s, any shape."""
    gap, last = params["burst_ms"] * 1e-3, params["bursts"] - 1
    burst = np.clip(np.floor(t / gap), 0, last) if last else np.zeros_like(t)
    since = t - burst * gap
    # All bursts but the last are cut short, each a little louder than the one before.
    short = _decay(since, 0.8 * params["burst_ms"]) * (0.6 + 0.4 * (burst + 1.0) / (last + 1.0))
    out = np.where(burst < last, short, _decay(since, params["noise_decay_ms"]))
    rise = params["noise_rise_ms"] * 1e-3
    return np.asarray(out * np.clip(since / rise, 0.0, 1.0) if rise > 0.0 else out)


# After so many hits the first comes again; nobody hears it, and they need to be made once only.
_VARIANTS = 16


@source(
    KIND, ring_s=lambda params, *where: 0.0 if params["gated"] else ring_s(params),
    varies=lambda params: params["vary"] > 0.0, variants=_VARIANTS,
)  # fmt: skip
def render(params: Values, note: NoteRequest) -> Stereo:
    rng = np.random.default_rng(20240 + 1009 * note.seed + (note.number % _VARIANTS if params["vary"] > 0.0 else 0))
    params = _varied(params, rng)
    n = min(note.frames, round(ring_s(params) * note.rate_hz))
    hit = replace(note, frames=n)
    t = np.arange(n) / note.rate_hz
    out = np.zeros(n)
    if params["tone_db"] > OFF_DB or note.moves("tone_db"):
        tone = _tone(params, hit, t, rng)
        out += hit.gain("tone_db", params["tone_db"], off_db=OFF_DB) * _bent(params, hit, tone)
    if params["click_db"] > OFF_DB:
        hz = min(params["click_hz"], 0.4 * note.rate_hz)
        out += db_to_gain(params["click_db"]) * np.sin(2.0 * np.pi * hz * t) * click_envelope(t)
    if params["noise_db"] > OFF_DB or note.moves("noise_db"):
        noise = (rng.standard_normal(n) * 0.35)[None]
        low_hz, high_hz = (
            hit.grid("noise_low_hz", params["noise_low_hz"]),
            hit.grid("noise_high_hz", params["noise_high_hz"]),
        )
        band_between(noise, low_hz, high_hz, sample_rate_hz=note.rate_hz)
        out += hit.gain("noise_db", params["noise_db"], off_db=OFF_DB) * noise[0] * noise_envelope(params, t)
    ramp = min(n, max(2, round(0.005 * note.rate_hz)))
    out[n - ramp :] *= np.linspace(1.0, 0.0, ramp)
    whole_note = np.zeros(note.frames)
    whole_note[:n] = out
    return whole_note[None]


def _varied(params: Values, rng: np.random.Generator) -> Values:
    """A hit a little to the side of another: by a tenth of a semitone, a tenth of the decay and 1.5 dB at the most."""
    vary = float(params["vary"])
    if vary == 0.0:
        return params
    pitch, decay, noise_decay, click, noise = (vary * rng.uniform(-1.0, 1.0, 5)).tolist()
    return params.replace(
        tune_hz=params["tune_hz"] * 2.0 ** (0.1 * pitch / 12.0)
        if params["model"] not in ("kick", "tom")
        else params["tune_hz"],
        drop_semitones=params["drop_semitones"] * (1.0 + 0.04 * pitch),
        decay_ms=params["decay_ms"] * (1.0 + 0.1 * decay),
        noise_decay_ms=params["noise_decay_ms"] * (1.0 + 0.1 * noise_decay),
        click_db=params["click_db"] + 1.5 * click if params["click_db"] > OFF_DB else OFF_DB,
        noise_db=params["noise_db"] + 1.5 * noise if params["noise_db"] > OFF_DB else OFF_DB,
    )


def _tone(params: Values, note: NoteRequest, t: FloatArray, rng: np.random.Generator) -> FloatArray:
    """The partials of what rings, (n,), before their bend."""
    # "Tune" holds at C4, and the tone follows the note, also where it glides.
    tuned = note.by_frame(note.grid("tune_hz", params["tune_hz"]) * note.hz[: note.cells + 1] / C4_HZ)
    hz = tuned * 2.0 ** tone_octaves(params, t)
    turns = np.concatenate([[0.0], np.cumsum(hz / note.rate_hz)[:-1]])  # the phase is the running sum
    ratios, gains = _modes(params["model"])
    gains = gains * (1.0 / math.sqrt(float(gains @ gains)))  # metal is many tones: together as loud as one
    heard = ratios * float(np.min(tuned, initial=np.inf)) < 0.45 * note.rate_hz
    gains = gains[heard] * 10.0 ** (
        0.075 * float(params["vary"]) * rng.uniform(-1.0, 1.0, int(np.count_nonzero(heard)))
    )
    ratios = ratios[heard]
    tone = np.zeros(len(t))
    if len(ratios) > _MANY and np.ptp(hz) < 1e-9 * float(hz[0]):
        # Metal does not fall in pitch: many standing tones are had by turning each on from frame to frame.
        losses = 20.0 / (params["decay_ms"] * 1e-3 / np.sqrt(ratios)) / note.rate_hz
        add_rings(tone, ratios * (float(hz[0]) / note.rate_hz), gains, 10.0 ** (-losses / 20.0))
        return tone
    for ratio, gain in zip(ratios.tolist(), gains.tolist(), strict=True):
        # A partial that begins above the top of the band is faded in as it falls into it.
        fade = np.clip((0.45 * note.rate_hz - ratio * hz) / 1000.0, 0.0, 1.0)
        wave = gain * np.sin(2.0 * np.pi * ratio * turns) * tone_envelope(params, t, ratio)
        tone += wave * (fade if ratio * float(np.max(hz)) > 0.43 * note.rate_hz else 1.0)
    return tone


def _bent(params: Values, note: NoteRequest, tone: FloatArray) -> FloatArray:
    """The tone through its soft curve, which leaves full scale where it is."""
    if not note.moves("bend_db"):
        if params["bend_db"] <= 0.0:
            return tone
        drive = db_to_gain(params["bend_db"])
        return bent(tone, lambda u: np.tanh(np.float32(drive) * u), factor=8) / math.tanh(drive)
    # The drive goes before the curve and its inverse after it, so that it may move without the curve knowing.
    drives = 10.0 ** (note.by_frame(note.grid("bend_db", params["bend_db"])) / 20.0)
    curved = bent(drives * tone, np.tanh, factor=8) / np.tanh(drives)
    return np.where(drives > 1.0, curved, tone)
