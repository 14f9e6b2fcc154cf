"""What the Sounds stage shows of a string and of a drum, against what is heard."""

import numpy as np
import pytest

from tests.signals import RATE
from zygotone.advise.sound_views import drum_view, source_view, string_view
from zygotone.session.models import Layer, Sound
from zygotone.sources.base import C4_HZ, source_kind, steady_note


def params_of(kind: str, **values: object):
    return Sound.model_validate({"kind": kind, **values}).params


def played(kind: str, seconds: float, **values: object) -> np.ndarray:
    return source_kind(kind).render(params_of(kind, **values), steady_note(C4_HZ, round(seconds * RATE), RATE))[0]


# --- strings -------------------------------------------------------------------------------------------------------


def test_a_string_is_held_at_both_ends_and_farthest_where_it_is_plucked():
    view = string_view(params_of("string", pick=0.3, brightness=1.0), pitch_hz=C4_HZ, rate_hz=RATE)
    assert view.pick == 0.3
    assert np.max(np.abs(view.shapes[:, [0, -1]])) < 1e-9
    assert view.places[np.argmax(view.shapes[0])] == pytest.approx(0.3, abs=0.01)
    assert np.max(view.shapes[0]) == pytest.approx(1.0)


def test_a_string_plucked_in_its_middle_is_the_same_from_either_end():
    view = string_view(params_of("string", pick=0.5), pitch_hz=C4_HZ, rate_hz=RATE)
    np.testing.assert_allclose(view.shapes, view.shapes[:, ::-1], atol=1e-9)


def test_a_soft_pick_bends_a_string_less_sharply():
    def corner(**values: float) -> float:
        shape = string_view(params_of("string", pick=0.3, **values), pitch_hz=C4_HZ, rate_hz=RATE).shapes[0]
        return float(np.max(np.abs(np.diff(shape, 2))))

    assert corner(brightness=0.3) < 0.5 * corner(brightness=1.0)


@pytest.mark.parametrize(("damping", "mute"), [(0.1, 0.0), (0.6, 0.0), (0.3, 0.5)])
def test_the_fundamental_rings_as_long_as_shown(damping, mute):
    values = {"damping": damping, "mute": mute, "decay_s": 3.0, "varies": False, "body": 0.0}
    told = string_view(params_of("string", **values), pitch_hz=C4_HZ, rate_hz=RATE).decays_s[0]
    y = played("string", 3.0, **values)
    tone = y * np.exp(-2j * np.pi * C4_HZ * np.arange(len(y)) / RATE)
    window = np.hanning(round(0.15 * RATE))
    early, late = (abs(np.mean(tone[round(at * RATE) :][: len(window)] * window)) for at in (0.1, 0.1 + 0.25 * told))
    assert 60.0 * 0.25 * told / (20 * np.log10(early / late)) == pytest.approx(told, rel=0.04)


def test_more_damping_takes_the_high_partials_and_a_low_string_rings_longer():
    open_, damped = (
        string_view(params_of("string", damping=d), pitch_hz=C4_HZ, rate_hz=RATE).decays_s for d in (0.1, 0.7)
    )
    assert damped[0] == pytest.approx(open_[0], rel=0.05)
    assert damped[15] < 0.5 * open_[15]
    low = string_view(params_of("string"), pitch_hz=82.4, rate_hz=RATE).decays_s
    high = string_view(params_of("string"), pitch_hz=659.3, rate_hz=RATE).decays_s
    assert low[0] > high[0]


def test_the_highest_strings_have_few_partials_to_show():
    assert 2 <= len(string_view(params_of("string"), pitch_hz=6000.0, rate_hz=RATE).decays_s) < 6


# --- drums ---------------------------------------------------------------------------------------------------------


def test_a_drum_falls_as_shown():
    values = {"decay_ms": 300, "drop_semitones": 0, "click_db": -60, "tune_hz": 200, "vary": 0.0}
    view = drum_view(params_of("drum", **values), pitch_hz=C4_HZ)
    y = played("drum", 1.0, **values)
    for ms in (50.0, 200.0, 400.0):
        at = round(ms * 48)
        shown = np.interp(ms / 1000.0, view.at_s, view.tone_db) - np.interp(0.05, view.at_s, view.tone_db)
        heard = 20 * np.log10(np.max(np.abs(y[at : at + 480])) / np.max(np.abs(y[2400:2880])))
        assert shown == pytest.approx(heard, abs=0.3)


@pytest.mark.parametrize("part", ["tone", "noise", "click"])
def test_a_part_that_is_off_is_not_shown(part):
    on = {"tone_db": 0.0, "noise_db": -6.0, "click_db": -12.0}
    view = drum_view(params_of("drum", **{**on, f"{part}_db": -60.0}), pitch_hz=C4_HZ)
    assert (view.tone_db is None, view.noise_db is None, view.click_db is None) == (part == "tone", part == "noise", part == "click")  # fmt: skip
    assert (view.tone_hz is None) == (part == "tone")


def test_the_pitch_of_a_drum_falls_to_its_tuning_and_follows_the_key():
    params = params_of("drum", tune_hz=60.0, drop_semitones=36.0, drop_ms=10.0)
    view = drum_view(params, pitch_hz=C4_HZ)
    assert view.tone_hz[0] == pytest.approx(480.0)
    assert view.tone_hz[-1] == pytest.approx(60.0, rel=0.01)
    # "Time to a third of the way": after 10 ms a drop of 36 semitones has 36/e left.
    assert np.interp(0.010, view.at_s, view.tone_hz) == pytest.approx(60.0 * 2 ** (3 / np.e), rel=0.02)
    octave_up = drum_view(params, pitch_hz=2 * C4_HZ)
    np.testing.assert_allclose(octave_up.tone_hz, 2 * view.tone_hz)


def test_bursts_are_seen():
    view = drum_view(params_of("drum", model="clap", tone_db=-60, noise_db=0, bursts=3, burst_ms=12), pitch_hz=C4_HZ)
    rises = np.flatnonzero(np.diff(view.noise_db) > 3.0)
    assert len(rises) == 2
    np.testing.assert_allclose(view.at_s[rises + 1], [0.012, 0.024], atol=0.004)


# --- any source ------------------------------------------------------------------------------------------------------


def test_a_wave_is_three_cycles_of_the_note_and_a_hit_is_its_beginning():
    saw = Layer.model_validate({"id": "a", "name": "a", "sound": {"kind": "oscillator", "shape": "saw"}})
    view = source_view(saw, pitch_hz=200.0, rate_hz=RATE, clip=lambda name: np.zeros((2, 1)))
    assert view.seconds == pytest.approx(3 / 200.0)
    assert np.max(view.spectrum_db) == 0.0
    jumps = np.flatnonzero(np.abs(np.diff(view.wave)) > 0.5)
    assert 2 <= len(jumps) <= 8  # a saw jumps once a cycle, within a point or two
    hit = Layer.model_validate({"id": "b", "name": "b", "sound": {"kind": "drum"}})
    assert source_view(hit, pitch_hz=200.0, rate_hz=RATE, clip=lambda name: np.zeros((2, 1))).seconds == 0.08
