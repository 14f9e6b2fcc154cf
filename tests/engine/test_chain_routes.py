"""Routes of a layer that move devices of its chain: by what is heard, against the same layer without the route."""

import numpy as np
import pytest

from tests.builders import device
from tests.engine.test_layer_chains import HELD, layer, session, track
from tests.signals import RATE
from zygotone.engine.graph import compile_session
from zygotone.engine.nodes import SourceNode, nodes_below
from zygotone.engine.renderer import Renderer
from zygotone.engine.stream import stream_nodes
from zygotone.session import edits
from zygotone.session.audio_store import AudioStore
from zygotone.session.instruments import Lfo, Route, leading_routes
from zygotone.session.layer_edits import changed_likewise
from zygotone.session.models import Note
from zygotone.session.project_file import Project, load_project, save_project
from zygotone.sources.modulation import lfo_line

GAIN = device("gain", "g")
# Two notes a second apart, soft and loud, and a third an octave up that is out of what the layer below plays.
NOTES = (
    Note(start_beat=0, length_beats=0.9, pitch=57, velocity=0.25),
    Note(start_beat=1, length_beats=0.9, pitch=57, velocity=1.0),
    Note(start_beat=2, length_beats=0.9, pitch=69, velocity=1.0),
)


def made(*routes, chain=(GAIN,), notes=NOTES, envelope=HELD, **more):
    one = layer("tone", 0, *chain, envelope=envelope)
    one = one.model_validate({**dict(one), "velocity_db": 0.0, "key_high": 64, "routes": routes, **more})
    return session(track("Lead", one, notes=notes))


def heard(version, **options):
    return Renderer(AudioStore()).stem(version, "lead", **options)


def gained_db(route, *, chain=(GAIN,), **more):
    """How much louder it is with a route, at each ms, where anything sounds."""
    plain, moved = (heard(made(*routes, chain=chain, **more)) for routes in ((), (route,)))
    n = RATE // 1000
    power = [np.mean(a[0, : a.shape[1] // n * n].reshape(-1, n) ** 2, axis=1) for a in (plain, moved)]
    ratio = 10.0 * np.log10((power[1] + 1e-15) / (power[0] + 1e-15))
    return np.where(power[0] > 1e-11, ratio, np.nan)


def test_velocity_moves_a_device_of_the_chain():
    ratio = gained_db(Route(source="velocity", device="g", target="gain_db", amount=12.0))
    assert np.nanmedian(ratio[100:800]) == pytest.approx(3.0, abs=0.01)
    assert np.nanmedian(ratio[1100:1800]) == pytest.approx(12.0, abs=0.01)


def test_a_note_that_the_layer_does_not_play_moves_nothing():
    low = Note(start_beat=0, length_beats=3.9, pitch=57, velocity=0.5)
    high = Note(start_beat=1, length_beats=0.5, pitch=80, velocity=1.0)
    ratio = gained_db(Route(source="velocity", device="g", target="gain_db", amount=12.0), notes=(low, high))
    assert np.nanmax(np.abs(ratio[100:3800] - 6.0)) < 0.1


@pytest.mark.parametrize("mode", ["free", "retriggered"])
def test_an_lfo_moves_it_as_the_lfo_goes(mode):
    lfo = Lfo(shape="sine", rate=3.0, mode=mode, phase_deg=40.0)
    ratio = gained_db(Route(source="lfo1", device="g", target="gain_db", amount=6.0), lfos=(lfo, Lfo()))
    for start_ms in (0, 1000):
        at_s = np.arange(100, 800) / 1000.0
        wanted = 6.0 * lfo_line(lfo, at_s, song_s=start_ms / 1000.0, bpm=60.0, seed=0)
        part = ratio[start_ms + 100 : start_ms + 800]
        # Values fade from knot to knot, 13 ms apart: at 3 Hz that is off by at most some tenths of a dB.
        assert np.nanmax(np.abs(part - wanted)) < 0.6
        assert np.nanstd(part) > 3.0


def test_the_level_envelope_opens_a_filter_of_the_chain():
    closed = device("filter", "f", mode="lowpass", cutoff_hz=200.0)
    slow = {"attack_ms": 600, "sustain": 1.0, "release_ms": 30}
    saw = {"sound": {"kind": "oscillator", "shape": "saw"}, "envelope": slow}
    route = Route(source="amp", device="f", target="cutoff_hz", amount=4.0)
    note = (Note(start_beat=0, length_beats=3.0, pitch=45, velocity=1.0),)
    audio = heard(made(route, chain=(closed,), notes=note, **saw))[0]

    def top_share(at_s):
        power = np.abs(np.fft.rfft(audio[round(at_s * RATE) :][:4096] * np.hanning(4096))) ** 2
        return power[round(1500 * 4096 / RATE) :].sum() / power.sum()

    shares = [top_share(at) for at in (0.05, 0.3, 1.5)]
    assert shares[0] < 0.1 * shares[2]
    assert shares[0] < shares[1] < shares[2]


def test_a_route_may_be_scaled_and_adds_to_another():
    scaled = Route(source="velocity", device="g", target="gain_db", amount=12.0, scaled_by="velocity")
    ratio = gained_db(scaled)
    assert np.nanmedian(ratio[100:800]) == pytest.approx(12.0 * 0.25**2, abs=0.01)
    both = (scaled, Route(source="key", device="g", target="gain_db", amount=-8.0))
    plain, moved = (heard(made(*routes))[0, RATE + 4800 : RATE + 38400] for routes in ((), both))
    assert 20 * np.log10(np.std(moved) / np.std(plain)) == pytest.approx(12.0 - 8.0 * (57 - 60) / 12.0, abs=0.01)


def test_it_reaches_into_branches_and_wet_and_dry():
    inner = device("gain", "g")
    split = device("split", "s", branches=[{"devices": [inner.model_dump(mode="json")]}])
    ratio = gained_db(Route(source="velocity", device="s/0/g", target="gain_db", amount=12.0), chain=(split,))
    assert np.nanmedian(ratio[1100:1800]) == pytest.approx(12.0, abs=0.05)
    quiet = device("gain", "g", gain_db=-60.0, mix=1.0)
    ratio = gained_db(Route(source="velocity", device="g", target="mix", amount=-1.0), chain=(quiet,))
    # Loud notes are dry, 60 dB up; of the soft ones a quarter is.
    assert np.nanmedian(ratio[1100:1800]) == pytest.approx(60.0, abs=0.1)
    assert np.nanmedian(ratio[100:800]) == pytest.approx(20 * np.log10((0.25 + 0.75e-3) / 1e-3), abs=0.1)


def test_it_sounds_the_same_in_any_blocks():
    lfo = Lfo(shape="triangle", rate=2.0)
    version = made(Route(source="lfo1", device="g", target="gain_db", amount=9.0), lfos=(lfo, Lfo()))
    whole = heard(version)
    graph, parts = compile_session(version), []
    stream_nodes(
        Renderer(AudioStore()), graph, {"it": graph.strip["lead"]}, (0, whole.shape[1]), block_frames=100,
        sink=lambda _, audio: parts.append(audio.copy()),
    )  # fmt: skip
    np.testing.assert_allclose(np.concatenate(parts, axis=1), whole, atol=1e-9)


def test_turning_it_up_plays_no_note_again():
    keys = [
        {n.key for n in nodes_below([compile_session(made(Route(source="lfo1", device="g", target="gain_db", amount=a))).mix]) if isinstance(n, SourceNode)}
        for a in (3.0, 6.0)
    ]  # fmt: skip
    assert keys[0] == keys[1]


def test_notes_elsewhere_change_what_is_heard():
    route = Route(source="velocity", device="g", target="gain_db", amount=12.0)
    louder = (NOTES[0].replace(velocity=0.5), *NOTES[1:])
    one, other = (compile_session(made(route, notes=notes)).mix.key for notes in (NOTES, louder))
    assert one != other


def test_what_leads_nowhere_is_refused_and_what_goes_takes_its_routes_along(tmp_path):
    with pytest.raises(ValueError, match="cannot move 'gain_db of nobody'"):
        made(Route(source="lfo1", device="nobody", target="gain_db", amount=1.0))
    with pytest.raises(ValueError, match=r"'gain of g'.*gain_db"):
        made(Route(source="lfo1", device="g", target="gain", amount=1.0))
    note = Route(source="lfo1", target="pitch", amount=0.5)
    version = made(note, Route(source="lfo1", device="g", target="gain_db", amount=1.0))
    save_project(tmp_path / "p.zyg", Project(session=version, store=AudioStore()))
    assert load_project(tmp_path / "p.zyg").session == version
    gone = edits.edit_chain(version, "lead", "", lambda chain: (), layer="tone")
    assert edits.layer_of(gone, "lead", "tone").routes == (note,)
    assert leading_routes(edits.layer_of(version, "lead", "tone").replace(chain=())) == (note,)


def test_a_layer_without_the_device_does_not_take_the_route_over():
    bare, old = (edits.layer_of(made(chain=chain), "lead", "tone") for chain in ((), (GAIN,)))
    new = old.replace(routes=(Route(source="lfo1", device="g", target="gain_db", amount=1.0),))
    assert changed_likewise(bare, old, new).routes == ()
    assert changed_likewise(old, old, new).routes == new.routes
