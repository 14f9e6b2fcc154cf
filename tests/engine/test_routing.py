"""Buses, sends, splits, keys from buses, automation, tails: on tones whose sums can be told by hand."""

import numpy as np
import pytest

from tests.builders import device, tone_project, write_stem
from tests.signals import RATE, noise, sine
from zygotone.advise.new_project import project_from_stems
from zygotone.engine import renderer as renderer_module
from zygotone.engine.chains import process_chain
from zygotone.engine.graph import compile_session
from zygotone.engine.renderer import Renderer
from zygotone.engine.stream import Player, Version, stream_nodes
from zygotone.errors import LoopError, ParameterError
from zygotone.session import edits
from zygotone.session.audio_store import AudioStore
from zygotone.session.automation import DrawnPoint, Lane, Point, lane_values
from zygotone.session.models import Device, InstrumentSource, KeyInput, Layer, Note, Part, Phrase, Sound, Track
from zygotone.session.params import frequency, level
from zygotone.sources import render_layer


@pytest.fixture
def pair(tmp_path):
    """Two tones of one second at −12 dB, 120 BPM."""
    return tone_project(tmp_path, Low=100.0, High=1000.0)


def level_of(audio: np.ndarray, hz: float) -> float:
    """Level of a tone in dB, over the middle of a second."""
    part = audio[0, RATE // 4 : 3 * RATE // 4]
    t = np.arange(len(part)) / RATE
    return float(20 * np.log10(2 * abs(np.mean(part * np.exp(-2j * np.pi * hz * t))) + 1e-12))


# --- buses and sends ----------------------------------------------------------------------------------------------


def test_a_send_adds_a_copy_at_its_level(pair):
    session = edits.add_bus(pair.session, "Return")
    session = edits.set_send(session, "low", "return", level_db=-6.0206)
    mix = Renderer(pair.store).mix(session)
    assert level_of(mix, 100.0) == pytest.approx(-12.0 + 20 * np.log10(1.5), abs=0.01)
    assert level_of(mix, 1000.0) == pytest.approx(-12.0, abs=0.01)


@pytest.mark.parametrize(("tap", "expected"), [("after", -120.0), ("before", -12.0)])
def test_a_send_is_taken_before_or_after_the_fader(pair, tap, expected):
    session = edits.add_bus(pair.session, "Return")
    session = edits.set_send(session, "low", "return", level_db=0.0, tap=tap)
    session = edits.change_strip(session, "low", level_db=-60.0)
    returned = Renderer(pair.store).stem(session, "return")
    assert level_of(returned, 100.0) == pytest.approx(max(expected, -72.0), abs=0.1)


def test_sends_and_groups_are_aligned_to_the_frame(pair):
    """A return and a group with latencies of their own, upside down: what is left of the sum is nothing."""
    look = device("compressor", "c", ratio=1.0, lookahead_ms=7.0)
    upside = device("gain", "g", polarity=True)
    session = edits.add_bus(pair.session, "Return")
    session = edits.set_send(session, "low", "return", level_db=0.0)
    session = edits.insert_device(edits.insert_device(session, "return", look), "return", upside)
    session = edits.insert_device(session, "high", device("mono_low", "m"))
    mix = Renderer(pair.store).mix(session)
    assert level_of(mix, 100.0) < -100.0
    assert level_of(mix, 1000.0) == pytest.approx(-12.0, abs=0.01)


def test_returns_can_feed_returns_and_a_circle_is_refused_by_name(pair):
    session = edits.add_bus(edits.add_bus(pair.session, "Echo"), "Space")
    session = edits.set_send(session, "low", "echo", level_db=0.0)
    session = edits.set_send(session, "echo", "space", level_db=0.0)
    mix = Renderer(pair.store).mix(session)
    assert level_of(mix, 100.0) == pytest.approx(-12.0 + 20 * np.log10(3.0), abs=0.01)
    circle = edits.set_send(session, "space", "echo", level_db=-20.0)
    with pytest.raises(LoopError, match=r"Echo → Space → Echo|Space → Echo → Space"):
        compile_session(circle)


def test_a_bus_can_be_a_key_and_its_own_track_may_not_listen_to_it(pair):
    session = edits.add_bus(pair.session, "Drums")
    session = edits.change_strip(session, "low", bus="drums")
    ducked = edits.insert_device(
        session, "high", device("compressor", "c", key="drums", threshold_db=-40.0, ratio=10.0, knee_db=0.0)
    )
    quiet = Renderer(pair.store).stem(ducked, "high")
    assert level_of(quiet, 1000.0) == pytest.approx(-12.0 - 0.9 * 28.0, abs=0.2)
    circle = edits.insert_device(session, "low", device("compressor", "c", key="drums"))
    with pytest.raises(LoopError, match="Low"):
        compile_session(circle)


def test_solo_follows_the_paths(pair):
    session = edits.add_bus(edits.add_bus(pair.session, "Group"), "Return")
    session = edits.change_strip(session, "low", bus="group")
    session = edits.set_send(session, "low", "return", level_db=0.0)

    def render(s):
        return Renderer(pair.store).mix(s)

    track = render(edits.change_strip(session, "low", solo=True))
    assert level_of(track, 100.0) == pytest.approx(-12.0 + 6.02, abs=0.01)  # with its return
    assert level_of(track, 1000.0) < -100.0
    only_return = render(edits.change_strip(session, "return", solo=True))
    assert level_of(only_return, 100.0) == pytest.approx(-12.0, abs=0.01)
    assert level_of(only_return, 1000.0) < -100.0
    muted = render(edits.change_strip(session, "group", mute=True))
    assert level_of(muted, 100.0) == pytest.approx(-12.0, abs=0.01)  # the send does not go through the group


def test_removing_a_bus_takes_its_sends_keys_and_lanes_along(pair):
    session = edits.add_bus(pair.session, "Return")
    session = edits.change_strip(edits.set_send(session, "low", "return"), "high", bus="return")
    session = edits.insert_device(session, "high", device("gate", "g"))
    session = edits.insert_device(session, "low", device("compressor", "c", key="return"))
    session = edits.put_lane(
        session, Lane(id="a", strip="low", param="send.return", points=(Point(beat=0, value=-6.0),))
    )
    slim = edits.remove_bus(session, "return")
    slim.check()
    assert slim.track("low").sends == ()
    assert slim.track("high").bus is None
    assert slim.track("low").device("c").key is None
    assert slim.lanes == ()


# --- splits -------------------------------------------------------------------------------------------------------


def split(*branches: dict, **more) -> Device:
    return Device.model_validate({"id": "s", "kind": "split", "branches": list(branches), **more})


def test_branches_sum_in_step():
    x = noise(0.3)
    late = {"devices": [{"kind": "saturation", "id": "sat", "drive_db": 0.0, "oversampling": 8}], "gain_db": 0.0}
    upside = {"devices": [{"kind": "gain", "id": "g", "polarity": True}]}
    y = process_chain(x, [split(late, upside)], RATE)
    assert np.max(np.abs(y)) < 1e-12


def test_a_branch_can_listen_to_another_track(pair):
    inner = device("compressor", "c", key="high", threshold_db=-40.0, ratio=10.0, knee_db=0.0).model_dump()
    one = Device.model_validate({"id": "s", "kind": "split", "branches": [{"devices": [inner]}]})
    session = edits.insert_device(pair.session, "low", one)
    assert level_of(Renderer(pair.store).stem(session, "low"), 100.0) == pytest.approx(-12.0 - 0.9 * 28.0, abs=0.2)


def test_devices_in_branches_are_edited_by_their_path(pair):
    session = edits.insert_device(pair.session, "low", split({}, {}))
    session = edits.insert_device(session, "low", device("gain", "g", gain_db=-6.0206), where="s/1")
    session = edits.change_device(session, "low", "s/1/g", gain_db=0.0)
    assert session.track("low").device("s/1/g").params["gain_db"] == 0.0
    assert level_of(Renderer(pair.store).stem(session, "low"), 100.0) == pytest.approx(-12.0 + 6.02, abs=0.01)
    twice = edits.duplicate_device(session, "low", "s/1/g")
    assert [d.id for d in edits.chain_of(twice.track("low"), "s/1")] == ["g", "gain"]
    assert edits.chain_of(edits.remove_device(twice, "low", "s/1/g").track("low"), "s/1")[0].id == "gain"
    with pytest.raises(ParameterError, match="no branch 's/7'"):
        edits.insert_device(session, "low", device("gain", "x"), where="s/7")


def test_splits_nest_and_too_deep_is_refused():
    nested = {"kind": "split", "branches": [{"devices": [{"kind": "gain", "gain_db": -6.0}]}]}
    for _ in range(2):
        nested = {"kind": "split", "branches": [{"devices": [nested]}]}
    x = noise(0.1)
    y = process_chain(x, [Device.model_validate(nested)], RATE)
    np.testing.assert_allclose(y, x * 10 ** (-6 / 20), atol=1e-12)
    for _ in range(3):
        nested = {"kind": "split", "branches": [{"devices": [nested]}]}
    with pytest.raises(ValueError, match="nested more than"):
        Device.model_validate(nested)


# --- automation ---------------------------------------------------------------------------------------------------

GAIN = level("gain_db", "Gain", -60.0, 20.0, 0.0, "Gain.")
CUTOFF = frequency("cutoff_hz", "Cutoff", 1000.0, "Cutoff.")


def lane(**values) -> Lane:
    return Lane.model_validate({"id": "l", "strip": "low", "param": "level_db", **values})


def test_points_are_joined_along_the_parameters_own_scale():
    two = lane(points=[Point(beat=1, value=200.0), Point(beat=3, value=800.0)])
    np.testing.assert_allclose(lane_values(two, CUTOFF, np.array([0.0, 1.0, 2.0, 3.0, 9.0])), [200, 200, 400, 800, 800])
    steps = two.replace(shape="steps")
    np.testing.assert_allclose(lane_values(steps, CUTOFF, np.array([1.0, 2.9, 3.0])), [200, 200, 800])
    late = lane(points=[Point(beat=0, value=-40.0, curve=1.0), Point(beat=4, value=0.0)])
    early = lane(points=[Point(beat=0, value=-40.0, curve=-1.0), Point(beat=4, value=0.0)])
    assert lane_values(late, GAIN, np.array([2.0]))[0] < -38.0 < -3.0 < lane_values(early, GAIN, np.array([2.0]))[0] + 1


@pytest.mark.parametrize(
    ("shape", "heights"),
    [("triangle", [0, 0.5, 1, 0.5]), ("ramp_up", [0, 0.25, 0.5, 0.75]), ("ramp_down", [1, 0.75, 0.5, 0.25]), ("sine", [0, 0.5, 1, 0.5]), ("drawn", [0, 1, 0.5, 0.25])],
)  # fmt: skip
def test_shapes_are_locked_to_the_tempo(shape, heights):
    cycle = [
        DrawnPoint(at=0, height=0),
        DrawnPoint(at=0.25, height=1),
        DrawnPoint(at=0.5, height=0.5),
        DrawnPoint(at=1, height=0),
    ]
    one = lane(shape=shape, period="1/4d", low=-20.0, high=0.0, cycle=cycle)
    for turn in (0.0, 7.0):
        beats = 1.5 * (turn + np.array([0, 0.25, 0.5, 0.75]))
        np.testing.assert_allclose(lane_values(one, GAIN, beats), -20.0 + 20.0 * np.array(heights), atol=1e-9)


def test_a_level_moves_from_frame_to_frame(pair):
    session = edits.put_lane(pair.session, lane(points=[Point(beat=0, value=-40.0), Point(beat=2, value=0.0)]))
    y, x = Renderer(pair.store).stem(session, "low"), Renderer(pair.store).stem(pair.session, "low")
    t = np.arange(RATE) / RATE
    loud = np.abs(x[0, :RATE]) > 0.05
    gain = 20 * np.log10(np.abs(y[0, :RATE][loud] / x[0, :RATE][loud]))
    # But for the ends, where its corners are rounded; the mean of a straight line in dB lies a little over it.
    inside = (t[loud] > 0.02) & (t[loud] < 0.98)
    np.testing.assert_allclose(gain[inside], (-40.0 + 40.0 * t)[loud][inside], atol=1e-3)


def test_a_lane_plays_in_its_section_only(tmp_path):
    project = project_from_stems([write_stem(tmp_path, "Low", sine(100.0, 8.0, level_db=-12))], tempo_bpm=120.0)
    sections = (*project.session.song.sections, project.session.song.sections[0].replace(id="b", name="B"))
    session = edits.change_sections(project.session, [s.replace(bars=2) for s in sections])
    session = edits.put_lane(session, lane(section="b", points=[Point(beat=0, value=-20.0)]))
    y = Renderer(project.store).stem(session, "low")
    assert level_of(y, 100.0) == pytest.approx(-12.0, abs=0.01)
    assert level_of(y[:, 4 * RATE :], 100.0) == pytest.approx(-32.0, abs=0.01)


@pytest.mark.parametrize("block", [1, 32, 100, 512, 4096])
@pytest.mark.parametrize(
    ("kind", "param", "low", "high"),
    [("eq", "bands.0.gain_db", -12.0, 12.0), ("compressor", "threshold_db", -50.0, -10.0), ("filter", "cutoff_hz", 100.0, 8000.0), ("saturation", "drive_db", 6.0, 30.0), ("keyed_eq", "mix", 0.0, 1.0), ("split", "branches.0.gain_db", -20.0, 0.0)],
)  # fmt: skip
def test_automation_sounds_the_same_in_any_blocks(tmp_path, block, kind, param, low, high):
    project = project_from_stems([write_stem(tmp_path, "Low", noise(0.25))], tempo_bpm=150.0)
    values = {
        "eq": {"bands": [{"freq_hz": 900.0}]},
        "split": {"branches": [{}]},
        "keyed_eq": {"threshold_db": -60.0, "range_db": -20.0, "freq_hz": 1000.0},
    }.get(kind, {})
    session = edits.insert_device(project.session, "low", device(kind, "d", **values))
    session = edits.put_lane(
        session, lane(device="d", param=param, shape="triangle", period="1/32", low=low, high=high)
    )
    graph = compile_session(session)

    def render(frames: int) -> np.ndarray:
        parts = []
        stream_nodes(
            Renderer(project.store), graph, {"x": graph.mix}, (0, end), block_frames=frames,
            sink=lambda _, x: parts.append(x.copy()),
        )  # fmt: skip
        return np.concatenate(parts, axis=1)

    end = RATE // 5 if block > 1 else RATE // 20
    moving = render(block)
    np.testing.assert_array_equal(moving, render(2048))
    still = Renderer(project.store).mix(session.replace(lanes=()))[:, : moving.shape[1]]
    assert np.max(np.abs(moving - still)) > 1e-3


@pytest.mark.parametrize(
    ("kind", "values", "param", "low", "high"),
    [("eq", {"bands": [{"shape": "high_cut", "freq_hz": 1000.0}]}, "bands.0.freq_hz", 300.0, 6000.0), ("gain", {}, "gain_db", -30.0, 0.0), ("filter", {}, "cutoff_hz", 200.0, 12000.0), ("width", {}, "width_pct", 0.0, 200.0)],
)  # fmt: skip
def test_automation_does_not_click(tmp_path, kind, values, param, low, high):
    import scipy.signal

    tone = sine(150.0, 2.0, level_db=-12)
    tone[1] = tone[1] * 0.3
    project = project_from_stems([write_stem(tmp_path, "Low", tone)], tempo_bpm=120.0)
    session = edits.insert_device(project.session, "low", device(kind, "d", **values))
    session = edits.put_lane(session, lane(device="d", param=param, shape="sine", period="1/2", low=low, high=high))
    y = Renderer(project.store).stem(session, "low")[0, 4800 : 2 * RATE - 4800]
    high_pass = scipy.signal.butter(6, 5000.0, "highpass", fs=RATE, output="sos")
    rest = scipy.signal.sosfilt(high_pass, y)[4800:]
    # A step of the control grid, for an EQ that crosses four octaves in half a second, stays under −60 dB.
    assert 20 * np.log10(np.max(np.abs(rest)) / np.max(np.abs(y))) < (-60.0 if kind == "eq" else -70.0)


def test_layers_can_be_automated():
    layer = Layer(id="a", name="a", sound=Sound.model_validate({"kind": "oscillator"}))
    source = InstrumentSource(
        layers=(layer,), phrases=(Phrase(id="p", beats=4, notes=(Note(start_beat=0, length_beats=4, pitch=48),)),),
    )  # fmt: skip
    project = tone_project_with(source)
    session = edits.put_lane(project, lane(layer="a", points=[Point(beat=0, value=-40.0), Point(beat=4, value=0.0)]))
    plain, moved = (Renderer(AudioStore()).stem(s, "low") for s in (project, session))
    at = RATE
    ratio = np.std(moved[:, at : at + 2400]) / np.std(plain[:, at : at + 2400])
    assert 20 * np.log10(ratio) == pytest.approx(-40.0 + 40.0 * (1.025 / 2.0), abs=0.5)


def sounding(one: Layer, **more: object) -> InstrumentSource:
    return InstrumentSource(
        layers=(one.replace(**more),), phrases=(Phrase(id="p", beats=4, notes=(Note(start_beat=0, length_beats=4, pitch=48),)),),
    )  # fmt: skip


def test_a_layers_fader_comes_after_its_chain():
    # A limiter at −20 dB does not care how far the layer's fader is down after it, nor where it is panned.
    one = Layer(
        id="a", name="a", sound=Sound.model_validate({"kind": "oscillator"}), envelope={"sustain": 1.0},
        chain=(device("limiter", "l", ceiling_dbtp=-20.0),),
    )  # fmt: skip
    loud, quiet, left = (
        Renderer(AudioStore()).stem(tone_project_with(sounding(one, **more)), "low")
        for more in ({}, {"level_db": -12.0}, {"pan_pct": -100.0})
    )
    np.testing.assert_allclose(quiet, loud * 10 ** (-12 / 20), atol=1e-12)
    np.testing.assert_allclose(left[0], loud[0] * np.sqrt(2.0), atol=1e-12)
    assert np.max(np.abs(left[1])) < 1e-12


def test_moving_a_layers_fader_renders_no_voice_again(monkeypatch):
    rendered = []
    monkeypatch.setattr(renderer_module, "render_layer", lambda *a, **k: rendered.append(a) or render_layer(*a, **k))
    one = Layer(id="a", name="a", sound=Sound.model_validate({"kind": "oscillator"}))
    renderer = Renderer(AudioStore())
    plain = renderer.stem(tone_project_with(sounding(one)), "low")
    quiet = renderer.stem(tone_project_with(sounding(one, level_db=-6.0, pan_pct=20.0)), "low")
    session = edits.put_lane(tone_project_with(sounding(one)), lane(layer="a", points=[Point(beat=0, value=-40.0)]))
    moved = renderer.stem(session, "low")
    assert len(rendered) == 1
    assert np.std(plain) > np.std(quiet) > np.std(moved) > 0.0
    renderer.stem(tone_project_with(sounding(one, transpose_semitones=1)), "low")
    assert len(rendered) == 2


def test_the_range_that_automation_passes_through_is_told(pair):
    section = pair.session.song.sections[0].id
    session = edits.put_lane(pair.session, lane(param="level_db", points=[Point(beat=0, value=-30.0), Point(beat=1, value=-6.0)]))  # fmt: skip
    low, high = session.automated_range("low", "level_db")
    assert (low, high) == (pytest.approx(-30.0), pytest.approx(-6.0, abs=0.1))
    assert session.automated_range("high", "level_db") is None
    off = edits.put_lane(session, session.lanes[0].replace(on=False))
    assert off.automated_range("low", "level_db") is None
    both = edits.put_lane(session, Lane(id="two", strip="low", param="level_db", section=section, shape="triangle", period="1/4", low=-50.0, high=0.0))  # fmt: skip
    assert both.automated_range("low", "level_db") == (pytest.approx(-50.0, abs=0.2), pytest.approx(0.0, abs=0.2))


def tone_project_with(source):
    from zygotone.session.models import Section, Session, Song

    song = Song(sections=(Section(id="song", name="Song", bars=1),))
    return Session(
        song=song, tracks=(Track(id="low", name="Low", source=source, parts=(Part(section="song", phrase="p"),)),)
    )


@pytest.mark.parametrize(
    ("change", "words"),
    [
        ({"param": "nonsense"}, "cannot move 'nonsense'; there it can move level_db, pan_pct"),
        ({"device": "gone"}, "has no device 'gone'"),
        ({"section": "gone"}, "section 'gone', which does not exist"),
        ({"points": [Point(beat=0, value=50.0)]}, "must be between -60 and 12 dB"),
        ({"device": "m", "param": "freq_hz"}, "cannot move 'freq_hz'"),
        ({"layer": "gone"}, "has no layer 'gone'"),
    ],
)
def test_lanes_that_cannot_be_are_refused(pair, change, words):
    session = edits.insert_device(pair.session, "low", device("mono_low", "m"))
    with pytest.raises(ParameterError, match=words):
        edits.put_lane(session, lane(**{"points": [Point(beat=0, value=0.0)], **change}))


# --- tails, live --------------------------------------------------------------------------------------------------


def test_a_tail_rings_out_when_its_device_is_switched_off(tmp_path):
    burst = np.zeros((2, 4 * RATE))
    burst[:, : RATE // 2] = sine(300.0, 0.5, level_db=-12)
    project = project_from_stems([write_stem(tmp_path, "Low", burst)])
    on = edits.insert_device(project.session, "low", device("reverb", "r", decay_s=2.0, mix=0.5))
    off = edits.change_device(on, "low", "r", on=False)
    player = Player(Renderer(project.store), RATE)
    player.set_loop(0, 4 * RATE)
    player.set_versions(Version(compile_session(on)), None)
    before = np.concatenate([player.block(480) for _ in range(60)], axis=1)
    player.set_versions(Version(compile_session(off)), None)
    after = np.concatenate([player.block(480) for _ in range(300)], axis=1)
    joint = np.concatenate([before[:, -200:], after[:, :200]], axis=1)[0]
    assert np.max(np.abs(np.diff(joint))) < 0.05
    assert np.std(after[:, :4800]) > 0.05 * np.std(before)  # it rings on
    assert np.max(np.abs(after[:, -2400:])) < 0.1 * np.max(np.abs(after[:, :4800]))  # and dies
    fresh = Renderer(project.store).stem(off, "low")
    np.testing.assert_array_equal(fresh, Renderer(project.store).stem(project.session, "low"))


def test_bad_samples_are_counted_and_go_no_further(pair):
    from zygotone.engine.runners import make_runner

    renderer = Renderer(pair.store)
    graph = compile_session(edits.insert_device(pair.session, "low", device("delay", "d", feedback=0.9)))
    runner = make_runner(
        graph.chain["low"], renderer.host(pair.session), lambda node: lambda start, n: np.zeros((2, n))
    )
    x = noise(0.1)
    x[0, 100:110] = np.nan
    y = runner.block(0, x.shape[1], [x])
    assert runner.bad_samples == 10
    assert np.isfinite(y).all()
    later = runner.block(x.shape[1], 4800, [np.zeros((2, 4800))])
    assert np.isfinite(later).all()


def test_keys_may_come_from_a_split_track_and_loops_in_branches_are_found(pair):
    inner = device("compressor", "c").replace(key=KeyInput(track="high")).model_dump()
    session = edits.insert_device(pair.session, "low", split({"devices": [inner]}))
    circle = edits.insert_device(session, "high", device("gate", "g", key="low"))
    with pytest.raises(LoopError, match="Low → High → Low"):
        compile_session(circle)
