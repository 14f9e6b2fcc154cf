"""Who hides whom at both ears: the laws it must obey, and loudness against published growth."""

import itertools

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.advise import material as m
from tests.signals import RATE
from zygotone.measure.hiding import (
    Hiding,
    by_third_octave,
    hidden_weights,
    loudness_left_lu,
    narrowest,
    summed,
    weights,
)
from zygotone.measure.masking import bands_hz, excitation_of_ears, far_ear, hop_frames, masked_threshold, quiet

SPL_DB = 83.0 + 20.0 - 0.69 + 3.01  # of a mean square of 1 on both sides


class Sound:
    def __init__(self, audio: np.ndarray) -> None:
        ears = excitation_of_ears(audio if audio.ndim == 2 else np.stack([audio, audio]), RATE)
        self.pattern, self.weight = ears.pattern, weights(ears.pattern, ears.own)
        self.slot = np.arange(self.pattern.shape[2]) * hop_frames(RATE) // RATE

    @property
    def slots(self) -> int:
        return int(self.slot.max()) + 1

    def hidden_by(self, other: "Sound", *, masker_db: float = 0.0) -> Hiding:
        threshold = masked_threshold(other.pattern * np.float32(m.gain(2 * masker_db)))
        hidden = hidden_weights(self.pattern, self.weight, threshold, self.slot, self.slots)
        return Hiding(hidden, summed(self.weight, self.slot, self.slots))

    def left_lu(self, other: "Sound") -> float:
        return loudness_left_lu(self.pattern, self.weight, masked_threshold(other.pattern))


@pytest.fixture(scope="module")
def lead() -> Sound:
    return Sound(m.lead(-25.0))


@pytest.fixture(scope="module")
def chord() -> Sound:
    return Sound(m.chords(220.0, -25.0, count=20, slope=0.8))


@settings(max_examples=12)
@given(st.floats(-40.0, 30.0), st.floats(0.1, 20.0))
def test_more_masker_never_hides_less(lead, chord, at_db, more_db):
    one, more = lead.hidden_by(chord, masker_db=at_db), lead.hidden_by(chord, masker_db=at_db + more_db)
    assert np.all(more.hidden >= one.hidden - 1e-9)


def test_another_masker_beside_it_never_hides_less(lead, chord):
    both = Sound(m.lead(-25.0))
    both.pattern = chord.pattern + Sound(m.snare(-25.0)).pattern
    assert np.all(lead.hidden_by(both).hidden >= lead.hidden_by(chord).hidden - 1e-9)


def test_apart_in_frequency_hides_less():
    own = Sound(m.at_db(m.band(m.noise(1), 900, 1200), -30.0))
    shares = [
        own.hidden_by(Sound(m.at_db(m.band(m.noise(2), low, 1.3 * low), -20.0))).share for low in (900, 2600, 6000)
    ]
    assert shares[0] > 0.9 > shares[1] >= shares[2]
    # Downwards a masker reaches less far than upwards (Wegel and Lane 1924).
    below = own.hidden_by(Sound(m.at_db(m.band(m.noise(2), 350, 450), -20.0))).share
    assert below > own.hidden_by(Sound(m.at_db(m.band(m.noise(2), 2600, 3400), -20.0))).share


def test_apart_in_time_hides_less():
    own = m.at_db(m.band(m.noise(1), 900, 1200), -30.0) * (m.T % 1.0 < 0.5)
    masker = m.at_db(m.band(m.noise(2), 800, 1400), -20.0)
    together = Sound(own).hidden_by(Sound(masker * (m.T % 1.0 < 0.5))).share
    after = Sound(own).hidden_by(Sound(masker * (m.T % 1.0 >= 0.5))).share
    assert together > 0.95
    assert 0.0 < after < 0.35  # only what is left of it, within 200 ms


def test_apart_in_the_field_hides_less():
    own, masker = m.at_db(m.band(m.noise(1), 1500, 3000), -30.0), m.at_db(m.band(m.noise(2), 1500, 3000), -24.0)
    nothing = np.zeros(m.N)
    centre = Sound(own).hidden_by(Sound(masker)).share
    aside = Sound(np.stack([own, nothing])).hidden_by(Sound(np.stack([nothing, masker]))).share
    same_side = Sound(np.stack([own, nothing])).hidden_by(Sound(np.stack([masker, nothing]))).share
    assert aside < 0.6 * centre
    assert same_side == pytest.approx(centre, abs=0.05)


def test_low_tones_reach_both_ears_alike_and_high_ones_do_not():
    # E. A. G. Shaw 1974, from memory: hardly any shadow at 200 Hz, some 10 dB at 8 kHz for 30°.
    shadow = -10.0 * np.log10(far_ear(np.array([100.0, 1000.0, 8000.0])))
    assert shadow[0] < 0.6
    assert 3.0 <= shadow[1] <= 6.0
    assert 8.0 <= shadow[2] <= 12.0


def test_swapped_sides_change_nothing():
    own = np.stack([m.lead(-25.0), m.lead(-31.0, 554.0)])
    other = np.stack([m.chords(220.0, -30.0), m.chords(330.0, -25.0)])
    straight, swapped = Sound(own).hidden_by(Sound(other)), Sound(own[::-1].copy()).hidden_by(Sound(other[::-1].copy()))
    assert swapped.share == pytest.approx(straight.share, abs=1e-6)


def test_silence_hides_nothing_and_a_sound_ten_db_louder_hides_its_like(lead):
    silence = Sound(np.zeros((2, m.N)))
    assert lead.hidden_by(silence).share == 0.0
    assert np.isnan(silence.hidden_by(lead).share)
    assert lead.hidden_by(lead, masker_db=10.0).share > 0.98
    assert lead.hidden_by(lead, masker_db=-10.0).share < 0.02


def test_a_chord_hides_its_like_more_than_the_same_an_octave_up():
    own = m.chords(220.0, -30.0, count=8, slope=1.0)
    same = Sound(own).hidden_by(Sound(m.chords(221.0, -25.0, count=8, slope=1.0))).share
    octave = Sound(own).hidden_by(Sound(m.chords(442.0, -25.0, count=8, slope=1.0))).share
    assert octave < 0.85 * same  # its odd partials stay


def test_the_share_is_of_where_and_when(lead, chord):
    half = m.chords(220.0, -15.0, count=20, slope=0.5) * (m.T < 2.0)
    found = lead.hidden_by(Sound(half))
    assert found.by_slot[:2].min() > 3 * found.by_slot[2:].max()
    assert found.slots_from(0.5 * found.by_slot.max()) == (0, 1)
    assert found.by_band.sum() == pytest.approx(found.share)
    thirds = by_third_octave(found.by_band)
    assert sum(thirds.values()) == pytest.approx(found.share)
    low, high = found.band_hz(0.8)
    inside = (bands_hz() >= low) & (bands_hz() <= high)
    assert found.by_band[inside].sum() >= 0.79 * found.share
    assert narrowest(np.zeros(len(bands_hz())), 0.5) == (0.0, 0.0)


def test_a_tones_place_is_where_the_tone_is():
    """A loud low tone excites the ear far above itself; nobody would call that its place."""
    low = Sound(m.at_db(m.shaped(np.sin(2 * np.pi * 60.0 * m.T), 0.1, 0.1), -15.0))
    per_band = low.weight.sum(axis=(0, 2))
    assert per_band[bands_hz() > 250.0].sum() < 0.02 * per_band.sum()
    assert (low.pattern[:, bands_hz() > 250.0] > quiet()[bands_hz() > 250.0][:, None]).any()


def test_what_dies_away_weighs_little():
    ringing = Sound(m.hits(m.burst(400, 900, 0.25), 2.0, level_db=-20.0))
    late = ringing.weight[:, :, (np.arange(ringing.weight.shape[2]) * hop_frames(RATE) / RATE % 2.0) > 1.2]
    assert late.sum() < 0.05 * ringing.weight.sum()


@pytest.mark.parametrize(("under_db", "least", "most"), [(-20.0, -3.0, 0.0), (0.0, -20.0, -3.0), (20.0, -60.0, -30.0)])
def test_partial_loudness_falls_as_noise_comes_up(under_db, least, most):
    """A band of noise beside another: hardly softer 20 dB over it, clearly softer at one level, next to nothing 20 dB under it
    (the course of partial masking, B. Scharf 1964, from memory)."""
    own = Sound(m.at_db(m.band(m.noise(1), 900, 1300), -35.0))
    left = own.left_lu(Sound(m.at_db(m.band(m.noise(2), 600, 2000), -35.0 + under_db)))
    assert least <= left <= most


def test_nothing_is_lost_in_quiet(lead):
    assert lead.left_lu(Sound(np.zeros((2, m.N)))) == pytest.approx(0.0, abs=0.05)


def test_loudness_doubles_every_ten_db():
    """S. S. Stevens 1955, ISO 532-1 for 1 kHz over 40 phon: a factor of two for ten dB; a model of the ear's filters gives 1.6 to 2.2."""
    from zygotone.measure.masking import excitation, specific_loudness

    tone = np.sin(2 * np.pi * 1000.0 * m.T)
    sums = [
        specific_loudness(excitation(np.stack([x, x]), RATE))[:, 20:-20].sum()
        for x in (m.at_db(tone, level - SPL_DB) for level in (50.0, 60.0, 70.0, 80.0))
    ]
    assert all(1.6 <= b / a <= 2.2 for a, b in itertools.pairwise(sums))
