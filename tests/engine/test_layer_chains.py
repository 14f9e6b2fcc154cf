"""Chains of single layers: what they listen to, how long they ring, and what becomes of them elsewhere."""

import numpy as np
import pytest

from tests.builders import device
from tests.signals import RATE
from zygotone.advise.hearing import Hearing
from zygotone.engine.graph import compile_session
from zygotone.engine.renderer import Renderer
from zygotone.errors import LoopError
from zygotone.session import edits
from zygotone.session.audio_store import AudioStore
from zygotone.session.models import InstrumentSource, Layer, Note, Part, Phrase, Section, Session, Song, Track
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
