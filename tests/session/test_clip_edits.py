"""Edits of audio in the song, judged by what is heard."""

import numpy as np
import pytest

from tests.signals import RATE, sine
from zygotone.dsp.onsets import onsets
from zygotone.engine.renderer import Renderer
from zygotone.errors import ParameterError
from zygotone.session import clip_edits as edits
from zygotone.session.audio_files import AudioData
from zygotone.session.audio_store import AudioStore
from zygotone.session.models import ClipSource, Part, Section, Session, Song, Track

BEAT = RATE // 2  # frames at 120 BPM


def hits(count: int = 8) -> np.ndarray:
    """A loop of plucked tones, one a beat, each of another pitch."""
    out = np.zeros(count * BEAT)
    t = np.arange(BEAT) / RATE
    for n in range(count):
        out[n * BEAT : (n + 1) * BEAT] = 0.5 * np.sin(2 * np.pi * (220.0 + 40.0 * n) * t) * np.exp(-8.0 * t)
    return np.array([out, out])


def song(audio: np.ndarray, *parts: Part, **source) -> tuple[Session, Renderer]:
    store = AudioStore()
    asset = store.add(AudioData(audio, RATE, "FLOAT", "WAV"), "loop", RATE)
    sections = tuple(Section(id=i, name=i.upper(), bars=1) for i in "abc")
    track = Track(id="t", name="T", source=ClipSource(asset=asset.id, **source), parts=parts)
    return Session(
        rate_hz=RATE, song=Song(tempo_bpm=120, sections=sections), tracks=(track,), assets=(asset,)
    ), Renderer(store)


def heard(session: Session, renderer: Renderer, track: str = "t") -> np.ndarray:
    return renderer.stem(session, track)


@pytest.mark.parametrize(
    ("parts", "source"),
    [((), {}), ((), {"start_s": 0.75, "gain_db": -3.0}), ((Part(section="b"),), {}), ((Part(section="a"), Part(section="c")), {"start_s": 1.0}), ((), {"loop": True})],
)  # fmt: skip
def test_parts_of_their_own_are_heard_as_before(parts, source):
    session, renderer = song(hits(), *parts, **source)
    made = edits.with_parts_of_their_own(session, "t")
    assert all(part.clip_start_s is not None for part in made.track("t").parts)
    before, after = heard(session, renderer), heard(made, renderer)
    # Where a part that ran along fades in over the 5 ms before it, one of its own begins at once.
    edge = np.ones(before.shape[1], dtype=bool)
    for part in made.track("t").parts:
        for beat in part.span_beats(made.song.beats_of(part.section)):
            edge[max(0, round(beat * BEAT) - 400) : round(beat * BEAT) + 400] = False
    np.testing.assert_allclose(after[:, edge], before[:, edge], atol=1e-6)


def test_what_is_cut_plays_on_as_it_did():
    session, renderer = song(hits())
    cut = edits.split_part(session, "t", 0, 3.25)
    assert len(cut.track("t").parts) == 2
    before, after = heard(session, renderer), heard(cut, renderer)
    away = np.abs(np.arange(before.shape[1]) - 3.25 * BEAT) > 200
    away[8 * BEAT - 100 : 8 * BEAT] = False  # a part of its own fades at the clip's end
    np.testing.assert_allclose(after[:, away], before[:, away], atol=1e-6)
    with pytest.raises(ParameterError, match="cannot be cut at 9"):
        edits.split_part(session, "t", 0, 9.0)


def test_trimmed_at_its_start_the_rest_stays_where_it_was():
    session, renderer = song(hits())
    made = edits.trim_start(session, "t", 0, 1.5)
    before, after = heard(session, renderer), heard(made, renderer)
    assert np.max(np.abs(after[:, : round(1.5 * BEAT) - 10])) == 0.0
    rest = slice(2 * BEAT, 8 * BEAT - 100)
    np.testing.assert_allclose(after[:, rest], before[:, rest], atol=1e-6)
    back = edits.trim_start(made, "t", 0, -9.0)  # no further than to the clip's beginning
    np.testing.assert_allclose(heard(back, renderer)[:, rest], before[:, rest], atol=1e-6)


def test_a_copy_follows_at_once_and_the_last_one_gone_is_silence():
    session, renderer = song(hits(4))
    made, at = edits.duplicate_part(session, "t", 0)
    both = heard(made, renderer)
    np.testing.assert_allclose(both[:, 4 * BEAT : 8 * BEAT - 200], both[:, : 4 * BEAT - 200], atol=1e-6)
    gone = edits.remove_part(edits.remove_part(made, "t", at), "t", 0)
    assert gone.track("t").mute


@pytest.mark.parametrize(("beats", "expected"), [(12.0, 1.5), (6.0, 0.75)])
def test_fitted_to_bars_the_hits_fall_on_the_new_beats_at_the_same_pitch(beats, expected):
    session, renderer = song(hits(8))
    made = edits.fit_to_beats(session, "t", 0, beats)
    assert made.track("t").parts[0].stretch == pytest.approx(expected)
    audio = heard(made, renderer)
    found = onsets(audio[:, : round(beats * BEAT)], RATE) / BEAT
    wanted = np.arange(8) * expected
    assert len(found) == 8
    np.testing.assert_allclose(found, wanted, atol=0.06)  # 30 ms
    for n in (1, 4, 6):
        some = audio[0, round(wanted[n] * BEAT) + 1500 : round(wanted[n] * BEAT) + 1500 + 8192]
        peak = np.argmax(np.abs(np.fft.rfft(some * np.hanning(8192), 1 << 17))) * RATE / (1 << 17)
        assert 1200 * np.log2(peak / (220.0 + 40.0 * n)) == pytest.approx(0.0, abs=15.0)
    with pytest.raises(ParameterError, match="a quarter to four times"):
        edits.fit_to_beats(session, "t", 0, 40.0)


def test_a_stretched_tone_keeps_its_level():
    session, renderer = song(sine(330.0, 2.0, level_db=-12))
    made = edits.change_part(session, "t", 0, stretch=1.5, length_beats=6.0)
    middle = heard(made, renderer)[0, RATE : 2 * RATE]
    assert 20 * np.log10(np.max(np.abs(middle))) == pytest.approx(-12.0, abs=1.0)


def test_slices_are_the_part_again_note_by_note():
    audio = hits()
    session, renderer = song(audio)
    found = onsets(audio, RATE) / BEAT
    made, new = edits.slices(session, "t", 0, found.tolist())
    track = made.track(new)
    assert len(track.source.phrases[0].notes) == 8
    assert made.track("t").mute
    before, after = heard(session, renderer), heard(made, renderer, new)
    error = np.sqrt(np.mean((after[:, : 8 * BEAT] - before[:, : 8 * BEAT]) ** 2))
    assert 20 * np.log10(error / np.sqrt(np.mean(before**2))) < -30.0  # only where slices meet
    notes = track.source.phrases[0].notes
    swapped = notes[0].replace(macros=notes[3].macros), *notes[1:]
    from zygotone.session.edits import put_phrase

    other = put_phrase(made, new, track.source.phrases[0].replace(notes=swapped))
    first = heard(other, renderer, new)[0, 200:8392]
    peak = np.argmax(np.abs(np.fft.rfft(first * np.hanning(8192), 1 << 16))) * RATE / (1 << 16)
    assert peak == pytest.approx(340.0, abs=6.0)  # the fourth slice's tone


def test_what_cannot_be_done_is_said():
    session, _ = song(hits(), Part(section="a", clip_start_s=0.0, loop=True))
    with pytest.raises(ParameterError, match="bounced first, then sliced"):
        edits.slices(session, "t", 0, [1.0])
    session, _ = song(hits())
    with pytest.raises(ParameterError, match="no hits"):
        edits.slices(session, "t", 0, [])
    with pytest.raises(ValueError, match="more than can be done at once"):
        Part(section="a", clip_start_s=0.0, stretch=4.0, transpose_semitones=5)


def with_take_of(session: Session, renderer: Renderer, audio: np.ndarray, start: int, **where):
    asset = renderer.store.add(AudioData(audio, RATE, "FLOAT", "WAV"), "take", RATE)
    return edits.with_take(session, asset, start, **where)


def test_a_take_is_heard_where_it_was_sung_on_a_track_of_its_own():
    session, renderer = song(hits())
    sung = np.vstack([sine(700.0, 1.5, level_db=-20)] * 2)[:2]
    start = 4 * BEAT + 1234
    made, track = with_take_of(session, renderer, sung, start, after="t")
    assert [t.id for t in made.tracks] == ["t", track]
    assert (made.track(track).role, made.track(track).parts[0].section) == ("voice", "b")
    audio = heard(made, renderer, track)
    edge = 400  # a part fades in and out over a few ms
    np.testing.assert_allclose(audio[:, start + edge : start + sung.shape[1] - edge], sung[:, edge:-edge], atol=1e-4)
    assert np.max(np.abs(audio[:, : start - edge])) < 1e-6
    assert np.max(np.abs(audio[:, start + sung.shape[1] + edge :])) < 1e-6
    np.testing.assert_array_equal(heard(made, renderer), heard(session, renderer))
    # One that reaches into the next section belongs to the song.
    over, track = with_take_of(session, renderer, sung, 7 * BEAT)
    assert over.track(track).parts[0].section is None
    assert np.max(np.abs(heard(over, renderer, track)[:, 8 * BEAT + 2000 :])) > 0.05


@pytest.mark.parametrize("start_beat", [0.0, 1.5, 6.25])
def test_a_take_comes_in_the_place_of_what_was_played(start_beat):
    session, renderer = song(hits())
    sung = np.vstack([sine(3000.0, 0.8, level_db=-20)] * 2)[:2]
    start, n = round(start_beat * BEAT), sung.shape[1]
    made, track = with_take_of(session, renderer, sung, start, onto="t")
    assert track == "t"
    audio, before, edge = heard(made, renderer), heard(edits.with_parts_of_their_own(session, "t"), renderer), 400
    np.testing.assert_allclose(audio[:, start + edge : start + n - edge], sung[:, edge:-edge], atol=1e-4)
    np.testing.assert_allclose(audio[:, : max(0, start - edge)], before[:, : max(0, start - edge)], atol=1e-6)
    np.testing.assert_allclose(audio[:, start + n + edge :], before[:, start + n + edge :], atol=1e-6)


@pytest.mark.parametrize("bpm", [92.0, 97.3, 133.7])
def test_a_take_of_a_whole_section_is_that_sections(bpm):
    session, renderer = song(hits())
    session = session.replace(song=session.song.replace(tempo_bpm=bpm))
    start, end = session.section_span("b")
    made, track = with_take_of(session, renderer, np.full((2, end - start), 0.1), start)
    (part,) = made.track(track).parts
    assert (part.section, part.start_beat) == ("b", 0.0)


def test_a_take_over_what_cannot_be_cut_is_refused_and_a_silent_track_is_heard_again():
    sung = np.vstack([sine(3000.0, 0.8, level_db=-20)] * 2)[:2]
    session, renderer = song(hits(), Part(section="a", clip_start_s=0.0, reverse=True, loop=False))
    with pytest.raises(ParameterError, match="cannot be cut"):
        with_take_of(session, renderer, sung, BEAT, onto="t")
    silent = edits.remove_part(session, "t", 0)
    made, _ = with_take_of(silent, renderer, sung, BEAT, onto="t")
    audio = heard(made, renderer)
    assert np.max(np.abs(audio[:, : BEAT - 400])) == 0.0
    assert np.max(np.abs(audio[:, BEAT:])) > 0.05
