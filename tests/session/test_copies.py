"""Copies of tracks, devices, layers and lanes, in one session and from one to another through the clipboard's text."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.builders import device
from tests.signals import RATE, sine
from zygotone.engine.renderer import Renderer
from zygotone.errors import ParameterError
from zygotone.factory import factory_sounds
from zygotone.session import clipboard, copies
from zygotone.session.audio_files import AudioData
from zygotone.session.audio_store import AudioStore
from zygotone.session.automation import Lane, Point
from zygotone.session.edits import add_asset, add_bus, set_send
from zygotone.session.instruments import InstrumentSource, Layer, Note, Phrase
from zygotone.session.models import Bus, ClipSource, Part, Section, Session, Song, Track


def an_instrument(**more) -> InstrumentSource:
    layer = Layer.model_validate({"id": "a", "name": "A", "sound": {"kind": "oscillator"}, **more})
    notes = tuple(Note(start_beat=b, length_beats=0.5, pitch=45 + b) for b in range(4))
    return InstrumentSource(layers=(layer,), phrases=(Phrase(id="p", beats=4, notes=notes),))


@pytest.fixture
def session() -> Session:
    song = Song(tempo_bpm=120, sections=(Section(id="a", name="A", bars=1), Section(id="b", name="B", bars=1)))
    tracks = (
        Track(id="kick", name="Kick", role="kick", source=an_instrument(), parts=(Part(section="a", phrase="p"),)),
        Track(
            id="bass", name="Bass", role="bass", source=an_instrument(chain=[device("compressor", "c", key="kick").model_dump()]),
            parts=(Part(section="a", phrase="p"), Part(section="b", phrase="p")),
            chain=(device("ducker", "duck", key="kick"), device("filter", "f")),
        ),
    )  # fmt: skip
    made = add_bus(Session(rate_hz=RATE, song=song, tracks=tracks), "Room")
    made = set_send(made, "bass", "room", level_db=-6.0)
    lane = Lane(id="cut", strip="bass", device="f", param="cutoff_hz", points=(Point(beat=0, value=300.0), Point(beat=4, value=3000.0)))  # fmt: skip
    return made.replace(lanes=(lane,))


def heard(session: Session, strip: str) -> np.ndarray:
    return Renderer(AudioStore()).stem(session, strip)


def test_a_duplicate_sounds_as_its_original_and_has_its_automation(session):
    after, copy = copies.duplicate_track(session, "bass")
    assert [t.id for t in after.tracks] == ["kick", "bass", copy]
    assert after.track(copy).name == "Bass 2"
    np.testing.assert_array_equal(heard(after, copy), heard(session, "bass"))
    assert {(lane.strip, lane.param) for lane in after.lanes} == {("bass", "cutoff_hz"), (copy, "cutoff_hz")}


def test_a_duplicate_in_one_section_only(session):
    after, copy = copies.duplicate_track(session, "bass", only_in="b")
    bar, whole = 2 * RATE, heard(after, copy)
    assert np.max(np.abs(whole[:, : bar - 100])) == 0.0
    assert np.max(np.abs(whole[:, bar:])) > 0.01
    bare, empty = copies.duplicate_track(session, "bass", notes=False)
    assert bare.track(empty).parts == ()
    assert bare.track(empty).chain == session.track("bass").chain


def test_a_clip_track_in_one_section_only_does_not_play_throughout():
    song = Song(tempo_bpm=120, sections=(Section(id="a", name="A", bars=1), Section(id="b", name="B", bars=1)))
    store = AudioStore()
    asset = store.add(AudioData(sine(220.0, 4.0), RATE, "FLOAT", "WAV"), "tone", RATE)
    session = Session(rate_hz=RATE, song=song, assets=(asset,), tracks=(Track(id="t", name="T", source=ClipSource(asset=asset.id)),))  # fmt: skip
    here, copy = copies.duplicate_track(session, "t", only_in="b")
    audio = Renderer(store).stem(here, copy)
    assert np.max(np.abs(audio[:, : 2 * RATE - 500])) == 0.0
    assert np.max(np.abs(audio[:, 2 * RATE :])) > 0.5
    bare, silent = copies.duplicate_track(session, "t", notes=False)
    assert bare.track(silent).mute


def test_a_copy_elsewhere_listens_to_and_feeds_only_what_is_there(session):
    other = Session(rate_hz=RATE, song=Song(sections=(Section(id="b", name="B", bars=4),)))
    made, copy = copies.paste_track(other, session.track("bass"), session.lanes)
    track = made.track(copy)
    assert track.sends == ()
    assert [d.key for d in track.chain] == [None, None]
    assert track.source.layers[0].chain[0].key is None
    assert [p.section for p in track.parts] == ["b"]
    assert len(made.lanes) == 1
    within, _ = copies.paste_track(session, session.track("bass"))
    assert within.tracks[-1].chain[0].key == session.track("bass").chain[0].key


def test_devices_get_ids_of_their_own_and_stand_where_they_are_put(session):
    chain = session.track("bass").chain
    made, ids = copies.paste_devices(session, "bass", chain, 1)
    assert [d.kind for d in made.track("bass").chain] == ["ducker", "ducker", "filter", "filter"]
    assert len({d.id for d in made.track("bass").chain}) == 4
    assert len(ids) == 2


def test_a_chain_moves_with_its_automation(session):
    moved = copies.bring_chain(session, "bass", "room", moves=True)
    assert moved.track("bass").chain == ()
    assert [d.kind for d in moved.strip("room").chain] == ["ducker", "filter"]
    assert [(lane.strip, lane.device) for lane in moved.lanes] == [("room", moved.strip("room").chain[1].id)]
    copied = copies.bring_chain(session, "bass", "room")
    assert copied.track("bass").chain == session.track("bass").chain
    assert {lane.strip for lane in copied.lanes} == {"bass", "room"}


def test_a_new_track_is_silent_and_sits_where_its_role_does(session):
    made, new = copies.new_track(session, "lead", after="kick")
    assert [t.id for t in made.tracks] == ["kick", new, "bass"]
    assert made.track(new).seat == 1
    assert np.max(np.abs(heard(made, new)), initial=0.0) == 0.0
    sound = next(s for s in factory_sounds() if s.role == "bass")
    with_sound, name = copies.new_track(session, "bass", sound, name=sound.name)
    assert with_sound.track(name).source.layers == sound.layers


@given(st.sets(st.integers(0, 5)), st.integers(0, 6))
def test_tracks_are_moved_together_and_none_is_lost(chosen, to):
    song = Song(sections=(Section(id="a", name="A", bars=1),))
    tracks = tuple(Track(id=f"t{i}", name=f"T{i}", source=InstrumentSource(layers=())) for i in range(6))
    session = Session(song=song, tracks=tracks)
    moved = copies.move_tracks(session, [f"t{i}" for i in chosen], to)
    ids = [t.id for t in moved.tracks]
    assert sorted(ids) == [f"t{i}" for i in range(6)]
    assert [i for i in ids if int(i[1]) in chosen] == [f"t{i}" for i in sorted(chosen)]
    assert [i for i in ids if int(i[1]) not in chosen] == [f"t{i}" for i in range(6) if i not in chosen]


def test_a_movement_taken_over_keeps_values_or_their_place_on_the_ruler(session):
    cutoff = session.lanes[0]
    here = session.lane_param(cutoff)
    level = Lane(id="l", strip="bass", param="level_db")
    there = session.lane_param(level)
    moved = copies.moved_as(level, there, cutoff, here)
    assert [there.position_of(p.value) for p in moved.points] == pytest.approx([here.position_of(p.value) for p in cutoff.points])  # fmt: skip
    again = copies.moved_as(cutoff.replace(points=()), here, cutoff, here)
    assert again.points == cutoff.points


# --- the clipboard -------------------------------------------------------------------------------------------------


def whats(session: Session) -> list[clipboard.What]:
    track = session.track("bass")
    return [
        clipboard.CopiedNotes(notes=track.source.phrases[0].notes), clipboard.CopiedPhrase(phrase=track.source.phrases[0]),
        clipboard.CopiedDevices(devices=track.chain), clipboard.CopiedLayers(layers=track.source.layers),
        clipboard.CopiedTrack(track=track, lanes=session.lanes), clipboard.CopiedLane(lane=session.lanes[0], unit="Hz"),
    ]  # fmt: skip


def test_all_that_is_copied_comes_back_from_its_text(session):
    for what in whats(session):
        found = clipboard.from_text(clipboard.as_text(what, session, AudioStore()))
        assert found is not None
        assert found.what == what


@pytest.mark.parametrize("text", ["", "hello", "{}", '{"a": 1}', "[1, 2]"])
def test_text_of_others_is_nothing_to_paste(text):
    assert clipboard.from_text(text) is None


@pytest.mark.parametrize(
    "text",
    [
        '{"zygotone": 1', '{"zygotone": 1}', '{"zygotone": 2, "what": {"type": "notes", "notes": []}}',
        '{"zygotone": 1, "what": {"type": "notes", "notes": [{"start_beat": -1, "length_beats": 1, "pitch": 60}]}}',
        '{"zygotone": 1, "what": {"type": "devices", "devices": [{"kind": "eval"}]}}',
        '{"zygotone": 1, "what": {"type": "devices", "devices": []}}', '{"zygotone": 1, "what": ' + "[" * 5000,
    ],
)  # fmt: skip
def test_text_that_lies_is_refused_in_words(text):
    with pytest.raises(ParameterError, match="clipboard cannot be pasted"):
        clipboard.from_text(text)


@pytest.mark.parametrize("rate", [RATE, 44100])
def test_clips_go_along_into_another_project_and_sound_the_same(rate):
    store, other_store = AudioStore(), AudioStore()
    song = Song(tempo_bpm=120, sections=(Section(id="a", name="A", bars=1),))
    asset = store.add(AudioData(sine(220.0, 1.0)[:1], RATE, "FLOAT", "WAV"), "tone", RATE)
    session = add_asset(Session(rate_hz=RATE, song=song), asset)
    track = Track(id="t", name="T", source=ClipSource(asset=asset.id), parts=(Part(section="a", clip=asset.id, clip_start_s=0.0),))  # fmt: skip
    session = session.replace(tracks=(track,))
    text = clipboard.as_text(clipboard.CopiedTrack(track=track), session, store)
    copied = clipboard.from_text(text)
    assert copied is not None
    other, what = clipboard.with_clips(Session(rate_hz=rate, song=song), copied, other_store)
    made, name = copies.paste_track(other, what.track)
    audio = Renderer(other_store).stem(made, name)
    want = np.sin(2 * np.pi * 220.0 * np.arange(rate) / rate) * np.max(np.abs(sine(220.0, 1.0)))
    inner = slice(1000, rate - 2000)
    assert np.max(np.abs(audio[0, inner] - want[inner])) < 2e-4
    bare = copied.replace(clips=())
    with pytest.raises(ParameterError, match="too long for the clipboard"):
        clipboard.with_clips(Session(rate_hz=rate, song=song), bare, AudioStore())
    lying = copied.replace(clips=(copied.clips[0].replace(flac="AAAA"),))
    with pytest.raises(ParameterError, match="cannot be read"):
        clipboard.with_clips(Session(rate_hz=rate, song=song), lying, AudioStore())


def test_a_bus_is_no_track(session):
    assert isinstance(session.strip("room"), Bus)
    with pytest.raises(ParameterError, match="no track 'room'"):
        copies.duplicate_track(session, "room")


def test_a_move_is_given_to_the_same_device_of_others_or_refused(session):
    other = copies.duplicate_track(session, "bass")[0]
    bare = other.replace(lanes=session.lanes)
    given = copies.give_lane(bare, "cut", ["bass-2"])
    assert [(lane.strip, lane.device, lane.points) for lane in given.lanes[1:]] == [
        ("bass-2", "f", session.lanes[0].points)
    ]
    with pytest.raises(ParameterError, match="'Kick' has no such device"):
        copies.give_lane(bare, "cut", ["kick"])
    with pytest.raises(ParameterError, match="automated on 'Bass 2' already"):
        copies.give_lane(given, "cut", ["bass-2"])
