"""Several layers changed by one move: numbers by as much, all else alike, nothing that is not there."""

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.builders import device
from tests.signals import RATE
from zygotone.errors import ParameterError
from zygotone.session.edits import change_layer, layer_of
from zygotone.session.instruments import (  # fmt: skip
    Envelope,
    InstrumentSource,
    Layer,
    Lfo,
    Route,
    VoiceFilter,
    layer_params,
    layer_value,
    with_layer_value,
)
from zygotone.session.layer_edits import changed_likewise, with_likewise
from zygotone.session.models import Section, Session, Song, Track


def layer(name: str, kind: str = "oscillator", **more) -> Layer:
    sound = {"kind": kind, **more.pop("sound", {})}
    return Layer.model_validate({"id": name, "name": name.upper(), "sound": sound, **more})


def session(*layers: Layer) -> Session:
    song = Song(sections=(Section(id="a", name="A", bars=1),))
    return Session(rate_hz=RATE, song=song, tracks=(Track(id="t", name="T", source=InstrumentSource(layers=layers)),))


def changed(*layers: Layer, **changes) -> list[Layer]:
    """All, after the first was changed with all others."""
    first, *rest = layers
    before = session(*layers)
    after = change_layer(before, "t", first.id, **changes)
    made = with_likewise(before, after, "t", first.id, [each.id for each in rest])
    return [layer_of(made, "t", each.id) for each in layers]


def test_numbers_move_by_as_much_and_ratios_by_as_many_octaves():
    one = layer("one", level_db=-6.0, filter=VoiceFilter(cutoff_hz=1000.0))
    two = layer("two", level_db=-20.0, filter=VoiceFilter(cutoff_hz=300.0, mode="highpass"))
    a, b = changed(one, two, level_db=-3.0)
    assert (a.level_db, b.level_db) == (-3.0, -17.0)
    _, b = changed(one, two, filter=one.filter.replace(cutoff_hz=2000.0))
    assert b.filter.cutoff_hz == pytest.approx(600.0)
    assert b.filter.mode == "highpass"  # that was not touched
    _, b = changed(one, two, envelope=Envelope(attack_ms=8.0))
    assert b.envelope == Envelope(attack_ms=8.0)


def test_they_stop_at_the_ends_of_their_ranges():
    _, b = changed(layer("one", level_db=-30.0), layer("two", level_db=20.0), level_db=-6.0)
    assert b.level_db == 24.0
    _, b = changed(layer("one", transpose_semitones=0), layer("two", transpose_semitones=40), transpose_semitones=12)
    assert b.transpose_semitones == 48
    assert isinstance(b.transpose_semitones, int)


def test_all_else_is_set_alike_and_names_and_keys_are_not():
    _, b = changed(layer("one"), layer("two"), name="New", mute=True, polarity=True, output="direct", key_low=40)
    assert (b.name, b.key_low) == ("TWO", 0)
    assert (b.mute, b.polarity, b.output) == (True, True, "direct")
    _, b = changed(layer("one"), layer("two", filter=VoiceFilter(mode="notch")), filter=VoiceFilter(cutoff_hz=500.0))
    assert b.filter.cutoff_hz == 500.0
    _, b = changed(
        layer("one", lfos=(Lfo(rate=2.0), Lfo())),
        layer("two", lfos=(Lfo(rate="1/4"), Lfo())),
        lfos=(Lfo(rate="1/8"), Lfo()),
    )
    assert b.lfos[0].rate == "1/8"


def test_what_is_not_there_is_left_alone():
    one = layer("one", sound={"shape": "saw"})
    noise = layer("two", "noise")
    assert changed(one, noise, sound={"shape": "sine"})[1] == noise
    saw = layer("three", sound={"shape": "saw", "detune_cents": 20.0})
    _, b = changed(one, saw, sound={"detune_cents": 5.0 + one.sound.params["detune_cents"]})
    assert b.sound.params["detune_cents"] == pytest.approx(25.0)
    assert b.sound.params["shape"] == "saw"


def test_routes_and_devices_come_and_go_together():
    route = Route(source="velocity", target="filter.cutoff_hz", amount=1.0)
    mine = Route(source="lfo1", target="pitch", amount=0.2)
    one, two = layer("one", filter=VoiceFilter()), layer("two", filter=VoiceFilter(), routes=(mine,))
    bare = layer("bare")
    a, b, c = changed(one, two, bare, routes=(route,))
    assert b.routes == (mine, route)
    assert c.routes == ()  # it has no filter
    assert changed(a, b, routes=())[1].routes == (mine,)
    assert changed(a, b, filter=None)[1].routes == (mine,)
    comp, eq = device("compressor", "c", threshold_db=-20.0), device("eq", "e")
    _, b = changed(one.replace(chain=(eq,)), two.replace(chain=(eq, comp)), chain=(eq, comp))
    assert [d.kind for d in b.chain] == ["eq", "compressor", "compressor"]
    assert len({d.id for d in b.chain}) == 3
    a, b = changed(
        one.replace(chain=(comp,)),
        two.replace(chain=(device("compressor", "x", threshold_db=-50.0),)),
        chain=(device("compressor", "c", threshold_db=-26.0),),
    )
    assert b.chain[0].params["threshold_db"] == -56.0
    _, b = changed(one.replace(chain=(eq, comp)), two.replace(chain=(device("eq", "q"),)), chain=(comp,))
    assert b.chain == ()


def test_one_that_is_refused_changes_none():
    with pytest.raises((ParameterError, ValueError)):
        changed(layer("one"), layer("two"), level_db=90.0)


RICH = layer(
    "rich", filter=VoiceFilter(), filter2=VoiceFilter(mode="highpass", cutoff_hz=100.0), sound={"shape": "pulse"}
)
PATHS = sorted(set(layer_params(RICH)) - {"pitch"})


@settings(max_examples=80)
@given(st.sampled_from(PATHS), st.floats(0, 1), st.floats(0, 1), st.floats(0, 1))
def test_every_number_moves_likewise_and_nothing_else_does(path, at, to, other_at):
    p = layer_params(RICH)[path]

    def at_position(share: float) -> Layer:
        return with_layer_value(RICH, path, p.value_at(share))

    old, new, other = at_position(at), at_position(to), at_position(other_at)
    made = changed_likewise(other, old, new)
    now, before = layer_value(made, path, bpm=120.0), layer_value(other, path, bpm=120.0)
    assert p.low <= now <= p.high
    moved = layer_value(new, path, bpm=120.0) - layer_value(old, path, bpm=120.0)
    assert (now - before) * moved >= -1e-9  # in the same direction, or not at all
    assert with_layer_value(made, path, before) == other  # nothing else
    if p.low < now < p.high and p.scale != "log":
        assert now - before == pytest.approx(moved, abs=1e-6)
    same = layer_value(changed_likewise(old, old, new), path, bpm=120.0)
    assert same == pytest.approx(layer_value(new, path, bpm=120.0), abs=1e-6)  # as the one that was moved


def test_alone_it_is_what_it_always_was():
    one, two = layer("one", level_db=-6.0), layer("two")
    both = session(one, two)
    after = change_layer(both, "t", "one", level_db=-9.0)
    assert with_likewise(both, after, "t", "one", ()) == after
