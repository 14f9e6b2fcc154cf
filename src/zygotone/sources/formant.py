"""A sung vowel."""

from __future__ import annotations

import numpy as np

from zygotone.dsp.filters import BUTTERWORTH_Q, filtered, highpass_sos
from zygotone.dsp.moving import balanced_places
from zygotone.dsp.noises import endless_noise
from zygotone.dsp.oscillators import read_cycles
from zygotone.dsp.types import FloatArray, Stereo
from zygotone.dsp.voice_filters import one_pole, resonators
from zygotone.dsp.wavetables import harmonics_below, single_cycle
from zygotone.session.catalogue import Kind
from zygotone.session.params import Values, choice, level, number, share, whole
from zygotone.sources.base import NoteRequest, source

# First three formants in Hz of men and women: G. E. Peterson and H. L. Barney, "Control methods used in a study of the
# vowels", 1952, table II (from memory).
FORMANTS_HZ: dict[str, dict[str, tuple[float, float, float]]] = {
    "man": {
        "ee": (270, 2290, 3010), "i": (390, 1990, 2550), "eh": (530, 1840, 2480), "ae": (660, 1720, 2410),
        "ah": (730, 1090, 2440), "aw": (570, 840, 2410), "u": (440, 1020, 2240), "oo": (300, 870, 2240),
        "uh": (640, 1190, 2390), "er": (490, 1350, 1690),
    },
    "woman": {
        "ee": (310, 2790, 3310), "i": (430, 2480, 3070), "eh": (610, 2330, 2990), "ae": (860, 2050, 2850),
        "ah": (850, 1220, 2810), "aw": (590, 920, 2710), "u": (470, 1160, 2680), "oo": (370, 950, 2670),
        "uh": (760, 1400, 2780), "er": (500, 1640, 1960),
    },
}  # fmt: skip
VOWELS = tuple(FORMANTS_HZ["man"])
_UPPER_HZ = {"man": (3400.0, 4300.0), "woman": (4000.0, 4900.0)}
_OFF_DB = -60.0
_WIDTHS_HZ = (70.0, 90.0, 130.0, 220.0, 300.0)

KIND = Kind(
    kind="formant",
    title="Sung vowel",
    summary="A voice without words: one vowel passing into another, with breath.",
    params=(
        choice("voice", "Voice", ("man", "woman"), "woman", "Whose mouth."),
        choice("vowel", "Vowel", VOWELS, "ah", "The first vowel."),
        choice("vowel_to", "Second vowel", VOWELS, "oo", "The second vowel."),
        share("blend", "Blend", 0.0, "From the first vowel (0) to the second (1)."),
        share("effort", "Effort", 0.5, "Soft (0) to pressed (1): how bright the voice itself is."),
        level("breath_db", "Breath", -60.0, 0.0, -36.0, "Level of the breath under the tone; −60 is off."),
        whole("singers", "Singers", 1, 6, 1, "How many sing, each a little out of tune with the others."),
        number("shift_semitones", "Shift", "semitones", -12.0, 12.0, 0.0, "A larger (below 0) or smaller head."),
    ),
)  # fmt: skip


def formant_tracks(params: Values, note: NoteRequest) -> tuple[FloatArray, FloatArray]:
    """Frequencies and bandwidths in Hz over the note, both (5, cells + 1)."""
    table = FORMANTS_HZ[params["voice"]]
    first, second = table[params["vowel"]], table[params["vowel_to"]]
    blend = np.clip(note.grid("blend", params["blend"]), 0.0, 1.0)
    shift = 2.0 ** (note.grid("shift_semitones", params["shift_semitones"]) / 12.0)
    tracks = [(a * (b / a) ** blend) * shift for a, b in zip(first, second, strict=True)]
    tracks += [np.full(note.cells + 1, hz) * shift for hz in _UPPER_HZ[params["voice"]]]
    freqs = np.minimum(np.array(tracks), 0.45 * note.rate_hz)
    widths = np.repeat(np.array(_WIDTHS_HZ)[:, None], note.cells + 1, axis=1)
    return freqs, widths


@source(KIND)
def render(params: Values, note: NoteRequest) -> Stereo:
    freqs, widths = formant_tracks(params, note)
    count = params["singers"]
    sung: list[FloatArray] = []
    for n in range(count):
        cents = 0.0 if count == 1 else 9.0 * (2.0 * n / (count - 1) - 1.0)
        ratio = 2.0 ** (cents / 1200.0)
        top = note.highest_hz * ratio
        if top >= 0.45 * note.rate_hz:
            continue
        y = np.zeros(note.frames)
        cycle = single_cycle("saw", harmonics_below(top, note.rate_hz))
        read_cycles(cycle[None], np.zeros(note.cells + 1), note.steps, ratio, (0.618 * n) % 1.0, 1.0, y)
        # The glottis: a saw falls by 6 dB an octave; soft voices fall by 12 and more.
        _soften(y, 300.0 + 3000.0 * note.grid("effort", params["effort"]) ** 2, note.rate_hz)
        if params["breath_db"] > _OFF_DB or note.moves("breath_db"):
            breath = endless_noise("white", note.frames, sample_rate_hz=note.rate_hz, number=n + note.seed)[0]
            y += 0.3 * note.gain("breath_db", params["breath_db"], off_db=_OFF_DB) * breath
        resonators(y, freqs, widths, float(note.rate_hz))
        sung.append(y)
    out = _choir(sung, note.frames) if count > 1 else np.array(sung).reshape(-1, note.frames)
    if not sung:
        return np.zeros((1, note.frames))
    # Nothing is sung below the note itself, and the resonators would let a rumble of the breath through.
    edge = highpass_sos(max(40.0, 0.5 * float(np.min(note.hz))), BUTTERWORTH_Q, sample_rate_hz=note.rate_hz)
    return 0.35 * filtered(edge, out)


def _choir(sung: list[FloatArray], frames: int) -> Stereo:
    """Singers side by side. Each has partials of its own under the formants, and so a level of its own: they are made as
    loud as each other, or the choir would lean to the loudest."""
    out = np.zeros((2, frames))
    powers = [float(np.mean(y * y)) for y in sung]
    for y, power, place in zip(sung, powers, balanced_places(len(sung)), strict=True):
        gain = np.sqrt(2.0 * np.mean(powers) / max(power, 1e-20) / len(sung))
        angle = (0.8 * place + 1.0) * np.pi / 4.0
        out += gain * np.array([[np.cos(angle)], [np.sin(angle)]]) * y
    return out


def _soften(y: FloatArray, corners_hz: FloatArray, rate_hz: int) -> None:
    """In place: first-order low-pass with corners on the grid, level at 200 Hz kept."""
    one_pole(y, np.exp(-2.0 * np.pi * corners_hz / rate_hz), np.sqrt(1.0 + (200.0 / corners_hz) ** 2))
