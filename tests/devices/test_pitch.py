"""The pitch device: level, pitch, formants, attacks, on material made here."""

import numpy as np
import pytest
import scipy.signal

from tests.signals import RATE, noise, sine
from zygotone.devices import make_processor
from zygotone.engine.chains import process_chain
from zygotone.session.models import Device

SECONDS = 2
T = np.arange(SECONDS * RATE) / RATE


def shifted(x: np.ndarray, **values) -> np.ndarray:
    one = Device.model_validate({"kind": "pitch", **values})
    return process_chain(x, [one], RATE, max_tail_s=0.0)[:, : x.shape[1]]


def snares(every_s: float = 0.45) -> tuple[np.ndarray, list[int]]:
    rng, x, at = np.random.default_rng(1), np.zeros(len(T)), []
    for k in range(4):
        begin, n = round((0.2 + every_s * k) * RATE), round(0.2 * RATE)
        t = np.arange(n) / RATE
        hit = np.sin(2 * np.pi * 190 * t) * np.exp(-t / 0.05) + 0.7 * rng.standard_normal(n) * np.exp(-t / 0.06)
        x[begin : begin + n] += 0.4 * hit
        at.append(begin)
    return np.stack([x, x]), at


MOUTH = ((700.0, 80.0), (1100.0, 100.0), (2500.0, 150.0))


def voice(hz: float = 130.0, formants: tuple[tuple[float, float], ...] = MOUTH) -> np.ndarray:
    """Pulses through the resonances of an open mouth."""
    x = np.zeros(len(T))
    x[:: round(RATE / hz)] = 1.0
    for centre, width in formants:
        r = np.exp(-np.pi * width / RATE)
        x = scipy.signal.lfilter([1.0], [1.0, -2 * r * np.cos(2 * np.pi * centre / RATE), r * r], x)
    x *= 0.5 / np.max(np.abs(x))
    return np.stack([x, x])


MATERIAL = {
    "tone": sine(440.0, SECONDS, level_db=-12),
    "low tone": sine(55.0, SECONDS, level_db=-12),
    "saw": np.stack([0.2 * sum(np.sin(2 * np.pi * 110 * n * T) / n for n in range(1, 60))] * 2),
    "chord": sum(sine(hz, SECONDS, level_db=-22) for hz in (220.0, 277.2, 329.6, 440.0)),
    "drums": snares()[0],
    "voice": voice(),
    "noise": noise(SECONDS, level=0.1),
}


@pytest.mark.parametrize("material", list(MATERIAL))
@pytest.mark.parametrize("formants", ["keep", "leave"])
@pytest.mark.parametrize("mode", ["fine", "quick"])
def test_no_shift_changes_the_level(material, formants, mode):
    x = MATERIAL[material]
    for semitones in (-12.0, -5.0, 7.0, 12.0):  # a tone shifted by 12 once came out 35 dB down
        y = shifted(x, semitones=semitones, formants=formants, mode=mode)
        change_db = 20 * np.log10(np.std(y[:, 9600:-9600]) / np.std(x[:, 9600:-9600]))
        assert abs(change_db) < 1.0, semitones


@pytest.mark.parametrize("semitones", [-12.0, -7.0, -0.5, 4.0, 12.0])
@pytest.mark.parametrize(("mode", "hz"), [("fine", 110.0), ("fine", 440.0), ("quick", 440.0)])
def test_the_pitch_is_where_it_is_set(semitones, mode, hz):
    y = shifted(sine(hz, SECONDS, level_db=-12), semitones=semitones, mode=mode)[0, RATE // 4 : -RATE // 4]
    wanted = hz * 2 ** (semitones / 12)
    spectrum = np.abs(np.fft.rfft(y * np.kaiser(len(y), 14), 1 << 19))
    found = np.argmax(spectrum) * RATE / (1 << 19)
    assert abs(1200 * np.log2(found / wanted)) < 2.0


def envelope_peak_hz(y: np.ndarray, low: float, high: float) -> float:
    """Where a smoothed spectrum is highest: the formant, whatever the partials are."""
    freqs, power = scipy.signal.welch(y[0, RATE // 4 : -RATE // 4], RATE, nperseg=512, nfft=8192)
    inside = (freqs > low) & (freqs < high)
    return float(freqs[inside][np.argmax(power[inside])])


@pytest.mark.parametrize("semitones", [-7.0, 7.0])
def test_formants_are_kept_moved_or_left(semitones):
    x = voice(110.0, ((1500.0, 160.0),))
    at = envelope_peak_hz(x, 600.0, 4000.0)
    kept = envelope_peak_hz(shifted(x, semitones=semitones, formants="keep"), 600.0, 4000.0)
    left = envelope_peak_hz(shifted(x, semitones=semitones, formants="leave"), 600.0, 4000.0)
    moved = envelope_peak_hz(shifted(x, semitones=0.0, formants="move", formant_semitones=semitones), 600.0, 4000.0)
    ratio = 2 ** (semitones / 12)
    assert kept == pytest.approx(at, rel=0.1)
    assert left == pytest.approx(at * ratio, rel=0.1)
    assert moved == pytest.approx(at * ratio, rel=0.12)


def rise_ms(y: np.ndarray) -> float:
    """To 70 % of the loudest 2 ms: single peaks of noise say little."""
    power = np.convolve(y**2, np.ones(96) / 96.0)[: len(y)]
    return 1000.0 * float(np.argmax(power > 0.5 * np.max(power))) / RATE


@pytest.mark.parametrize("semitones", [-12.0, -5.0, 5.0, 12.0])
@pytest.mark.parametrize("mode", ["fine", "quick"])
def test_attacks_are_kept_and_nothing_is_heard_before_them(semitones, mode):
    x, at = snares()
    y = shifted(x, semitones=semitones, mode=mode)
    apart = []
    for begin in at:
        heard = slice(begin - 96, begin + 2400)
        before = np.max(np.abs(y[:, begin - 2400 : begin - 96]))
        assert 20 * np.log10(before / np.max(np.abs(y[:, heard])) + 1e-9) < -30.0
        apart.append(rise_ms(y[0, heard]) - rise_ms(x[0, heard]))
        # And it begins where it did.
        loud = np.max(np.abs(x[0, heard]))
        first = [int(np.argmax(np.abs(z[0, heard]) > 0.2 * loud)) for z in (x, y)]
        assert abs(first[0] - first[1]) < 0.002 * RATE
    assert abs(np.median(apart)) < 2.0


def test_the_quick_mode_can_be_played():
    quick, fine = (
        make_processor(Device.model_validate({"kind": "pitch", "mode": mode}), RATE) for mode in ("quick", "fine")
    )
    assert quick.latency < 0.025 * RATE < fine.latency


def test_formants_of_older_files_move_by_their_number():
    assert Device.model_validate({"kind": "pitch", "formant_semitones": 3.0}).params["formants"] == "move"
    assert Device.model_validate({"kind": "pitch"}).params["formants"] == "keep"
