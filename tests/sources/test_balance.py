"""No side is louder than the other, what is called wide is wide, and no two hits are alike."""

import numpy as np
import pytest
import scipy.signal

from tests.signals import RATE, noise
from zygotone.dsp.moving import balanced_places
from zygotone.engine.chains import process_chain
from zygotone.engine.playing import play_one
from zygotone.factory.sounds import factory_sounds
from zygotone.session.instruments import InstrumentSource, Layer, Note, Sound, layer_params
from zygotone.session.models import Device
from zygotone.sources.instrument import render_note


def lean_db(y: np.ndarray) -> float:
    left, right = np.sqrt(np.mean(y**2, axis=1))
    return float(20 * np.log10(left / right))


def play(
    kind: str, seconds: float = 3.0, pitch: int = 57, number: int = 0, layer_id: str = "x", **values
) -> np.ndarray:
    layer = Layer(id=layer_id, name="x", sound=Sound.model_validate({"kind": kind, **values}))
    note = Note(start_beat=0, length_beats=1, pitch=pitch)
    return render_note(layer, note, gate_frames=round(seconds * RATE), rate_hz=RATE, a4_hz=440.0, number=number)


@pytest.mark.parametrize("count", range(1, 12))
def test_places_mirror_each_other(count):
    places = balanced_places(count)
    np.testing.assert_allclose(sorted(places), sorted(-p for p in places), atol=1e-12)
    assert len(set(places)) == count


@pytest.mark.parametrize("count", range(1, 10))
@pytest.mark.parametrize("kind", ["oscillator", "wavetable"])
def test_a_unison_does_not_lean(kind, count):
    y = play(kind, 8.0, unison=count, spread_pct=100.0, detune_cents=20.0)
    assert abs(lean_db(y)) < 0.3
    if count > 1:
        assert np.min(np.std(y, axis=1)) > 0.01  # two voices once stood on one side


@pytest.mark.parametrize("singers", range(1, 7))
def test_a_choir_does_not_lean(singers):
    assert abs(lean_db(play("formant", 8.0, singers=singers))) < 0.3


@pytest.mark.parametrize("voices", range(1, 7))
@pytest.mark.parametrize("spread", [50.0, 100.0])
def test_a_chorus_does_not_lean(voices, spread):
    x = noise(6.0)[[0, 0]]
    y = process_chain(x, [Device.model_validate({"kind": "chorus", "voices": voices, "spread_pct": spread})], RATE)
    assert abs(lean_db(y[:, RATE : 6 * RATE])) < 0.3


def test_a_doubler_does_not_lean():
    y = process_chain(noise(6.0)[[0, 0]], [Device.model_validate({"kind": "doubler"})], RATE)
    assert abs(lean_db(y[:, RATE : 6 * RATE])) < 0.3


def test_unison_voices_beat_unevenly():
    from zygotone.sources.oscillator import unison_voices

    for count in range(4, 10):
        pitches = [v[0] for v in unison_voices(count)]
        steps = np.diff(pitches)
        assert np.min(steps) > 0.0
        assert np.ptp(steps) > 0.1 * np.mean(steps)
        assert abs(np.mean(pitches)) < 1e-9
    for count in range(4, 10):  # no side is the higher one by much
        voices = unison_voices(count)
        assert abs(np.corrcoef([v[0] for v in voices], [v[1] for v in voices])[0, 1]) < 0.75


@pytest.mark.parametrize("entry", [s for s in factory_sounds() if "wide" in s.tags], ids=lambda s: s.name)
def test_what_is_called_wide_is_wide(entry):
    source = InstrumentSource(layers=entry.layers, lfos=entry.lfos, voices=entry.voices)
    y = play_one(source, 48 if entry.role == "bass" else 60, rate_hz=RATE)
    # What is low stays in the middle; the width is heard above it.
    high = scipy.signal.sosfilt(scipy.signal.butter(4, 500.0, "highpass", fs=RATE, output="sos"), y)
    assert np.corrcoef(high)[0, 1] < 0.9


def test_two_layers_of_noise_have_nothing_in_common():
    for kind, values in (
        ("noise", {"width_pct": 0.0}),
        ("drum", {"model": "clap", "noise_db": 0.0, "tone_db": -60.0, "vary": 0.0}),
    ):
        one, other = (play(kind, 0.2, layer_id=name, **values)[0] for name in ("one", "two"))
        assert abs(np.corrcoef(one, other)[0, 1]) < 0.2, kind


@pytest.mark.parametrize("model", ["kick", "snare", "hat", "clap", "cymbal"])
def test_no_two_hits_are_alike_unless_asked(model):
    hits = [play("drum", 0.3, number=n, model=model, noise_db=-6.0) for n in range(3)]
    n = min(h.shape[1] for h in hits)
    for a, b in ((0, 1), (1, 2), (0, 2)):
        assert np.max(np.abs(hits[a][:, :n] - hits[b][:, :n])) > 0.01
        # And yet they are hits of one drum.
        assert abs(20 * np.log10(np.std(hits[a]) / np.std(hits[b]))) < 2.0
    alike = [play("drum", 0.3, number=n, model=model, noise_db=-6.0, vary=0.0) for n in range(2)]
    np.testing.assert_array_equal(*alike)


def test_hits_and_samples_follow_the_note_where_that_is_wanted():
    tone = np.sin(2 * np.pi * 440.0 * np.arange(2 * RATE) / RATE)[None].repeat(2, axis=0)

    def length_s(kind: str, **values) -> float:
        layer = Layer(id="x", name="x", sound=Sound.model_validate({"kind": kind, **values}))
        layer = layer.replace(envelope=layer.envelope.replace(release_ms=20.0))
        y = render_note(
            layer, Note(start_beat=0, length_beats=1, pitch=69), gate_frames=RATE // 10, rate_hz=RATE, a4_hz=440.0,
            clip=lambda name: tone,
        )  # fmt: skip
        loud = np.flatnonzero(np.abs(y[0]) > 1e-4)
        return float(loud[-1] / RATE)

    for kind, values in (("drum", {"decay_ms": 800.0}), ("sample", {"files": ["x"], "root_hz": 440.0})):
        assert length_s(kind, **values) > 0.5
        assert length_s(kind, gated=True, **values) == pytest.approx(0.12, abs=0.01)


def test_a_loop_may_go_backwards_and_older_files_still_do():
    rising = np.linspace(-0.5, 0.5, RATE)[None].repeat(2, axis=0)
    layer = Layer(id="x", name="x", sound=Sound.model_validate({"kind": "sample", "files": ["x"], "root_hz": 440.0, "play": "loop", "backwards": True, "loop_from": 0.2, "loop_to": 0.6, "fade_ms": 0.0}))  # fmt: skip
    y = render_note(layer, Note(start_beat=0, length_beats=1, pitch=69), gate_frames=3 * RATE, rate_hz=RATE, a4_hz=440.0, clip=lambda name: rising)  # fmt: skip
    inside = y[0, RATE : 2 * RATE]
    assert np.mean(np.diff(inside) < 0.0) > 0.99
    # From 0.1 at the end of the loop in the recording down to −0.3 at its beginning.
    assert np.min(inside) / np.max(inside) == pytest.approx(-3.0, rel=0.1)
    older = Sound.model_validate({"kind": "sample", "files": ["x"], "play": "backwards"})
    assert older.params["play"] == "once"
    assert older.params["backwards"]


def test_every_layer_parameter_is_still_declared():
    layer = Layer(id="x", name="x", sound=Sound.model_validate({"kind": "drum"}))
    assert "sound.tune_hz" in layer_params(layer)
    assert isinstance(InstrumentSource(layers=(layer,)), InstrumentSource)
