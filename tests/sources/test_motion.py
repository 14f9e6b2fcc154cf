"""What routes move: every parameter of every source, within a note or as it begins."""

import numpy as np
import pytest
import scipy.signal

from tests.signals import RATE
from tests.sources.test_voices import layer, note, pitch_at
from zygotone.session.catalogue import SOURCES
from zygotone.session.instruments import (
    Envelope,
    Layer,
    Route,
    VoiceFilter,
    layer_params,
    layer_value,
    with_layer_value,
)
from zygotone.sources.instrument import render_note

# Settings in which every parameter of a source can be heard.
TELLING = {
    "oscillator": {"shape": "pulse", "shape_b": "saw", "mix_b": 40.0, "unison": 3, "spread_pct": 50.0},
    "wavetable": {"table": "opening", "unison": 3, "position": 0.4},
    "fm": {"operators": [{"sustain": 0.5}, {"ratio": 3.0, "index": 2.0, "sustain": 0.5}, {"ratio": 1.5, "sustain": 0.4}], "algorithm": "matrix", "matrix": [0.0, 0.0, 0.4, 0.0, 1.0, 0.0, 0.0, 0.0, 0.5, 0.5], "heard": [1.0, 0.5, 0.5]},
    "noise": {"low_hz": 300.0, "high_hz": 6000.0, "width_pct": 50.0},
    "sample": {"files": ["x"], "play": "loop", "loop_from": 0.3, "loop_to": 0.6, "start": 0.1},
    "string": {"varies": False, "mute": 0.1, "decay_s": 1.0},
    "drum": {"model": "snare", "noise_db": -6.0, "noise_rise_ms": 10.0, "bursts": 3, "bend_db": 6.0, "tone_db": -3.0, "tune_hz": 180.0},
    "formant": {"vowel": "ah", "vowel_to": "ee", "blend": 0.3, "breath_db": -20.0},
}  # fmt: skip
CLIP = 0.3 * np.random.default_rng(8).standard_normal((2, RATE // 2))
# Every part of it lies within the note, and it begins at 0, so that what it moves begins where it stood.
RISING = Envelope(attack_ms=120.0, attack_curve=0.0, hold_ms=10.0, decay_ms=60.0, sustain=0.5, release_ms=60.0)


def rich(kind: str) -> Layer:
    """A layer on which everything that can be set is at work."""
    whole = layer(
        sound={"kind": kind, **TELLING[kind]}, filter=VoiceFilter(cutoff_hz=1500.0, envelope_octaves=2.0, envelope=RISING), bend=RISING,
        envelope=Envelope(delay_ms=5.0, attack_ms=20.0, hold_ms=10.0, decay_ms=80.0, sustain=0.5, release_ms=60.0),
    )  # fmt: skip
    vibrato, wah = (Route(source=s, target=t, amount=a) for s, t, a in (("lfo1", "pitch", 0.5), ("lfo2", "filter.cutoff_hz", 0.5)))  # fmt: skip
    return whole.replace(
        filter2=VoiceFilter(mode="bandpass", cutoff_hz=900.0, envelope_octaves=1.0, envelope=RISING) if kind == "oscillator" else None,
        routes=(vibrato, wah), bend_semitones=0.0 if kind != "oscillator" else 1.0,
        lfos=tuple(lfo.replace(delay_ms=20.0, rise_ms=100.0, phase_deg=30.0) for lfo in whole.lfos),
    )  # fmt: skip


def route_to(one: Layer, path: str, source: str) -> Layer:
    """With a route that moves ``path`` by a third of its range, towards where there is more room."""
    p = layer_params(one)[path]
    at = p.position_of(layer_value(one, path, bpm=120.0))
    value = p.value_at(at + 0.33 if at < 0.5 else at - 0.33)
    now = layer_value(one, path, bpm=120.0)
    amount = float(np.log2(value / max(now, p.low))) if p.scale == "log" else value - now
    return one.replace(routes=(*one.routes, Route(source=source, target=path, amount=amount)))


def played(one: Layer) -> np.ndarray:
    return render_note(
        one, note(64, velocity=0.7), gate_frames=RATE // 4, rate_hz=RATE, a4_hz=440.0, clip=lambda _: CLIP
    )


def differ(a: np.ndarray, b: np.ndarray) -> bool:
    n = min(a.shape[1], b.shape[1])
    return a.shape != b.shape or float(np.std(a[:, :n] - b[:, :n])) > 1e-4 * float(np.std(a))


def paths_of(kind: str) -> list[str]:
    """A free matrix has its feedback in the diagonal, so "feedback" is tried by itself below."""
    return [path for path in layer_params(rich(kind)) if path.startswith("sound.") and path != "sound.feedback"]


CASES = [(kind.kind, path) for kind in SOURCES for path in paths_of(kind.kind)]
CASES += [("oscillator", path) for path in layer_params(rich("oscillator")) if not path.startswith("sound.")]


@pytest.mark.parametrize(("kind", "path"), CASES)
def test_velocity_can_move_everything(kind, path):
    one = rich(kind)
    assert differ(played(one), played(route_to(one, path, "velocity")))


@pytest.mark.parametrize(("kind", "path"), CASES)
def test_what_moves_within_a_note_is_followed_or_said_to_be_taken_at_its_start(kind, path):
    one = rich(kind)
    follows = not layer_params(one)[path].at_start
    assert differ(played(one), played(route_to(one, path, "bend"))) is follows


@pytest.mark.parametrize(("source", "moves"), [("velocity", True), ("bend", False)])
def test_feedback_is_taken_at_the_start(source, moves):
    one = layer(sound={"kind": "fm", "algorithm": "chain", "operators": [{}, {}, {}, {}]}, bend=RISING)
    assert differ(played(one), played(route_to(one, "sound.feedback", source))) is moves


def test_a_value_in_a_layer_is_written_where_it_is_read():
    one = rich("fm")
    for path, p in layer_params(one).items():
        if path == "pitch":
            continue
        value = p.value_at(0.37)
        assert layer_value(with_layer_value(one, path, value), path, bpm=120.0) == value
    assert with_layer_value(one, "sound.operators.1.index", 3.0).sound.params["operators"][0] is one.sound.params["operators"][0]  # fmt: skip


# --- one source scaled by another ------------------------------------------------------------------------------------


def deviation(y: np.ndarray) -> float:
    """How far the pitch swings, in semitones."""
    phase = np.unwrap(np.angle(scipy.signal.hilbert(y[0])))
    hz = np.diff(phase)[4000:-4000] * RATE / (2 * np.pi)
    return float(12 * np.log2(np.percentile(hz, 99) / np.percentile(hz, 1)) / 2)


@pytest.mark.parametrize(("wheel", "wanted"), [(0.0, 0.0), (0.5, 0.5), (1.0, 1.0)])
def test_the_wheel_brings_in_a_vibrato(wheel, wanted):
    vibrato = Route(source="lfo1", target="pitch", amount=1.0, scaled_by="wheel")
    y = render_note(layer(routes=(vibrato,)), note(69, wheel=wheel), gate_frames=RATE, rate_hz=RATE, a4_hz=440.0)
    assert deviation(y) == pytest.approx(wanted, abs=0.03)


def test_keys_make_an_lfo_in_note_values_faster_by_octaves():
    slow = layer(routes=(Route(source="lfo1", target="level_db", amount=-12.0),))
    slow = slow.replace(lfos=(slow.lfos[0].replace(rate="1/4", shape="sine"), slow.lfos[1]))
    fast = slow.replace(routes=(*slow.routes, Route(source="key", target="lfos.0.rate", amount=1.0)))

    def swings_hz(one: Layer, pitch: int) -> float:
        y = render_note(one, note(pitch), gate_frames=4 * RATE, rate_hz=RATE, a4_hz=440.0, bpm=120.0)
        level = np.sqrt(np.mean(y[0, : 4 * RATE].reshape(-1, 480) ** 2, axis=1))
        return float(np.argmax(np.abs(np.fft.rfft(level - level.mean()))) / 4.0)

    # A quarter note at 120 BPM is half a second; an octave above C4 the rate is doubled.
    assert [swings_hz(one, pitch) for one, pitch in ((slow, 72), (fast, 60), (fast, 72))] == [2.0, 2.0, 4.0]


# --- what sources did not follow before ----------------------------------------------------------------------------


def test_a_drum_follows_a_pitch_envelope():
    tom = {"kind": "drum", "tune_hz": 200.0, "drop_semitones": 0.0, "decay_ms": 4000.0, "click_db": -60.0}
    bent = layer(sound=tom, bend=Envelope(attack_ms=400.0, attack_curve=0.0, sustain=1.0), bend_semitones=12.0)
    y = render_note(bent, note(60), gate_frames=RATE, rate_hz=RATE, a4_hz=440.0)
    assert pitch_at(y, 0.0, 0.02) == pytest.approx(200.0, rel=0.06)
    assert pitch_at(y, 0.6) == pytest.approx(400.0, rel=1e-3)


def test_noise_whose_edge_moves_has_the_spectrum_of_noise_that_stands_there():
    sweep = layer(
        sound={"kind": "noise", "high_hz": 300.0, "width_pct": 0.0}, bend=Envelope(attack_ms=200.0, sustain=1.0),
        routes=(Route(source="bend", target="sound.high_hz", amount=4.0),),
    )  # fmt: skip
    still = layer(sound={"kind": "noise", "high_hz": 4800.0, "width_pct": 0.0})
    moved, stood = (render_note(one, note(60), gate_frames=3 * RATE, rate_hz=RATE, a4_hz=440.0) for one in (sweep, still))  # fmt: skip
    f, a = scipy.signal.welch(moved[0, RATE:], RATE, nperseg=1024)
    _, b = scipy.signal.welch(stood[0, RATE:], RATE, nperseg=1024)
    heard = (f > 200.0) & (f < 15000.0)
    # The same noise through the same two poles: once made as a state-variable filter, once as a section of the cookbook.
    assert float(np.max(np.abs(10.0 * np.log10(a[heard] / b[heard])))) < 0.1
    early = scipy.signal.welch(moved[0, 500:2500], RATE, nperseg=1024)[1]
    assert 10.0 * np.log10(early[f > 3000.0].sum() / a[f > 3000.0].sum()) < -20.0


def test_a_route_scaled_by_nothing_known_is_refused():
    with pytest.raises(ValueError, match="scaled_by"):
        Route.model_validate({"source": "lfo1", "target": "pitch", "amount": 1.0, "scaled_by": "the moon"})


def test_every_source_is_tried_here():
    assert {kind.kind for kind in SOURCES} == set(TELLING)
