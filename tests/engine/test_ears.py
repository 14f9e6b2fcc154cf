"""Ways of listening, judged by what comes out; and that nothing of it is in an export."""

import numpy as np
import pytest

from tests.signals import RATE, sine
from zygotone.engine.ears import BANDS, DIM_DB, Ears, Listen
from zygotone.engine.graph import compile_session
from zygotone.engine.renderer import Renderer
from zygotone.engine.stream import Player, Version
from zygotone.engine.transport import SimulatedOutput, Transport
from zygotone.session.audio_files import AudioData
from zygotone.session.audio_store import AudioStore
from zygotone.session.models import ClipSource, Section, Session, Song, Track

BLOCK = 512


def two_sides() -> np.ndarray:
    """400 Hz left, 3 kHz right, and 1 kHz on both."""
    both = sine(1000.0, 1.0, level_db=-20)
    return np.array([sine(400.0, 1.0, level_db=-20)[0] + both[0], sine(3000.0, 1.0, level_db=-20)[0] + both[0]])


def through(x: np.ndarray, listen: Listen) -> np.ndarray:
    ears = Ears(RATE)
    ears.listen(listen)
    return np.concatenate([ears.process(x[:, at : at + BLOCK]) for at in range(0, x.shape[1], BLOCK)], axis=1)


def tone_db(x: np.ndarray, hz: float) -> float:
    """Level of a tone, long after the fade, against the −20 dBFS it had."""
    some = x[RATE // 2 :]
    turn = np.exp(-2j * np.pi * hz * np.arange(len(some)) / RATE)
    return 20.0 * np.log10(2.0 * abs(np.mean(some * turn)) + 1e-9) + 20.0


@pytest.mark.parametrize(
    ("way", "left_hz", "right_hz", "both_hz"),
    [("stereo", 0.0, -150.0, 0.0), ("mono", -6.02, -6.02, 0.0), ("side", -6.02, -6.02, -150.0), ("left", 0.0, -150.0, 0.0), ("right", -150.0, 0.0, 0.0)],
)  # fmt: skip
def test_what_each_way_lets_through_on_the_left_loudspeaker(way, left_hz, right_hz, both_hz):
    heard = through(two_sides(), Listen(way))[0]
    for hz, want in ((400.0, left_hz), (3000.0, right_hz), (1000.0, both_hz)):
        if want > -100.0:
            assert tone_db(heard, hz) == pytest.approx(want, abs=0.05)
        else:
            assert tone_db(heard, hz) < -60.0


@pytest.mark.parametrize("way", ["mono", "left", "right"])
def test_one_side_and_the_sum_are_played_by_both_loudspeakers(way):
    heard = through(two_sides(), Listen(way))
    np.testing.assert_allclose(heard[0, RATE // 2 :], heard[1, RATE // 2 :])


@pytest.mark.parametrize("band", list(BANDS))
def test_a_band_alone_lets_its_middle_through_and_nothing_two_octaves_away(band):
    low, high = BANDS[band]
    middle = np.sqrt(low * high)
    for hz, least, most in ((middle, -0.5, 0.5), (low / 4, -200.0, -40.0), (high * 4, -200.0, -40.0)):
        if 10.0 < hz < 0.45 * RATE:
            heard = through(sine(hz, 2.0, level_db=-20), Listen(band=band))[0]
            assert least < tone_db(heard[: 2 * RATE], hz) < most, (band, hz)


def test_dimmed_is_lower_by_what_it_says():
    heard = through(two_sides(), Listen(dim=True))
    assert tone_db(heard[0], 400.0) == pytest.approx(DIM_DB, abs=0.01)


@pytest.mark.parametrize(
    "after", [Listen("mono"), Listen("side"), Listen(band="air"), Listen(dim=True), Listen("right")]
)
def test_another_way_fades_in_without_a_click(after):
    x = np.array([sine(200.0, 1.0, level_db=-12)[0]] * 2)
    ears, out = Ears(RATE), []
    for n, at in enumerate(range(0, RATE, BLOCK)):
        if n == 30:
            ears.listen(after)
        if n == 60:
            ears.listen(Listen())
        out.append(ears.process(x[:, at : at + BLOCK]))
    y = np.concatenate(out, axis=1)
    steady = np.max(np.abs(np.diff(x[0], 2)))
    assert np.max(np.abs(np.diff(y[0], 2))) < 4.0 * steady + 2e-3


def test_it_is_in_what_is_played_and_not_in_what_is_measured_or_written(tmp_path):
    store = AudioStore()
    asset = store.add(AudioData(two_sides(), RATE, "FLOAT", "WAV"), "two", RATE)
    song = Song(tempo_bpm=240, sections=(Section(id="a", name="A", bars=1),))
    session = Session(rate_hz=RATE, song=song, assets=(asset,), tracks=(Track(id="t", name="T", source=ClipSource(asset=asset.id)),))  # fmt: skip
    renderer = Renderer(store)
    player = Player(renderer, RATE)
    player.set_versions(Version(compile_session(session), 0.0), None)
    player.set_loop(0, RATE)
    output = SimulatedOutput()
    output.record_to = tmp_path / "played.wav"
    transport = Transport(player, output)
    transport.listen(Listen("right"))
    transport.play()
    import time

    time.sleep(0.8)
    assert transport.meters.correlation < 0.8  # of the mix, not of two equal sides
    assert transport.strip_peaks[0] == pytest.approx(np.max(np.abs(two_sides())), rel=0.1)
    transport.stop()
    import soundfile

    played, _ = soundfile.read(tmp_path / "played.wav")
    some = played[RATE // 10 : RATE // 2]
    np.testing.assert_allclose(some[:, 0], some[:, 1])
    mixed = renderer.mix(session)
    assert np.max(np.abs(mixed[0] - mixed[1])) > 0.1
