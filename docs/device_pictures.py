"""Measures each device and draws what it does as an SVG, for docs/devices.md."""

from __future__ import annotations

import math
from itertools import pairwise
from pathlib import Path

import numpy as np

from zygotone.devices import reverb
from zygotone.engine.chains import process_chain
from zygotone.measure.reverb_tail import echo_density, tail_spectrum
from zygotone.session.models import Device

RATE = 48000
FREQS = np.geomspace(25.0, 20000.0, 240)

# What is measured of each kind, with which settings, and what the picture shows.
RESPONSES = {
    "eq": ({"bands": [{"shape": "low_cut", "freq_hz": 60.0, "slope_db_oct": 24}, {"freq_hz": 400.0, "gain_db": -6.0, "q": 1.4}, {"shape": "high_shelf", "freq_hz": 8000.0, "gain_db": 4.0}]}, "A low cut at 60 Hz, a bell at 400 Hz and a high shelf at 8 kHz."),
    "filter": ({"cutoff_hz": 1000.0, "resonance": 0.7}, "Low-pass at 1 kHz, resonance 0.7."),
    "cabinet": ({}, "The usual cabinet: 12 inches, brightness 0.5, 5 cm."),
    "phaser": ({"mix": 0.5, "depth_octaves": 0.0, "feedback": 0.0}, "Six stages standing still at 700 Hz, half wet."),
    "flanger": ({"mix": 0.5, "depth_ms": 0.0}, "The comb of 2 ms standing still, half wet."),
    "mono_low": ({"freq_hz": 120.0}, "What is left of the side, mono below 120 Hz."),
    "width": ({"width_pct": 160.0, "keep_below_hz": 200.0}, "The side at 160 %, kept as it is below 200 Hz."),
    "keyed_eq": ({"freq_hz": 60.0, "range_db": -9.0, "threshold_db": -60.0}, "A dip of 9 dB at 60 Hz while a key speaks there."),
    "pan": ({"pan_pct": 40.0}, "Left at 40 % to the right: the same at every frequency."),
    "gain": ({"gain_db": -6.0}, "−6 dB at every frequency."),
    "spread": ({"method": "allpass"}, "One side through its all-passes: no frequency is louder or softer."),
    "vocoder": ({"bands": 20, "noise_db": -80.0}, "Noise as the track, a tone of 1 kHz as the voice: only the bands around it open."),
    "pitch": ({"semitones": 7.0}, "A tone of 440 Hz moved up by seven semitones, to 659 Hz."),
    "bit_reducer": ({"bits": 8.0, "rate_hz": 12000.0}, "A tone of 1 kHz at 8 bits and 12 kHz: images and rounding noise."),
    "vibrato": ({"depth_cents": 60.0}, "A tone of 440 Hz, 60 cents up and down five times a second."),
    "doubler": ({"drift_cents": 20.0}, "A tone of 440 Hz, drifting by up to 20 cents."),
    "multiband": ({"bands": [{"gain_db": -4.0}, {"gain_db": 0.0}, {"gain_db": 3.0}]}, "Three bands at −4, 0 and +3 dB: fourth-order slopes, no phase."),
}  # fmt: skip
TRANSFERS = {
    "compressor": ({"threshold_db": -30.0, "ratio": 4.0, "knee_db": 6.0}, "Output for input: threshold −30 dB, 4:1, knee 6 dB."),
    "gate": ({"threshold_db": -30.0, "floor_db": -40.0}, "Output for input: threshold −30 dB, floor −40 dB."),
    "limiter": ({"ceiling_dbtp": -12.0}, "Output for input: ceiling −12 dBTP."),
    "saturation": ({"curve": "tube", "drive_db": 18.0, "level_match": False}, "Output for input: tube, 18 dB of drive."),
    "deesser": ({"threshold_db": -30.0, "range_db": -12.0}, "Output for input at 9 kHz: threshold −30 dB, 12 dB at most."),
}  # fmt: skip
TIMES = {
    "delay": ({"time": 180.0, "feedback": 0.6, "high_cut_hz": 6000.0}, "After a click: 180 ms, feedback 0.6."),
    "reverb": ({}, "After a click: the usual hall, 1.8 s."),
    "chorus": ({"feedback": 0.3}, "After a click: three voices."),
    "ducker": ({"trigger": "grid", "step": "1/4"}, "The gain over a second at 120 BPM, once a quarter."),
    "tremolo": ({"rate": "1/8", "depth": 0.9}, "The level over a second at 120 BPM, once an eighth."),
    "transient": ({"attack_db": 6.0, "sustain_db": -6.0}, "A tone that begins and ends: its onset +6 dB, its tail −6 dB."),
    "split": ({"branches": [{}, {"gain_db": -6.0, "devices": [{"kind": "gain", "delay_ms": 60.0, "id": "g"}]}]}, "After a click: a dry branch, and one at −6 dB and 60 ms late."),
}  # fmt: skip
# More than one picture: file, caption.
REVERB_PICTURES = {
    "reverb-density": "Echo density of the hall over time, by Abel and Huang 2006: near 1 echoes have merged.",
    "reverb-tail": "Spectrum of the hall's tail, decay taken out, over the mean of its surroundings: no mode stands out.",
}
CAPTIONS = {kind: caption for group in (RESPONSES, TRANSFERS, TIMES) for kind, (_, caption) in group.items()}


def through(kind: str, values: dict, x: np.ndarray, key: np.ndarray | None = None) -> np.ndarray:
    return process_chain(x, [Device.model_validate({"kind": kind, **values})], RATE, key=key, max_tail_s=0.0)[
        :, : x.shape[1]
    ]


def _tone(hz: float, seconds: float, level_db: float = -6.0) -> np.ndarray:
    x = 10.0 ** (level_db / 20.0) * np.sin(2.0 * np.pi * hz * np.arange(round(seconds * RATE)) / RATE)
    return np.stack([x, x])


def response(kind: str, values: dict) -> tuple[np.ndarray, np.ndarray]:
    rng = np.random.default_rng(1)
    noise = 0.1 * rng.standard_normal((2, 4 * RATE))
    if kind in ("pitch", "bit_reducer", "vibrato", "doubler"):
        y = through(kind, values, _tone(1000.0 if kind == "bit_reducer" else 440.0, 4.0))[0, RATE:]
        spectrum = np.abs(np.fft.rfft(y * np.hanning(len(y)))) / (len(y) / 4)
        edges = np.searchsorted(np.fft.rfftfreq(len(y), 1 / RATE), np.append(FREQS, 20600.0))
        db = np.array([20 * np.log10(max(1e-6, spectrum[a : max(b, a + 1)].max())) for a, b in pairwise(edges)])
        return FREQS, db
    if kind == "vocoder":
        x, y = noise, through(kind, values, noise, _tone(1000.0, 4.0))
    elif kind == "keyed_eq":
        x, y = noise, through(kind, values, noise, _tone(60.0, 4.0, 0.0))
    else:
        x = noise if kind not in ("mono_low", "width") else noise * np.array([[1.0], [-1.0]])
        y = through(kind, values, x)

    def power(v: np.ndarray) -> np.ndarray:
        v = (v[0] - v[1]) if kind in ("mono_low", "width") else v[0]
        frames = v[RATE : RATE + (len(v) - RATE) // 16384 * 16384].reshape(-1, 16384) * np.hanning(16384)
        return np.mean(np.abs(np.fft.rfft(frames, axis=1)) ** 2, axis=0)

    if kind in ("mono_low", "width"):
        x = x.copy()
        x[1] = -x[0]
        y = through(kind, values, x)
    if kind in ("eq", "filter", "cabinet", "phaser", "flanger", "pan", "gain", "spread", "multiband"):
        click = np.zeros((2, RATE))
        click[:, RATE // 4] = 1e-3  # so that what a linear-phase filter gives before it is heard too
        h = np.abs(np.fft.rfft(through(kind, values, click)[0])) / 1e-3
        return FREQS, 20 * np.log10(np.maximum(1e-5, np.interp(FREQS, np.arange(len(h)), h)))
    ratio = power(y) / power(x)
    grid = np.fft.rfftfreq(16384, 1 / RATE)
    smooth = np.array(
        [
            np.mean(ratio[(grid > f / 1.03) & (grid < f * 1.03)])
            if np.any((grid > f / 1.03) & (grid < f * 1.03))
            else np.interp(f, grid, ratio)
            for f in FREQS
        ]
    )
    return FREQS, 10 * np.log10(np.maximum(1e-9, smooth))


def transfer(kind: str, values: dict) -> tuple[np.ndarray, np.ndarray]:
    levels = np.arange(-60.0, 0.5, 2.0)
    hz = 9000.0 if kind == "deesser" else 1000.0
    out = [
        20 * np.log10(np.max(np.abs(through(kind, values, _tone(hz, 0.6, float(v)))[0, -9600:])) + 1e-9) for v in levels
    ]
    return levels, np.array(out)


def over_time(kind: str, values: dict) -> tuple[np.ndarray, np.ndarray]:
    seconds = 2.2 if kind in ("reverb", "delay") else 1.0 if kind in ("ducker", "tremolo", "transient") else 0.2
    x = np.zeros((2, round(seconds * RATE)))
    if kind in ("ducker", "tremolo"):
        x[:] = 0.99
    elif kind == "transient":
        x[:, RATE // 5 : RATE // 2] = _tone(400.0, 0.3, -12.0)
        fade = np.exp(-np.arange(RATE // 2) / 6000.0)
        x[:, RATE // 2 :] = _tone(400.0, 0.5, -12.0) * fade
    else:
        x[:, 0] = 1.0
    y = through(kind, values, x)
    edges = np.linspace(0, y.shape[1], 401).astype(int)[:-1]
    level = np.maximum.reduceat(np.max(np.abs(y), axis=0), edges)
    return np.linspace(0.0, seconds, 400), 20 * np.log10(np.maximum(level, 10 ** (-80 / 20)))


def draw(kind: str, folder: Path) -> None:
    if kind in RESPONSES:
        (x, y), log, unit = response(kind, RESPONSES[kind][0]), True, "Hz"
        ticks = [(v, f"{v / 1000:g}k" if v >= 1000 else f"{v:g}") for v in (30, 100, 300, 1000, 3000, 10000)]
        tonal = kind in ("pitch", "bit_reducer", "vibrato", "doubler", "vocoder")
        low, high = (
            (-100.0, 0.0) if tonal and kind != "vocoder" else (-60.0, 0.0) if kind == "vocoder" else (-24.0, 12.0)
        )
    elif kind in TRANSFERS:
        (x, y), log, unit = transfer(kind, TRANSFERS[kind][0]), False, "dB in"
        ticks = [(v, f"{v:g}") for v in range(-60, 1, 12)]
        low, high = -72.0, 0.0
    else:
        (x, y), log, unit = over_time(kind, TIMES[kind][0]), False, "s"
        end = float(x[-1])
        ticks = [(round(end * i / 4, 3), f"{end * i / 4:g}") for i in range(5)]
        low, high = (-80.0, 0.0) if kind in ("reverb", "delay", "chorus", "split") else (-36.0, 6.0)
    (folder / f"{kind}.svg").write_text(svg(x, y, low, high, ticks, unit, log=log))


def draw_reverb(folder: Path) -> None:
    """The two pictures that show whether a tail is dense and free of ringing."""
    response = reverb.impulse_response(Device(kind="reverb").params, 1.6, RATE)[0]
    at, density = echo_density(response, RATE)
    seen = (at > 0.01) & (at < 1.2)
    ticks = [(v, f"{v:g}") for v in (0.2, 0.4, 0.6, 0.8, 1.0, 1.2)]
    (folder / "reverb-density.svg").write_text(
        svg(at[seen], density[seen], 0.0, 1.5, ticks, "s", log=False, up_unit="", step=0.5)
    )
    freqs, over_db = tail_spectrum(response, RATE, decay_s=Device(kind="reverb").params["decay_s"])
    seen = (freqs > 200.0) & (freqs < 4000.0)
    ticks = [(v, f"{v / 1000:g}k" if v >= 1000 else f"{v:g}") for v in (200, 300, 500, 1000, 2000, 4000)]
    (folder / "reverb-tail.svg").write_text(
        svg(freqs[seen], over_db[seen], -30.0, 20.0, ticks, "Hz", log=True, step=10)
    )


def svg(
    x, y, low: float, high: float, ticks, unit: str, *, log: bool, up_unit: str = "dB", step: float | None = None
) -> str:
    """One curve with axes, 520 by 200."""
    left, top, width, height = 46, 14, 462, 156
    first, last = (float(x[0]), float(x[-1]))

    def across(v: float) -> float:
        share = math.log(v / first) / math.log(last / first) if log else (v - first) / (last - first)
        return left + width * share

    def up(v: float) -> float:
        return top + height * (high - min(high, max(low, v))) / (high - low)

    step = step or next(s for s in (6, 12, 20, 24) if (high - low) / s <= 6)
    lines = [
        '<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 520 200" font-family="sans-serif" font-size="10" fill="#55524a">',
        '<rect width="520" height="200" fill="#fbfaf5"/>',
    ]
    for v, text in ticks:
        if first <= v <= last * 1.001:
            lines.append(
                f'<path d="M{across(v):.1f} {top}v{height}" stroke="#ddd7c8"/><text x="{across(v):.1f}" y="{top + height + 14}" text-anchor="middle">{text}</text>'
            )
    v = math.ceil(low / step) * step
    while v <= high:
        lines.append(
            f'<path d="M{left} {up(v):.1f}h{width}" stroke="#ddd7c8"/><text x="{left - 5}" y="{up(v) + 3:.1f}" text-anchor="end">{f"{v:g}".replace("-", "−")}</text>'
        )
        v += step
    path = " ".join(
        f"{'M' if i == 0 else 'L'}{across(float(a)):.1f} {up(float(b)):.1f}"
        for i, (a, b) in enumerate(zip(x, y, strict=True))
    )
    lines += [
        f'<path d="{path}" fill="none" stroke="#22242a" stroke-width="1.6"/>',
        f'<text x="{left + width}" y="{top + height + 26}" text-anchor="end">{unit}</text><text x="6" y="{top + 2}">{up_unit}</text>', "</svg>",
    ]  # fmt: skip
    return "\n".join(lines)
