"""The factory sounds: each plays, is as loud as the others, and is clean; and the library that offers them."""

import itertools
import sqlite3
from dataclasses import astuple

import numpy as np
import pytest

from tests.signals import RATE, sine
from tests.yin import pitches_hz
from zygotone.engine.playing import play_one
from zygotone.errors import BadFileError, ParameterError
from zygotone.factory import factory_sounds
from zygotone.factory.calibrate import TARGET_LUFS
from zygotone.factory.features import momentary_lufs, probe_note
from zygotone.factory.sounds import measured_features
from zygotone.measure.layers import band_levels_db
from zygotone.measure.spectrum import spectrum
from zygotone.music.pitch import midi_to_hz
from zygotone.reports.library import COMPARISONS, ORDERS, Library
from zygotone.session.audio_files import AudioData
from zygotone.session.saved_sounds import SavedSound, load_sound, save_sound

SOUNDS = {sound.name: sound for sound in factory_sounds()}


def test_there_are_enough_of_every_kind():
    assert len(SOUNDS) >= 96
    assert len(SOUNDS) == len(factory_sounds())  # no name twice
    roles = {role: sum(s.role == role for s in SOUNDS.values()) for role in ("kick", "snare", "hats", "sub", "bass", "guitar", "keys", "pad", "lead", "voice", "effect")}  # fmt: skip
    assert min(roles.values()) >= 3, roles
    tags = " ".join(" ".join(s.tags) + s.name.lower() for s in SOUNDS.values())
    for word in ("stab", "pluck", "bells", "brass", "choir", "riser", "distorted", "electric"):
        assert word in tags


@pytest.mark.parametrize("name", SOUNDS)
def test_each_is_documented_levelled_and_clean(name):
    sound = SOUNDS[name]
    assert len(sound.notes) > 20
    assert sound.notes.endswith(".")
    audio = probe_note(sound)
    assert np.isfinite(audio).all()
    assert momentary_lufs(audio) == pytest.approx(TARGET_LUFS, abs=0.3)
    assert np.max(np.abs(audio)) < 1.0  # no clip
    assert np.max(np.abs(audio.mean(axis=1))) < 2e-3  # no DC
    assert np.max(np.abs(audio[:, -24:])) < 0.02  # it ends


def test_no_two_of_a_role_are_alike():
    """By the measured note: within 5 % in brightness, attack and decay at once is one sound twice."""
    for one, other in itertools.combinations(SOUNDS.values(), 2):
        if one.role != other.role:
            continue
        pairs = zip(*(astuple(measured_features(each.name))[:3] for each in (one, other)), strict=True)
        alike = [a == b or (a != a and b != b) or abs(a - b) <= 0.05 * max(abs(a), abs(b)) for a, b in pairs]
        assert not all(alike), (one.name, other.name)


# A pure tone has no timbre to change, and pipes and reeds know no velocity.
UNTOUCHED = ("sub", "Drawbar organ", "Whistle", "Laser", "Feedback lead")


@pytest.mark.parametrize("name", [n for n, s in SOUNDS.items() if s.role not in UNTOUCHED and n not in UNTOUCHED])
def test_a_harder_stroke_changes_the_timbre(name):
    source = SOUNDS[name].instrument()
    pitch = {"bass": 33, "guitar": 52}.get(SOUNDS[name].role, 60)
    shapes = []
    for velocity in (0.3, 1.0):
        levels = band_levels_db(spectrum(play_one(source, pitch, rate_hz=RATE, hold_s=0.6, velocity=velocity), RATE))
        shapes.append(levels - np.max(levels))
    heard = np.maximum(*shapes) > -40.0
    assert np.max(np.abs(shapes[1] - shapes[0])[heard]) > 2.0  # dB of some third octave against the loudest


# What is made by lot or moves by the sample has another spectrum at another rate.
_BY_LOT = ("noise", "string", "drum", "formant")


@pytest.mark.parametrize("name", [n for n, s in SOUNDS.items() if not any(e.sound.kind in _BY_LOT for e in s.layers)])
def test_none_has_aliases(name):
    # At twice the rate aliases fall elsewhere: up to 8 kHz the usual rate must not have more in any third octave that is
    # heard. (It may have less: a window of half the length in time has wider skirts.)
    source = SOUNDS[name].instrument()
    for pitch in (60, 84):
        levels = [
            band_levels_db(spectrum(play_one(source, pitch, rate_hz=rate, hold_s=0.6), rate))[3:27]
            for rate in (48000, 96000)
        ]
        heard = np.maximum(*levels) > np.max(levels) - 42.0
        assert np.max((levels[0] - levels[1])[heard]) < 1.5


# Drums, noises and falling tones have no pitch that stands; bars of bells and a bass whose modulator lies an octave below
# have more than one, and unisons by a quarter tone and growls have none that a tracker could name.
UNPITCHED_ROLES = ("kick", "snare", "hats", "percussion", "effect")
UNPITCHED = (
    "Dropping sub",
    "Growling bass",
    "Bell piano",
    "Glass bells",
    "Plucked glass",
    "Feedback lead",
    "Talking table",
)
PITCHED = [n for n, s in SOUNDS.items() if s.role not in UNPITCHED_ROLES and n not in UNPITCHED]


@pytest.mark.parametrize("name", PITCHED)
def test_pitched_sounds_are_in_tune(name):
    # The note is played high enough for a window to hold many periods.
    pitch = 45 if SOUNDS[name].role in ("sub", "bass") else 57
    audio = play_one(SOUNDS[name].instrument(), pitch, rate_hz=RATE, hold_s=1.4)[:, : round(1.3 * RATE)]
    found = pitches_hz(audio.mean(axis=0), RATE, midi_to_hz(pitch - 14), midi_to_hz(pitch + 14))
    # Of plucked and struck sounds the beginning counts; of slow ones what comes after their attack.
    assert len(found) > 4
    cents = 1200.0 * np.log2(np.median(found) / midi_to_hz(pitch))
    # Octaves are left out: a modulator at half the pitch adds one below. 15 cents for vibrato and for stiff strings.
    assert abs(cents - 1200.0 * round(cents / 1200.0)) < 15.0


# --- files ---------------------------------------------------------------------------------------------------------


def test_a_sound_file_comes_back_with_its_clips(tmp_path):
    clip = AudioData(0.5 * sine(440.0, 0.2)[:1], RATE, "PCM_24", "WAV")
    sound = SavedSound.model_validate({"name": "Hit", "layers": [{"sound": {"kind": "sample", "files": ["deadbeef"]}}]})
    save_sound(tmp_path / "hit.json", sound, {"deadbeef": clip})
    again, clips = load_sound(tmp_path / "hit.json")
    assert list(clips) == ["hit-1.flac"]
    assert again.layers[0].sound.params["files"] == ("hit-1.flac",)
    np.testing.assert_allclose(clips["hit-1.flac"].data, clip.data, atol=1e-6)


@pytest.mark.parametrize(
    ("text", "why"),
    [
        ("nothing", "JSON"), ("{}", "is not of the form"), ('{"layers": []}', "layers"), ('{"layers": [{"sound": {"kind": "saww"}}]}', "saww"),
        ('{"layers": [{"sound": {"kind": "sample", "files": ["../secret.wav"]}}]}', "without a folder"),
        ('{"layers": [{"sound": {"kind": "sample", "files": ["gone.wav"]}}]}', "no such file"),
        ('{"layers": [{"sound": {"kind": "oscillator"}, "level_db": 99}]}', "level_db"),
    ],
)  # fmt: skip
def test_sound_files_that_lie_are_refused(tmp_path, text, why):
    (tmp_path / "x.json").write_text(text)
    with pytest.raises(BadFileError, match=why):
        load_sound(tmp_path / "x.json")


# --- the library ---------------------------------------------------------------------------------------------------


@pytest.fixture
def library(tmp_path):
    return Library(tmp_path / "sounds.sqlite")


def test_the_library_answers_questions(library):
    assert len(library.find()) == len(SOUNDS)
    pads = library.find(role="pad", order="darkest first")
    hz = [e.features.centroid_hz for e in pads]
    assert hz == sorted(hz)
    middle = pads[len(pads) // 2]
    brighter = library.find(role="pad", comparison="brighter than", beside=middle.id)
    assert brighter
    assert all(e.features.centroid_hz > middle.features.centroid_hz for e in brighter)
    attacks = library.find(comparison="same attack as", beside=middle.id)
    assert all(0.7 < e.features.attack_ms / middle.features.attack_ms < 1.4 for e in attacks)
    assert [e.name for e in library.find(text="two modes wood")] == ["Rim"]
    assert library.find(text="100%_'; DROP TABLE sounds; --") == []
    for order in ORDERS:
        for comparison in COMPARISONS:
            library.find(order=order, comparison=comparison, beside=middle.id)


def test_ones_own_sounds_are_kept_with_their_clips_and_the_factorys_stay(library):
    clip = AudioData(0.5 * sine(440.0, 0.5)[:1], RATE, "PCM_24", "WAV")
    sound = SavedSound.model_validate({"name": "Mine", "layers": [{"sound": {"kind": "sample", "files": ["a"]}}]})
    number = library.add(sound, {"a": clip})
    again = Library(library.path)  # opened anew: nothing is lost, nothing is there twice
    assert len(again.find()) == len(SOUNDS) + 1
    held, clips = again.sound(number)
    assert held == sound
    np.testing.assert_allclose(clips["a"].data, clip.data, atol=1e-6)
    with pytest.raises(ParameterError, match="factory"):
        again.remove(again.find(text="Rim")[0].id)
    again.remove(number)
    assert len(again.find()) == len(SOUNDS)


def test_a_file_that_is_no_library_is_said_and_left(tmp_path):
    (tmp_path / "x.sqlite").write_bytes(b"not a database, however one looks at it" * 40)
    with pytest.raises(BadFileError, match="no library"):
        Library(tmp_path / "x.sqlite")
    with sqlite3.connect(tmp_path / "new.sqlite") as db:
        db.execute("PRAGMA user_version = 99")
    with pytest.raises(BadFileError, match="newer"):
        Library(tmp_path / "new.sqlite")
