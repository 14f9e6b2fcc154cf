"""What the hand does to notes: laws over any notes, and a few cases a musician would check."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from zygotone.errors import ParameterError
from zygotone.music.keys import Key, parse_key
from zygotone.session import note_edits as edits
from zygotone.session.instruments import Note

PHRASE = 16.0
notes = st.builds(
    Note,
    start_beat=st.integers(0, 63).map(lambda n: n / 4),
    length_beats=st.integers(1, 16).map(lambda n: n / 4),
    pitch=st.integers(0, 127),
    velocity=st.integers(2, 100).map(lambda n: n / 100),
    nudge_ms=st.integers(-200, 200).map(float),
    macros=st.tuples(*[st.sampled_from((0.0, 0.5, 1.0))] * 4),
)
some = st.lists(notes, min_size=1, max_size=12)
keys = st.builds(Key, st.integers(0, 11), st.sampled_from(("major", "minor")))


@given(some, st.floats(-40, 40), st.integers(-200, 200))
def test_a_group_moves_as_one_and_stays_in_the_phrase(held, beats, semitones):
    new = edits.moved(held, beats, semitones, phrase_beats=PHRASE)
    assert all(0.0 <= n.start_beat < PHRASE and 0 <= n.pitch <= 127 for n in new)
    for old, now in zip(held, new, strict=True):
        assert now.pitch - new[0].pitch == old.pitch - held[0].pitch
        assert now.start_beat - new[0].start_beat == pytest.approx(old.start_beat - held[0].start_beat)
        assert now.replace(start_beat=0.0, pitch=0) == old.replace(start_beat=0.0, pitch=0)


@given(some)
def test_backwards_twice_is_what_it_was(held):
    again = edits.reversed_in_time(edits.reversed_in_time(held))
    assert [n.start_beat for n in again] == pytest.approx([n.start_beat for n in held])


@given(some, st.none() | keys)
def test_mirrored_keeps_the_span(held, key):
    new = edits.mirrored(held, key)
    assert all(0 <= n.pitch <= 127 for n in new)
    if key is None:
        assert {min(n.pitch for n in held), max(n.pitch for n in held)} == {
            min(n.pitch for n in new),
            max(n.pitch for n in new),
        }
        assert [n.pitch for n in edits.mirrored(new)] == [n.pitch for n in held]


def test_mirrored_in_the_key_stays_in_it():
    key = parse_key("F# minor")
    line = [Note(start_beat=b, length_beats=1, pitch=p) for b, p in enumerate((54, 56, 57, 61, 66))]
    new = edits.mirrored(line, key)
    assert {n.pitch % 12 for n in new} <= set(key.pitch_classes)
    assert [n.pitch for n in new] == [66, 64, 62, 59, 54]  # the same steps downwards: 2, 1, 2 and 3 of the scale


@given(st.integers(12, 110), st.integers(-7, 7), keys)
def test_steps_of_the_scale_lead_there_and_back(pitch, steps, key):
    there = key.moved(pitch, steps)
    if pitch % 12 in key.pitch_classes:
        assert there % 12 in key.pitch_classes
        assert key.moved(there, -steps) == pitch
        assert key.step_of(there) - key.step_of(pitch) == steps
    assert key.moved(pitch, 7) == pitch + 12  # seven steps are an octave


def test_a_third_up_in_c_major_is_large_or_small_as_the_scale_has_it():
    chord = [Note(start_beat=0, length_beats=1, pitch=p) for p in (60, 62, 64)]
    assert [n.pitch for n in edits.transposed_in_key(chord, 2, parse_key("C"))] == [64, 65, 67]


@given(some, st.floats(0.1, 4.0))
def test_stretched_is_in_proportion_or_refused(held, factor):
    first = min(n.start_beat for n in held)
    if first + factor * (max(n.start_beat for n in held) - first) > PHRASE - edits.SHORTEST:
        with pytest.raises(ParameterError, match="lengthen"):
            edits.stretched(held, factor, phrase_beats=PHRASE)
        return
    new = edits.stretched(held, factor, phrase_beats=PHRASE)
    for old, now in zip(held, new, strict=True):
        assert now.start_beat - first == pytest.approx(factor * (old.start_beat - first))


@given(some, st.floats(-1, 1))
def test_harder_keeps_the_differences(held, by):
    new = edits.harder(held, by)
    steps = [b.velocity - a.velocity for a, b in zip(held, new, strict=True)]
    assert np.ptp(steps) < 2e-4
    assert all(0.0199 <= n.velocity <= 1.0 for n in new)


@given(some, st.floats(-500, 500))
def test_nudges_stay_what_can_be_played(held, ms):
    new = edits.nudged(held, ms)
    assert all(-200.0 <= n.nudge_ms <= 200.0 for n in new)
    assert [n.start_beat for n in new] == [n.start_beat for n in held]


def test_a_sweep_draws_a_line_through_what_it_passes_and_nothing_else():
    line = tuple(Note(start_beat=b / 4, length_beats=0.25, pitch=60, velocity=0.5) for b in range(16))
    new = edits.swept(line, frozenset(), (3.0, 1.0), (1.0, 0.2))  # from right to left
    drawn = {n.start_beat: n.velocity for n in new}
    assert drawn[1.0] == 0.2
    assert drawn[2.0] == pytest.approx(0.6)
    assert drawn[3.0] == 1.0
    assert all(v == 0.5 for b, v in drawn.items() if not 1.0 <= b <= 3.0)
    only = edits.swept(line, frozenset({8}), (1.0, 0.2), (3.0, 1.0))
    assert [i for i, (a, b) in enumerate(zip(line, only, strict=True)) if a != b] == [8]


def test_weak_beats_of_four_and_of_seven():
    line = tuple(Note(start_beat=b / 2, length_beats=0.5, pitch=60) for b in range(8))
    assert edits.weak(line, beats_per_bar=4, bar_beats=4.0) == {
        1,
        2,
        3,
        5,
        6,
        7,
    }  # 1 and 3 are strong (common practice)
    assert edits.weak(line, beats_per_bar=7, bar_beats=3.5) == {1, 2, 3, 4, 5, 6}  # the next bar begins at 3.5


@settings(max_examples=40)
@given(some)
def test_rules_change_each_note_in_its_own_place(held):
    for change in (
        lambda n: edits.on_grid(n, 0.5), lambda n: edits.with_swing(n, 0.5, 0.5), lambda n: edits.as_strum(n, 24.0),
        lambda n: edits.with_feel(n, time_ms=6, velocity=0.05, seed=3), lambda n: edits.joined_up(n, phrase_beats=PHRASE),
    ):  # fmt: skip
        new = change(held)
        assert [(n.pitch, n.macros, n.wheel) for n in new] == [(n.pitch, n.macros, n.wheel) for n in held]


@given(st.lists(notes, min_size=1, max_size=8), st.data())
def test_only_the_chosen_change(held, data):
    held = tuple(held)
    chosen = data.draw(st.sets(st.integers(0, len(held) - 1)))
    new = edits.changed(held, chosen, lambda some: [n.replace(pitch=0) for n in some])
    assert all((new[i] == held[i]) or i in chosen for i in range(len(held)))
    assert all(new[i].pitch == 0 for i in chosen)


def test_a_copy_lands_on_the_grid_and_what_does_not_fit_is_left_out():
    riff = tuple(Note(start_beat=b, length_beats=0.4, pitch=60) for b in (0.0, 0.5, 1.25))
    new, chosen = edits.duplicated(riff, frozenset(range(3)), phrase_beats=4.0, grid_beats=0.5)
    assert [n.start_beat for n in new[3:]] == [2.0, 2.5, 3.25]
    assert chosen == {3, 4, 5}
    part, left = edits.pasted(new, riff, 3.0, phrase_beats=4.0)
    assert [n.start_beat for n in part[6:]] == [3.0, 3.5]  # the third would begin at 4.25
    assert left == {6, 7}
    with pytest.raises(ParameterError, match="no room after beat 4"):
        edits.pasted(riff, riff, 4.0, phrase_beats=4.0)
