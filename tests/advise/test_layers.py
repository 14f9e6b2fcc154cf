"""Faults of layers, each planted alone: found, and mended by the first fix."""

import numpy as np
import pytest

from tests.signals import RATE, noise, sine
from zygotone.advise.advisor import find_in, with_fixes
from zygotone.advise.findings import RULES
from zygotone.advise.hearing import Hearing
from zygotone.engine.renderer import Renderer
from zygotone.measure.layers import added_db, band_levels_db, best_alignment, layer_cancel, owners
from zygotone.measure.quantities import find_quantity
from zygotone.measure.spectrum import spectrum
from zygotone.session.audio_store import AudioStore
from zygotone.session.models import InstrumentSource, Layer, Note, Part, Phrase, Section, Session, Song, Track

LONG = {"attack_ms": 5, "sustain": 1.0, "release_ms": 60}


def layer(name: str, job: str, kind: str, sound: dict | None = None, **more) -> Layer:
    return Layer.model_validate(
        {
            "id": name.lower(),
            "name": name,
            "job": job,
            "sound": {"kind": kind, **(sound or {})},
            "envelope": LONG,
            **more,
        }
    )


def session(*layers: Layer, role: str = "keys", pitch: int = 45, key: str = "F# minor") -> Session:
    notes = tuple(Note(start_beat=b, length_beats=0.9, pitch=pitch, velocity=1.0) for b in range(4))
    source = InstrumentSource(layers=layers, phrases=(Phrase(id="p", beats=4, notes=notes),))
    song = Song(tempo_bpm=120, key=key, sections=(Section(id="a", name="A", bars=1),))
    return Session(
        song=song,
        tracks=(Track(id="t", name="Keys", role=role, source=source, parts=(Part(section="a", phrase="p"),)),),
    )


def findings(made: Session) -> dict:
    renderer = Renderer(AudioStore())
    hearing = Hearing(made, made.song.sections[0], renderer)
    return {f.rule: with_fixes(made, renderer, f) for f in find_in(hearing) if f.stage == "sounds"}


BODY = layer("Body", "body", "oscillator", {"shape": "triangle"})
SUB = layer("Sub", "sub", "oscillator", {"shape": "sine"}, transpose_semitones=-12)
CLEAN = session(BODY, layer("Air", "air", "noise", {"low_hz": 8000, "width_pct": 0}, level_db=-14), pitch=57)


def test_a_sound_without_fault_has_no_findings():
    assert findings(CLEAN) == {}


PLANTED = {
    "two_subs": session(SUB, layer("Body", "body", "oscillator", {"shape": "saw"}, transpose_semitones=-12)),
    "layer_cancels": session(BODY, layer("Turned", "texture", "oscillator", {"shape": "triangle"}, polarity=True, level_db=-1)),
    "layer_unheard": session(BODY, layer("Ghost", "texture", "oscillator", {"shape": "sine"}, level_db=-40)),
    "support_too_loud": session(BODY, layer("Bite", "bite", "oscillator", {"shape": "saw"}, level_db=9, transpose_semitones=19)),
    "job_not_done": session(BODY, layer("Slow", "attack", "noise", {"low_hz": 2000}, level_db=-12, envelope={"attack_ms": 200, "sustain": 1.0})),
    "build_up": session(
        layer("Body", "body", "noise", {"low_hz": 60, "high_hz": 700}),
        layer("More", "texture", "noise", {"low_hz": 200, "high_hz": 500, "width_pct": 0}, level_db=2), pitch=57,
    ),
}  # fmt: skip


def test_a_click_that_hardly_adds_to_the_level_is_heard():
    click = layer("Tick", "attack", "noise", {"low_hz": 1500}, level_db=-12, envelope={"attack_ms": 0.5, "decay_ms": 12, "sustain": 0.0})  # fmt: skip
    made = session(BODY, click)
    hearing = Hearing(made, made.song.sections[0], Renderer(AudioStore()))
    body, tick = (hearing.layer(made.tracks[0].id, each) for each in ("body", "tick"))
    assert max(band_levels_db(spectrum(tick, RATE))) < max(band_levels_db(spectrum(body, RATE))) - 30.0
    assert "layer_unheard" not in findings(made)


@pytest.mark.parametrize("rule", PLANTED)
def test_a_planted_fault_is_found_and_mended(rule):
    made = PLANTED[rule]
    found = findings(made)
    assert rule in found
    finding = found[rule]
    assert finding.sentence.startswith("Keys: ")
    assert finding.layers
    judged = [fix for fix in finding.fixes if fix.gain]
    assert judged, "no fix says what it gains"
    for fix in judged:
        # What it promises is what is measured on it afresh, and leads where the quantity says that it is better.
        ((name, gain),) = fix.gain.items()
        before, after = (measured(session_, finding)[name] for session_ in (made, fix.session))
        assert after - before == pytest.approx(gain, abs=1e-6)
        assert (gain > 0.0) == (find_quantity(name).better == "higher"), name
    assert any(rule not in findings(fix.session) for fix in finding.fixes), "no fix mends it"


def measured(made: Session, finding) -> dict[str, float]:
    hearing = Hearing(made, made.song.sections[0], Renderer(AudioStore()))
    return RULES[finding.rule].numbers(hearing, finding.tracks, finding.layers)


@pytest.mark.parametrize(
    ("sound", "layer_more"),
    [({}, {"job": "air"}), ({"shape": "saw"}, {"job": "sub"}), ({"shape": "saw"}, {"job": "width"})],
)
def test_each_job_is_measured(sound, layer_more):
    made = session(BODY, layer("Idle", layer_more["job"], "oscillator", {"shape": "sine", **sound}, level_db=-6, transpose_semitones=7), pitch=69)  # fmt: skip
    finding = findings(made)["job_not_done"]
    assert layer_more["job"] in finding.sentence
    assert finding.fixes[0].gain["share"] > 0.0  # a larger share where it belongs


@pytest.mark.parametrize(("tune_hz", "off"), [(4186.0 / 8, True), (2960.0 / 8, False), (554.37, False)])
def test_a_drum_a_tritone_off_the_key_is_found_and_tuned(tune_hz, off):
    # F♯ minor: C is the tritone, F♯ the tonic, C♯ the fifth.
    hat = layer("Ring", "body", "drum", {"model": "tom", "tune_hz": tune_hz, "drop_semitones": 0, "decay_ms": 300})
    found = findings(session(hat, role="percussion", pitch=60))
    assert ("drum_off_key" in found) is off
    if off:
        finding = found["drum_off_key"]
        assert "tritone" in finding.sentence
        assert finding.fixes[0].gain["cents_off"] < -50.0


# --- the measures --------------------------------------------------------------------------------------------------


def test_cancelling_is_the_sum_against_the_power_sum():
    a = sine(100.0, 1.0, level_db=-12)
    assert layer_cancel(a, a, RATE).worst_db == pytest.approx(3.01, abs=0.05)  # alike: 3 dB more
    shifted = sine(100.0, 1.0, level_db=-12, phase=np.pi / 2)
    assert layer_cancel(a, shifted, RATE).worst_db == pytest.approx(0.0, abs=0.1)
    assert layer_cancel(a, -0.7 * a, RATE).worst_db == pytest.approx(20 * np.log10(0.3 / np.sqrt(1.49)), abs=0.1)


@pytest.mark.parametrize("late_ms", [-4.0, 1.5, 6.0])
@pytest.mark.parametrize("turned", [False, True])
def test_the_best_alignment_is_found_again(late_ms, turned):
    x = noise(1.0)
    shift = round(late_ms * 1e-3 * RATE)
    y = np.roll(x, shift, axis=1) * (-1.0 if turned else 1.0)
    best = best_alignment(x, y, 400.0, RATE)
    restored = np.roll(y, round(best.later_ms * 1e-3 * RATE), axis=1) * (-1.0 if best.turn_over else 1.0)
    assert best.agreement > 0.85
    assert layer_cancel(x, restored, RATE).by_band_db[13] > 1.0  # the third octave of 400 Hz


def test_owners_and_what_is_added():
    low, high = sine(60.0, 1.0, level_db=-12), sine(4000.0, 1.0, level_db=-12)
    levels = np.array([band_levels_db(spectrum(x, RATE)) for x in (low, high)])
    owned = owners(levels)
    assert owned[5] == [0]  # 63 Hz
    assert owned[23] == [1]  # 4 kHz
    assert added_db([low, high, 1e-4 * low], 2, RATE) < 0.01
    assert added_db([low, high], 1, RATE) > 20.0
