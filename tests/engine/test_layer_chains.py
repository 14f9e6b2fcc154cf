"""Chains of single layers: what they listen to, how long they ring, and what becomes of them elsewhere."""

import numpy as np
import pytest

from tests.builders import device
from tests.signals import RATE
from zygotone.advise.hearing import Hearing
from zygotone.engine.graph import compile_session, layer_node
from zygotone.engine.renderer import Renderer
from zygotone.engine.stream import stream_nodes
from zygotone.errors import LoopError, ParameterError
from zygotone.reports.bounce_in_place import Bounce, BounceSpec
from zygotone.session import edits
from zygotone.session.audio_store import AudioStore
from zygotone.session.automation import Lane, Point
from zygotone.session.models import InstrumentSource, Layer, Note, Part, Phrase, Section, Session, Song, Track
from zygotone.session.project_file import Project, load_project, save_project
from zygotone.session.saved_sounds import SavedSound

HELD = {"attack_ms": 1, "sustain": 1.0, "release_ms": 30}


def layer(name: str, hz_up: int, *chain, shape: str = "sine", envelope: dict = HELD) -> Layer:
    sound = {"kind": "oscillator", "shape": shape}
    return Layer.model_validate({"id": name, "name": name, "sound": sound, "envelope": envelope, "transpose_semitones": hz_up, "chain": chain})  # fmt: skip


def track(name: str, *layers: Layer, notes: tuple[Note, ...]) -> Track:
    source = InstrumentSource(layers=layers, phrases=(Phrase(id="p", beats=4, notes=notes),))
    return Track(id=name.lower(), name=name, source=source, parts=(Part(section="a", phrase="p"),))


# At 60 BPM a bar of four seconds: the kick strikes on the second beat, the bass is held throughout.
KICK = track("Kick", layer("thump", 0), notes=(Note(start_beat=1, length_beats=0.5, pitch=40, velocity=1.0),))
SONG = Song(tempo_bpm=60, sections=(Section(id="a", name="A", bars=1),))
DUCK = device("ducker", "duck", key="kick", trigger="key", depth_db=-24.0, length_ms=300.0)


def bass(*chain) -> Track:
    return track("Bass", layer("sub", 0, *chain), layer("top", 24), notes=(Note(start_beat=0, length_beats=3.9, pitch=45, velocity=1.0),))  # fmt: skip


def session(*tracks: Track) -> Session:
    return Session(song=SONG, tracks=tracks)


def level_at(audio: np.ndarray, hz: float, at_s: float, width_s: float = 0.05) -> float:
    part = audio[0, round(at_s * RATE) : round((at_s + width_s) * RATE)]
    t = np.arange(len(part)) / RATE
    return float(
        20 * np.log10(2 * abs(np.mean(part * np.hanning(len(part)) * 2 * np.exp(-2j * np.pi * hz * t))) + 1e-9)
    )


def test_one_layer_gives_way_to_the_kick_and_the_other_does_not():
    audio = Renderer(AudioStore()).stem(session(KICK, bass(DUCK)), "bass")
    sub, top = ([level_at(audio, hz, at) for at in (0.5, 1.02, 2.0)] for hz in (110.0, 440.0))
    assert sub[1] < sub[0] - 6.0
    assert sub[2] == pytest.approx(sub[0], abs=0.1)
    assert top == pytest.approx([top[0]] * 3, abs=0.2)


def test_a_layer_alone_still_hears_the_kick():
    made = session(KICK, bass(DUCK))
    alone = Hearing(made, SONG.sections[0], Renderer(AudioStore())).layer("bass", "sub")
    assert level_at(alone, 110.0, 1.02) < level_at(alone, 110.0, 0.5) - 6.0


def test_layers_that_listen_to_each_other_in_a_circle_are_refused_by_name():
    kick = track("Kick", layer("thump", 0, device("gate", "g", key="bass")), notes=KICK.source.phrases[0].notes)
    with pytest.raises(LoopError, match=r"Bass → Kick → Bass|Kick → Bass → Kick"):
        compile_session(session(kick, bass(DUCK)))
    own = session(KICK, bass(device("gate", "g", key="bass")))
    with pytest.raises(LoopError, match="in a circle: Bass"):
        compile_session(own)


def test_a_layer_that_listens_to_nobody_known_is_refused():
    with pytest.raises(ValueError, match="listens to track 'kick', which does not exist"):
        session(bass(DUCK))


def test_when_the_kick_is_gone_the_layer_hears_itself():
    left = edits.remove_track(session(KICK, bass(DUCK)), "kick")
    left.check()
    assert left.track("bass").source.layers[0].chain[0].key is None


def test_a_saved_sound_listens_to_no_track():
    split = device("split", "s", branches=[{"devices": [DUCK.model_dump()]}])
    saved = SavedSound.of(bass(DUCK, split).source)
    inner = saved.layers[0].chain[1].params["branches"][0]["devices"][0]
    assert saved.layers[0].chain[0].key is None
    assert inner.key is None
    assert inner.params == DUCK.params


def test_the_reverb_of_a_layer_rings_out_after_the_song():
    space = device("reverb", "r", decay_s=2.0, mix=0.5)
    dry, wet = (Renderer(AudioStore()).tail_frames(session(bass(*chain))) for chain in ((), (space,)))
    assert wet - dry > 1.5 * RATE


# --- automation of a device in a layer's chain ---------------------------------------------------------------------


def falling(made: Session, low_db: float = -24.0) -> Session:
    """The gain in the sub's chain falls over the bar; a lane of the same name in the track's own chain would be another."""
    points = (Point(beat=0.0, value=0.0), Point(beat=4.0, value=low_db))
    lane = Lane(id="fall", strip="bass", layer="sub", device="trim", param="gain_db", section="a", points=points)
    return edits.put_lane(made, lane)


TRIM = device("gain", "trim", gain_db=0.0)


def test_a_device_of_a_layers_chain_is_automated_and_nothing_else():
    plain = session(bass(TRIM))
    audio = Renderer(AudioStore()).stem(falling(plain), "bass")
    before = Renderer(AudioStore()).stem(plain, "bass")
    for at in (0.5, 1.5, 2.5):
        middle = at + 0.025
        assert level_at(audio, 110.0, at) == pytest.approx(level_at(before, 110.0, at) - 6.0 * middle, abs=0.3)
        assert level_at(audio, 440.0, at) == pytest.approx(level_at(before, 440.0, at), abs=0.1)
    assert falling(plain).automated_range("bass", "gain_db", device="trim", layer="sub") == pytest.approx(
        (-24.0, 0.0), abs=0.1
    )
    assert falling(plain).automated_range("bass", "gain_db", device="trim") is None
    # Added to what is set there, where it is relative.
    lane = falling(plain).lanes[0].replace(relative=True, points=(Point(beat=0.0, value=-3.0),))
    louder = edits.put_lane(session(bass(TRIM.replace(params=TRIM.params.replace(gain_db=2.0)))), lane)
    assert level_at(Renderer(AudioStore()).stem(louder, "bass"), 110.0, 1.0) == pytest.approx(
        level_at(before, 110.0, 1.0) - 1.0, abs=0.1
    )


def test_the_same_in_any_blocks_and_alone():
    made = falling(session(bass(TRIM)))
    renderer = Renderer(AudioStore())
    whole = renderer.stem(made, "bass")
    got: list[np.ndarray] = []
    graph = compile_session(made)
    stream_nodes(
        renderer,
        graph,
        {"bass": graph.strip["bass"]},
        (0, whole.shape[1]),
        block_frames=777,
        sink=lambda _, b: got.append(b),
    )
    np.testing.assert_allclose(np.concatenate(got, axis=1), whole, atol=1e-9)
    node = layer_node(made, "bass", "sub")
    alone = renderer.take(compile_session(made), node, made.section_span("a")).audio
    assert level_at(alone, 110.0, 2.5) < level_at(alone, 110.0, 0.5) - 10.0


def test_a_lane_goes_with_its_device_and_one_to_nowhere_is_refused():
    made = falling(session(bass(TRIM)))
    assert edits.change_layer(made, "bass", "sub", chain=()).lanes == ()
    assert edits.remove_layer(made, "bass", "sub").lanes == ()
    assert edits.change_layer(made, "bass", "sub", chain=(DUCK_BY_ITSELF, TRIM)).lanes == made.lanes
    with pytest.raises(ParameterError, match="'sub' has no device 'nothing'"):
        edits.put_lane(made, made.lanes[0].replace(device="nothing"))
    with pytest.raises(ParameterError, match="has no layer"):
        edits.put_lane(made, made.lanes[0].replace(layer="nothing"))


DUCK_BY_ITSELF = device("compressor", "c")


def test_it_is_saved_bounced_and_played(tmp_path):
    made = falling(session(bass(TRIM)))
    save_project(tmp_path / "s.zygotone", Project(made))
    assert load_project(tmp_path / "s.zygotone").session.lanes == made.lanes
    # Dry is before the track's chain, and so with what moves within its layers.
    renderer = Renderer(AudioStore())
    bounced = Bounce(made, BounceSpec("bass", "a", "section", "dry")).answer(renderer, lambda: False)
    start = bounced.start_frame / RATE
    assert level_at(bounced.audio, 110.0, 2.5 - start) < level_at(bounced.audio, 110.0, 0.5 - start) - 10.0
