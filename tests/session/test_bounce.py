"""A bounce in the place of its original is heard as that was: the difference of both mixes."""

import numpy as np
import pytest

from tests.builders import device
from tests.signals import RATE, sine
from zygotone.engine.renderer import Renderer
from zygotone.errors import ParameterError
from zygotone.reports.bounce_in_place import Bounce, BounceSpec, prepared, with_bounce
from zygotone.session.audio_files import AudioData
from zygotone.session.audio_store import AudioStore
from zygotone.session.automation import Lane, Point
from zygotone.session.edits import add_bus, change_strip, insert_device, put_lane, set_send
from zygotone.session.instruments import InstrumentSource, Layer, Note, Phrase
from zygotone.session.models import ClipSource, Part, Section, Session, Song, Track


def a_song(**bass) -> Session:
    """Three bars of a plucked bass beside a tone: nudged early, with notes that ring over the ends of sections."""
    layer = Layer.model_validate(
        {"id": "a", "name": "A", "sound": {"kind": "oscillator"}, "envelope": {"release_ms": 600.0}}
    )
    notes = (
        Note(start_beat=0, length_beats=0.5, pitch=40, nudge_ms=-30.0),
        Note(start_beat=3.5, length_beats=0.5, pitch=47),
    )
    source = InstrumentSource(layers=(layer,), phrases=(Phrase(id="p", beats=4, notes=notes),))
    song = Song(tempo_bpm=120, sections=tuple(Section(id=i, name=i.upper(), bars=1) for i in "abc"))
    parts = tuple(Part(section=s, phrase="p") for s in "abc")
    track = Track(
        id="bass", name="Bass", role="bass", source=source, parts=parts, nudge_ms=-5.0, level_db=-6.0, pan_pct=20.0
    )
    session = Session(rate_hz=RATE, song=song, tracks=(track.replace(**bass),))
    session = set_send(add_bus(session, "Room"), "bass", "room", level_db=-6.0)
    return insert_device(session, "room", device("delay", "d", mix=1.0, time="1/8", feedback=0.3))


def bounced(session: Session, **more) -> tuple[Session, str, Renderer]:
    spec = BounceSpec("bass", more.pop("section", "b"), **more)
    store = AudioStore()
    renderer = Renderer(store)
    found = Bounce(session, spec).answer(renderer, lambda: False)
    asset = store.add(AudioData(found.audio, RATE, "FLOAT", "WAV"), "bounce", RATE)
    made, new = with_bounce(session, spec, found, asset)
    return made, new, renderer


def difference_db(before: Session, after: Session, renderer: Renderer) -> float:
    a, b = renderer.mix(before), renderer.mix(after)
    return 20.0 * np.log10(np.max(np.abs(a - b)) / np.max(np.abs(a)) + 1e-12)


@pytest.mark.parametrize("span", ["track", "section"])
@pytest.mark.parametrize("how", ["dry", "chain", "sends"])
@pytest.mark.parametrize("as_sample", [False, True])
def test_it_sounds_as_it_did(span, how, as_sample):
    cut = {"shape": "high_shelf", "freq_hz": 900.0, "gain_db": -9.0}
    session = insert_device(a_song(), "bass", device("eq", "e", bands=[cut]))
    lane = Lane(id="s", strip="bass", param="level_db", points=(Point(beat=0, value=-12.0), Point(beat=12, value=0.0)))
    session = put_lane(session, lane)
    made, new, renderer = bounced(session, span=span, how=how, as_sample=as_sample)
    # What ends 100 dB under the loudest is cut off; and a sampler that starts on a whole frame and fades within a tenth of a millisecond.
    assert difference_db(session, made, renderer) < (-50.0 if as_sample else -85.0)
    assert made.track("bass").mute == (span == "track")
    assert [t.id for t in made.tracks] == ["bass", new]


def test_a_ducker_in_the_chain_still_hears_its_key():
    session = a_song()
    kick = session.track("bass").replace(id="kick", name="Kick", role="kick", sends=(), nudge_ms=0.0)
    session = session.replace(tracks=(kick, *session.tracks))
    session = insert_device(session, "bass", device("compressor", "c", key="kick", threshold_db=-50.0, ratio=20.0))
    made, _, renderer = bounced(session, how="chain")
    assert difference_db(session, made, renderer) < -35.0  # its gain comes from before the section into it
    plain = insert_device(a_song(), "bass", device("gain", "g"))
    assert difference_db(session, plain.replace(tracks=(kick, *plain.tracks)), renderer) > -30.0  # the ducker is heard


def test_backwards_it_ends_where_the_section_begins():
    session = a_song()
    made, new, renderer = bounced(session, section="c", span="bar", how="sends", reverse=True, before=True)
    assert not made.track("bass").mute
    swell = np.max(np.abs(renderer.stem(made, new)), axis=0)
    entry = 4 * RATE
    sounding = np.flatnonzero(swell > 1e-4)
    assert sounding[-1] == pytest.approx(entry, abs=RATE * 0.01)
    loud = [np.max(swell[entry - RATE // 4 : entry]), np.max(swell[entry - RATE : entry - RATE // 2])]
    assert loud[0] > loud[1]  # it grows towards the entry
    forward = Bounce(session, BounceSpec("bass", "c", "bar", "sends")).answer(renderer, lambda: False).audio
    back = Bounce(session, BounceSpec("bass", "c", "bar", "sends", reverse=True)).answer(renderer, lambda: False).audio
    np.testing.assert_array_equal(back, forward[:, ::-1])


def test_a_swell_longer_than_what_is_before_it_is_cut_at_its_beginning():
    made, new, renderer = bounced(a_song(), section="b", span="track", reverse=True, before=True)
    part = made.track(new).parts[0]
    assert part.start_beat == 0.0
    assert part.clip_start_s > 1.0
    swell = np.max(np.abs(renderer.stem(made, new)), axis=0)
    assert np.flatnonzero(swell > 1e-4)[-1] < 2.02 * RATE


def test_a_phrase_is_bounced_once_and_goes_on():
    session = change_strip(a_song(), "bass", parts=(Part(section="a", phrase="p"), Part(section="b", phrase="p")))
    found = Bounce(session, BounceSpec("bass", "a", "phrase")).answer(Renderer(AudioStore()), lambda: False)
    assert found.audio.shape[1] < 3.2 * RATE
    made, _, _ = bounced(session, section="a", span="phrase")
    assert made.track("bass").parts == session.track("bass").parts


def test_a_clip_that_plays_throughout_is_bounced_in_a_section():
    store = AudioStore()
    asset = store.add(AudioData(sine(220.0, 6.0, level_db=-12), RATE, "FLOAT", "WAV"), "tone", RATE)
    song = Song(tempo_bpm=120, sections=tuple(Section(id=i, name=i.upper(), bars=1) for i in "abc"))
    session = Session(rate_hz=RATE, song=song, assets=(asset,), tracks=(Track(id="bass", name="Bass", source=ClipSource(asset=asset.id)),))  # fmt: skip
    found = Bounce(session, BounceSpec("bass", "b")).answer(Renderer(store), lambda: False)
    assert found.audio.shape[1] >= 2 * RATE


def test_silence_and_what_is_not_there_are_refused_in_words():
    silent = a_song(parts=())
    with pytest.raises(ParameterError, match="nothing sounds there"):
        Bounce(silent, BounceSpec("bass", "b")).answer(Renderer(AudioStore()), lambda: False)
    with pytest.raises(ParameterError, match="plays no phrase in 'B'"):
        Bounce(silent, BounceSpec("bass", "b", "phrase")).answer(Renderer(AudioStore()), lambda: False)
    assert prepared(a_song(), BounceSpec("bass", "b", "section", "dry")).track("bass").chain == ()
