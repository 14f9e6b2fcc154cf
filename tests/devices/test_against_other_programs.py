"""Where ffmpeg and sox define a thing as we do, all three must agree. ``./run test`` installs both."""

import re
import subprocess
from pathlib import Path

import numpy as np
import pytest
import soundfile

from tests.signals import RATE, kick_track, noise, sine
from zygotone.dsp.convolution import Crossover
from zygotone.dsp.filters import SosStereo, bandpass_sos, highpass_sos, lowpass_sos
from zygotone.engine.chains import process_chain
from zygotone.measure.loudness import integrated_lufs, true_peak
from zygotone.session.models import Device


def device(kind: str, **values) -> Device:
    return Device.model_validate({"kind": kind, **values})


@pytest.fixture
def sox(tmp_path):
    def run(x: np.ndarray, *effects: str) -> np.ndarray:
        soundfile.write(tmp_path / "in.wav", x.T, RATE, subtype="DOUBLE")
        names = [str(tmp_path / "in.wav"), "-e", "floating-point", "-b", "64", str(tmp_path / "out.wav")]
        subprocess.run(["sox", "-D", "-V1", *names, *effects], check=True)
        return np.ascontiguousarray(soundfile.read(tmp_path / "out.wav", always_2d=True)[0].T)

    return run


@pytest.fixture
def ffmpeg(tmp_path):
    def run(x: np.ndarray, filters: str, *more: np.ndarray) -> np.ndarray:
        files: list[str] = []
        for n, audio in enumerate((x, *more)):
            soundfile.write(tmp_path / f"{n}.wav", audio.T, RATE, subtype="DOUBLE")
            files += ["-i", str(tmp_path / f"{n}.wav")]
        out = tmp_path / "out.wav"
        subprocess.run(
            ["ffmpeg", "-y", "-v", "error", *files, "-filter_complex", filters, "-c:a", "pcm_f64le", str(out)],
            check=True,
        )
        return np.ascontiguousarray(soundfile.read(out, always_2d=True)[0].T)

    return run


def click(frames: int) -> np.ndarray:
    x = np.zeros((2, frames))
    x[:, 0] = 0.5
    return x


def response_db(impulse: np.ndarray) -> np.ndarray:
    return 20.0 * np.log10(np.maximum(np.abs(np.fft.rfft(impulse[0] / 0.5)), 1e-9))


# sox works in 32-bit integers, so its output has steps of 2⁻³¹, which a filter's feedback adds up.
_SOX_ATOL = 2e-8


@pytest.mark.parametrize(
    ("effect", "make"),
    [("lowpass", lowpass_sos), ("highpass", highpass_sos), ("bandpass", bandpass_sos)],
)
def test_cookbook_sections_are_those_of_sox(sox, effect, make):
    # sox implements the Audio EQ Cookbook, Q given as such.
    x = noise(0.5, level=0.05)
    two_pole = ["-2"] if effect in ("lowpass", "highpass") else []
    theirs = sox(x, effect, *two_pole, "1500", "2.5q")
    ours = SosStereo(make(1500.0, 2.5, sample_rate_hz=RATE)).process(x)
    np.testing.assert_allclose(ours, theirs, atol=_SOX_ATOL)


@pytest.mark.parametrize(("hz", "gain_db", "q"), [(80.0, 6.0, 1.0), (400.0, -9.0, 2.0), (1500.0, 4.0, 0.7)])
def test_a_bell_is_that_of_sox_where_the_bilinear_transform_does_not_bend_it(sox, hz, gain_db, q):
    theirs = response_db(sox(click(1 << 15), "equalizer", f"{hz}", f"{q}q", f"{gain_db}"))
    bell = {"freq_hz": hz, "gain_db": gain_db, "q": q}
    ours = response_db(process_chain(click(1 << 15), [device("eq", bands=[bell])], RATE)[:, : 1 << 15])
    below = slice(1, (1 << 15) * 3000 // RATE)
    np.testing.assert_allclose(ours[below], theirs[below], atol=0.06)


@pytest.mark.parametrize("level_db", [-30.0, -18.0, -12.0, -6.0, 0.0])
def test_the_static_curve_of_the_compressor_is_that_of_ffmpeg(ffmpeg, level_db):
    # A square wave has one level whatever the detector. Hard knee, since theirs bends by another formula.
    x = np.sign(sine(200.0, 3.0)) * 10.0 ** (level_db / 20.0)
    x[x == 0.0] = 10.0 ** (level_db / 20.0)
    theirs = ffmpeg(x, "acompressor=threshold=0.125:ratio=4:attack=5:release=50:knee=1")
    threshold_db = 20.0 * np.log10(0.125)
    ours = process_chain(
        x,
        [device("compressor", threshold_db=threshold_db, ratio=4.0, knee_db=0.0, attack_ms=5.0, release_ms=50.0)],
        RATE,
    )
    end = slice(2 * RATE, 3 * RATE)
    level = 20.0 * np.log10(np.sqrt(np.mean(ours[:, end] ** 2)))
    assert level == pytest.approx(20.0 * np.log10(np.sqrt(np.mean(theirs[:, end] ** 2))), abs=0.05)


def test_an_impulse_file_sounds_as_in_ffmpeg(ffmpeg):
    rng = np.random.default_rng(5)
    impulse = rng.standard_normal((2, 9000)) * np.exp(-np.arange(9000) / 1500.0)
    x = noise(1.0, level=0.1)
    theirs = ffmpeg(x, "[0:a][1:a]afir=gtype=none:irgain=1", 0.05 * impulse)
    ours = process_chain(x, [device("cabinet", impulse="mine.wav")], RATE, clip={"mine.wav": impulse}.get)[:, :RATE]
    # By ours the impulse's energy is made 1, and versions of theirs differ by a factor of 2: the shape is compared. Theirs
    # computes in single precision.
    scale = np.sum(ours * theirs[:, :RATE]) / np.sum(ours**2)
    np.testing.assert_allclose(scale * ours, theirs[:, :RATE], atol=1e-5)


@pytest.mark.parametrize("hz", [120.0, 1000.0])
def test_the_crossover_has_the_magnitude_of_ffmpegs_linkwitz_riley(ffmpeg, hz):
    frames = 1 << 16
    low = ffmpeg(click(frames), f"acrossover=split={hz}:order=4th[low][high];[high]anullsink;[low]acopy")
    crossover = Crossover((hz,), RATE)
    ours = crossover.process(click(frames))[0]
    f = np.fft.rfftfreq(frames, 1.0 / RATE)
    heard = (f > 20.0) & (f < 2.0 * hz)  # above, the bilinear transform begins to bend theirs
    np.testing.assert_allclose(response_db(ours)[heard], response_db(low[:, :frames])[heard], atol=0.15)


def test_an_echo_comes_when_that_of_ffmpeg_does(ffmpeg):
    theirs = ffmpeg(click(RATE), "aecho=1:1:375:0.5")
    ours = process_chain(click(RATE), [device("delay", time=375.0, feedback=0.0, mix=0.5)], RATE)
    assert np.argmax(np.abs(theirs[0, 100:])) == np.argmax(np.abs(ours[0, 100:]))


def test_width_0_is_the_mono_sum_of_sox(sox):
    x = noise(0.2, level=0.1)
    theirs = sox(x, "remix", "1v0.5,2v0.5", "1v0.5,2v0.5")
    ours = process_chain(x, [device("width", width_pct=0.0)], RATE)[:, : x.shape[1]]
    np.testing.assert_allclose(ours, theirs, atol=_SOX_ATOL)


def _ebur128(x: np.ndarray, path: Path) -> dict[str, float]:
    soundfile.write(path, x.T, RATE, subtype="DOUBLE")
    told = subprocess.run(
        ["ffmpeg", "-i", str(path), "-af", "ebur128=peak=true", "-f", "null", "-"], capture_output=True, text=True
    ).stderr.split("Summary:")[1]
    return {name: float(re.search(rf"{name}:\s+(-?[\d.]+)", told).group(1)) for name in ("I", "Peak")}


def test_loudness_and_true_peak_are_those_of_ffmpeg(tmp_path):
    x = kick_track(52.0)
    x = x + 0.1 * sine(997.0, x.shape[1] / RATE)
    theirs = _ebur128(x, tmp_path / "x.wav")  # one decimal
    assert integrated_lufs(x, RATE) == pytest.approx(theirs["I"], abs=0.1)
    assert 20.0 * np.log10(true_peak(x, RATE)) == pytest.approx(theirs["Peak"], abs=0.15)


def test_ffmpegs_meter_finds_no_peak_over_the_ceiling_of_the_limiter(tmp_path):
    x = 2.5 * kick_track(52.0)
    x = x + 0.6 * sine(3000.0, x.shape[1] / RATE)
    y = process_chain(x, [device("limiter", ceiling_dbtp=-1.0)], RATE)
    assert _ebur128(y, tmp_path / "y.wav")["Peak"] <= -0.9
