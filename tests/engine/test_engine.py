"""The graph: latency, keys, caching, any block size, live and offline alike."""

import tracemalloc
from dataclasses import replace

import numpy as np
import pytest

from tests.builders import device, pair_project, tone_project, write_stem
from tests.demo import DEMO, demo_renderer
from tests.signals import RATE, noise, sine
from zygotone.advise.new_project import project_from_stems
from zygotone.dsp.giving_up import Cancelled
from zygotone.dsp.types import OFFLINE_BLOCK_FRAMES
from zygotone.engine.block_graph import BlockGraph
from zygotone.engine.graph import compile_session
from zygotone.engine.nodes import SourceNode, nodes_below
from zygotone.engine.renderer import PREROLL_S, Renderer
from zygotone.engine.stream import SWAP_S, Player, Version, stream_nodes
from zygotone.session import edits
from zygotone.session.audio_files import AudioData
from zygotone.session.automation import Lane, Point
from zygotone.session.held import Held
from zygotone.session.laid_aside import LaidAside
from zygotone.session.models import ClipSource, KeyInput

LEAD = round(SWAP_S * RATE)  # it fades in over what comes before


@pytest.fixture(scope="module")
def demo():
    return DEMO


def streamed(renderer, session, *, block: int) -> np.ndarray:
    graph = compile_session(session)
    blocks = []
    stream_nodes(
        renderer,
        graph,
        {"mix": graph.mix},
        (0, RATE * 3),
        block_frames=block,
        sink=lambda _, x: blocks.append(x.copy()),
    )
    return np.concatenate(blocks, axis=1)


@pytest.mark.parametrize("block", [1, 32, 100, 512, 4096])
def test_any_block_size_renders_the_same(tmp_path, block):
    project = tone_project(tmp_path, Bass=50.0, Kick=60.0)
    session = edits.insert_device(project.session, "bass", device("saturation", "s", drive_db=12.0))
    session = edits.insert_device(
        session, "bass", device("compressor", "c", key="kick", threshold_db=-30.0, lookahead_ms=2.0)
    )
    reference = Renderer(project.store).mix(session)
    if block == 1:  # a quarter of a second of single frames is enough of them
        reference = reference[:, : RATE // 4]
    renderer, graph = Renderer(project.store), compile_session(session)
    blocks = []
    stream_nodes(
        renderer,
        graph,
        {"mix": graph.mix},
        (0, reference.shape[1]),
        block_frames=block,
        sink=lambda _, x: blocks.append(x.copy()),
    )
    np.testing.assert_array_equal(np.concatenate(blocks, axis=1), reference)


def test_the_demo_renders_the_same_in_any_blocks(demo):
    a, b = (streamed(demo_renderer(), demo.session, block=n) for n in (512, 4096))
    # The bar: differences under −180 dBFS.
    assert np.max(np.abs(a - b)) < 1e-9


def test_parallel_paths_are_aligned(tmp_path):
    """One track through devices with latency, its inverted twin without: the sum is silence."""
    project = tone_project(tmp_path, One=440.0, Two=880.0)
    audio = AudioData(noise(1.0, level=0.2), RATE, "FLOAT", "WAV")
    asset = project.store.add(audio, "noise", RATE)
    tracks = [t.replace(source=t.source.replace(asset=asset.id)) for t in project.session.tracks]
    late = (device("saturation", "a", drive_db=0.0), device("compressor", "b", ratio=1.0, lookahead_ms=7.0))
    tracks = [tracks[0].replace(chain=late), tracks[1].replace(chain=(device("gain", "p", polarity=True),))]
    session = project.session.replace(tracks=tuple(tracks), assets=(asset,))
    mix = Renderer(project.store).mix(session)
    assert np.max(np.abs(mix)) < 1e-9


def test_an_untouched_stem_comes_out_as_it_went_in(tmp_path):
    project = tone_project(tmp_path, Bass=50.0)
    mix = Renderer(project.store).mix(project.session)
    clip = project.store.audio(project.session.assets[0], RATE)
    np.testing.assert_array_equal(mix[:, : clip.shape[1]], clip)


@pytest.mark.parametrize("tap", ["before", "after"])
def test_a_key_is_taken_before_or_after_the_chain(tmp_path, tap):
    project = tone_project(tmp_path, Bass=50.0, Kick=60.0)
    session = edits.insert_device(project.session, "kick", device("gain", "g", gain_db=-60.0))
    keyed = device("compressor", "c", threshold_db=-40.0, ratio=20.0, attack_ms=1.0).replace(
        key=KeyInput(track="kick", tap=tap)
    )
    session = edits.insert_device(session, "bass", keyed)
    renderer = Renderer(project.store)
    graph = compile_session(session)
    _, node = graph.tap("bass", "c")
    take = renderer.take(graph, node, (0, RATE))
    assert (take.gain_db.min() < -10.0) == (tap == "before")


def test_a_muted_track_is_not_heard_but_still_keys(tmp_path):
    project = tone_project(tmp_path, Bass=50.0, Kick=60.0)
    session = edits.insert_device(
        project.session, "bass", device("compressor", "c", key="kick", threshold_db=-40.0, ratio=20.0)
    )
    open_ = Renderer(project.store).stem(session, "bass")
    muted = edits.change_strip(session, "kick", mute=True)
    np.testing.assert_array_equal(Renderer(project.store).stem(muted, "bass"), open_)
    np.testing.assert_array_equal(Renderer(project.store).mix(muted), open_)


def test_solo_leaves_only_the_soloed(tmp_path):
    project = tone_project(tmp_path, Bass=50.0, Kick=60.0)
    session = edits.change_strip(project.session, "kick", solo=True)
    np.testing.assert_array_equal(Renderer(project.store).mix(session), Renderer(project.store).stem(session, "kick"))


def test_a_change_renders_only_what_depends_on_it(demo):
    renderer = demo_renderer()
    section = demo.session.song.sections[0]
    first = renderer.mix(demo.session, section)
    run = renderer.devices_run
    renderer.mix(demo.session, section)
    assert renderer.devices_run == run
    changed = edits.change_strip(demo.session, "pad", level_db=-30.0)
    second = renderer.mix(changed, section)
    # The hall's reverb, that the pad sends to; the mix's compressor and limiter.
    assert renderer.devices_run - run == 3
    assert not np.array_equal(first, second)


def test_what_is_made_ready_is_rendered_in_one_pass_and_once(tmp_path):
    project = tone_project(tmp_path, Bass=50.0, Kick=60.0)
    session = edits.insert_device(project.session, "bass", device("compressor", "c", threshold_db=-30.0))
    session = edits.insert_device(session, "mix", device("limiter", "l"))
    graph, renderer, span = compile_session(session), Renderer(project.store), session.section_span(None)
    before, after = graph.tap("bass", "c")
    nodes = [graph.strip["bass"], graph.strip["kick"], graph.raw["mix"], after, graph.mix]
    renderer.prepare(graph, nodes, span)
    assert renderer.devices_run == 2
    for node in nodes:
        fresh = Renderer(project.store).take(graph, node, span)
        found = renderer.take(graph, node, span)
        np.testing.assert_allclose(found.audio, fresh.audio, atol=1e-7)  # kept in single precision
        assert (found.gain_db is None) == (fresh.gain_db is None)
        if fresh.gain_db is not None:
            np.testing.assert_allclose(found.gain_db, fresh.gain_db, atol=1e-5)
    assert renderer.devices_run == 2  # all of it was there
    assert before is graph.raw["bass"]
    # What was let go is not made ready again for nothing: it is when somebody asks.
    renderer.held._kept["dear"].pop((after.key, *renderer._stretch(graph, after, span, PREROLL_S)))
    renderer.prepare(graph, nodes, span)
    assert renderer.devices_run == 2
    renderer.take(graph, after, span)
    assert renderer.devices_run == 3


def test_the_cache_is_bounded(demo):
    renderer = demo_renderer(Held(20 << 20))
    renderer.mix(demo.session, demo.session.song.sections[0])
    assert renderer.held.held_bytes <= 20 << 20


def compressed_tracks(folder, count, seconds):
    """Tracks of noise that is another on each side, each through a compressor; and what is asked of them: all strips, and what
    the mix is made of."""
    stems = [write_stem(folder, f"Pad {n}", noise(seconds, level=0.05, seed=n)) for n in range(count)]
    session = (project := project_from_stems(stems)).session
    for track in session.tracks:
        session = edits.insert_device(session, track.id, device("compressor", "c", threshold_db=-30.0))
        session = edits.change_strip(session, track.id, level_db=-1.0)
    graph = compile_session(session)
    span = (0, round(seconds * session.rate_hz))
    return project, graph, [*(graph.strip[s.id] for s in session.strips()), graph.raw["mix"]], span


def mix_after_all_faders_moved(renderer, graph, span):
    """And what it is without anything kept."""
    for n, track in enumerate(graph.session.tracks):
        graph = compile_session(edits.change_strip(graph.session, track.id, level_db=-3.0 - n), graph)
        renderer.prepare(graph, [graph.strip[track.id], graph.mix], span)
        mix = renderer.take(graph, graph.mix, span).audio
    return mix, Renderer(renderer.store).take(graph, graph.mix, span).audio


def test_where_little_fits_the_ends_of_chains_are_kept(tmp_path):
    """Then no device runs again for whoever asks for faders and sums, or after an edit of those."""
    project, graph, nodes, span = compressed_tracks(tmp_path, 6, 4.0)
    renderer = Renderer(project.store, Held(20 << 20))  # eight takes with their gains
    renderer.prepare(graph, nodes, span)
    for node in (*nodes, *nodes):
        renderer.kept(graph, node, span)
    assert renderer.devices_run == 6
    np.testing.assert_allclose(*mix_after_all_faders_moved(renderer, graph, span), atol=1e-6)
    assert renderer.devices_run == 6


def test_what_does_not_fit_is_laid_aside_and_no_device_runs_twice(tmp_path):
    """Room for one of six tracks; what is asked of all of them is the same, and nothing of it is made again."""
    project, graph, nodes, span = compressed_tracks(tmp_path, 6, 4.0)
    roomy, renderer = Renderer(project.store), Renderer(project.store, Held(5 << 20, LaidAside(tmp_path / "aside")))
    renderer.prepare(graph, nodes, span)
    for node in (*nodes, *nodes):
        found = renderer.take(graph, node, span)
        np.testing.assert_allclose(found.audio, roomy.take(graph, node, span).audio, atol=1e-6)
        assert renderer.held.held_bytes <= 5 << 20
    for track in graph.session.tracks:
        _, after = graph.tap(track.id, "c")
        gain_db = renderer.take(graph, after, span).gain_db
        np.testing.assert_allclose(gain_db, roomy.take(graph, after, span).gain_db, atol=1e-4)
    np.testing.assert_allclose(*mix_after_all_faders_moved(renderer, graph, span), atol=1e-6)
    assert renderer.devices_run == 6


def test_who_asks_for_the_mix_at_once_has_all_that_it_is_made_of_laid_aside(tmp_path):
    project, graph, nodes, span = compressed_tracks(tmp_path, 6, 4.0)
    renderer = Renderer(project.store, Held(5 << 20, LaidAside(tmp_path / "aside")))
    mix = renderer.take(graph, graph.mix, span).audio
    for node in nodes:
        renderer.kept(graph, node, span)
    assert renderer.devices_run == 6
    np.testing.assert_allclose(mix, Renderer(project.store).take(graph, graph.mix, span).audio, atol=1e-6)


@pytest.mark.parametrize("ask", ["take", "kept"])
def test_what_another_thread_renders_at_the_same_moment_is_given_too(tmp_path, monkeypatch, ask):
    project, graph, nodes, span = compressed_tracks(tmp_path, 2, 1.0)
    renderer = Renderer(project.store)
    for node in nodes:
        expected = renderer.kept(graph, node, span)
        found = renderer._remembered
        calls = iter([True])  # it was not there when it was looked for, and is now
        monkeypatch.setattr(renderer, "_remembered", lambda *a, it=calls, f=found: None if next(it, False) else f(*a))
        again = getattr(renderer, ask)(graph, node, span)
        np.testing.assert_allclose(again.audio if ask == "take" else again, expected, atol=1e-6)
        monkeypatch.undo()


def test_what_is_made_ready_never_takes_more_than_may_be_held(tmp_path):
    project, graph, nodes, span = compressed_tracks(tmp_path, 6, 20.0)
    renderer = Renderer(project.store, Held(24 << 20))  # three takes
    renderer.make_sources([n for n in nodes_below(nodes) if isinstance(n, SourceNode)], graph.session)
    renderer.prepare(graph, nodes, (0, 9600))  # all that is loaded once
    tracemalloc.start()
    try:
        renderer.prepare(graph, nodes, span)
        _, most = tracemalloc.get_traced_memory()
    finally:
        tracemalloc.stop()
    assert most < 44 << 20  # what is held, and the blocks underway; all nodes would be 64 MB and these


@pytest.mark.parametrize("pan", [0.0, 40.0])
def test_what_is_alike_on_both_sides_is_kept_once(tmp_path, pan):
    """A tone through a device, as it is and panned: what is kept, and what is rendered from it, is what was rendered first."""
    project = tone_project(tmp_path, Low=100.0)
    session = edits.change_strip(
        edits.insert_device(project.session, "low", device("compressor", "c", threshold_db=-30.0)), "low", pan_pct=pan
    )
    first, again = (Renderer(project.store, Held()) for _ in range(2))
    stem, mix = first.stem(session, "low"), first.mix(session)
    again.stem(session, "low")
    np.testing.assert_allclose(again.stem(session, "low"), stem, atol=1e-7)
    np.testing.assert_allclose(again.mix(session), mix, atol=1e-7)
    held = [each for grade in again.held._kept.values() for each in grade.values()]
    kept = [each.value.audio for each in held if hasattr(each.value, "audio")]
    assert set(map(len, kept)) == ({1} if pan == 0.0 else {1, 2})  # after the compressor it is in the middle still


def test_work_can_be_called_off(demo):
    with pytest.raises(Cancelled):
        Renderer(demo.store).mix(demo.session, cancelled=lambda: True)


def test_a_section_sounds_as_it_does_in_the_song(demo):
    renderer = demo_renderer()
    verse = demo.session.song.section("Verse")
    start, end = demo.session.section_span(verse.id)
    whole = streamed_span(demo_renderer(), demo.session, start, end)
    alone = renderer.mix(demo.session, verse)
    # Only what level match and compressors remember from before the pre-roll can differ.
    assert np.std(whole - alone) < 10 ** (-60 / 20) * np.std(whole)


def streamed_span(renderer, session, start, end):
    graph = compile_session(session)
    blocks = []
    stream_nodes(
        renderer, graph, {"mix": graph.mix}, (start, end), block_frames=4096, sink=lambda _, x: blocks.append(x.copy())
    )
    return np.concatenate(blocks, axis=1)


def demo_of_clips(demo):
    """The demo with a file in the place of each instrument."""
    asset = demo.store.add(AudioData(noise(30.0, level=0.1), RATE, "FLOAT", "WAV"), "n", RATE)
    tracks = tuple(t.replace(source=ClipSource(asset=asset.id), parts=()) for t in demo.session.tracks)
    session = demo.session.replace(tracks=tracks, assets=(*demo.session.assets, asset), lanes=())
    return replace(demo, session=session)


@pytest.mark.parametrize("what", ["instruments", "clips"])
def test_audio_goes_from_node_to_node_in_one_piece(demo, what):
    """As ``dsp.types`` says, whatever moves: for audio that lies otherwise in memory kernels would be compiled as it plays."""
    project = demo if what == "instruments" else demo_of_clips(demo)
    session = edits.insert_device(
        project.session, "bass", device("split", "s", branches=[{"gain_db": -3.0}, {}], mix=0.5)
    )
    session = edits.insert_device(session, "keys", device("filter", "f"))
    moved = [
        ("bass", {"param": "level_db"}), ("bass", {"param": "pan_pct"}), ("drums", {"param": "level_db"}), ("mix", {"param": "level_db"}),
        ("snare", {"param": "send.space"}), ("bass", {"device": "s", "param": "mix"}), ("bass", {"device": "s", "param": "branches.0.gain_db"}),
        ("keys", {"device": "f", "param": "cutoff_hz"}), ("keys", {"device": "f", "param": "mix"}),
    ]  # fmt: skip
    for n, (strip, where) in enumerate(moved):
        low, high = (
            (0.2, 0.9)
            if where["param"] == "mix"
            else (-9.0, -3.0)
            if "cutoff" not in where["param"]
            else (300.0, 3000.0)
        )
        points = (Point(beat=0, value=low), Point(beat=140, value=high))
        session = edits.put_lane(session, Lane(id=f"l{n}", strip=strip, points=points, **where))
    graph = compile_session(session)
    renderer = demo_renderer() if what == "instruments" else Renderer(project.store)
    blocks = BlockGraph(renderer.host(session))
    blocks.show([graph.mix], renderer.source_reader(session))
    start = session.section_span(session.song.section("Chorus").id)[0]
    for frames in (512, OFFLINE_BLOCK_FRAMES):  # of long ones NumPy puts a product where a factor was
        for at in range(start, start + 2 * frames, frames):
            for key, audio in blocks.block(at, frames).items():
                assert audio.shape == (2, frames)
                assert audio.flags.c_contiguous, key
                assert audio.dtype == np.float64, key


# --- live ---------------------------------------------------------------------------------------------------------


def player_for(project, session) -> Player:
    player = Player(Renderer(project.store), RATE)
    player.set_versions(Version(compile_session(session)), None)
    player.set_loop(0, RATE)
    return player


def pull(player: Player, frames: int, block: int = 512) -> np.ndarray:
    return np.concatenate([player.block(block) for _ in range(frames // block)], axis=1)


def test_live_is_what_is_rendered(tmp_path):
    project = tone_project(tmp_path, Bass=50.0, Kick=60.0)
    session = edits.insert_device(project.session, "bass", device("compressor", "c", threshold_db=-30.0))
    live = pull(player_for(project, session), 20480)
    offline = Renderer(project.store).mix(session)
    np.testing.assert_allclose(live[:, 1024:], offline[:, 1024:20480], atol=1e-12)  # after the fade-in


def steepest(x: np.ndarray) -> float:
    return float(np.max(np.abs(np.diff(x, n=2, axis=1))))


def test_a_swap_of_a_and_b_does_not_click(tmp_path):
    project = tone_project(tmp_path, Bass=50.0)
    b = edits.change_strip(project.session, "bass", level_db=-9.0)
    player = Player(Renderer(project.store), RATE)
    player.set_versions(Version(compile_session(project.session)), Version(compile_session(b), gain_db=9.0))
    player.set_loop(0, RATE)
    steady = pull(player, 9728)[:, 1024:]
    player.choose(1)
    swapped = pull(player, 9728)
    # Matched in level, the swap is not even a change.
    assert steepest(swapped) < 1.05 * steepest(steady)
    assert np.max(np.abs(swapped)) == pytest.approx(np.max(np.abs(steady)), rel=0.02)


def test_an_edit_while_playing_does_not_click_and_is_heard_at_once(tmp_path):
    project = tone_project(tmp_path, Bass=50.0)
    session = edits.insert_device(project.session, "bass", device("eq", "e", bands=[{"freq_hz": 50.0, "gain_db": 1.0}]))
    player = player_for(project, session)
    before = pull(player, 9728)[:, 1024:]
    player.set_versions(
        Version(
            compile_session(edits.change_device(session, "bass", "e", bands=({"freq_hz": 50.0, "gain_db": -9.0},)))
        ),
        None,
    )
    after = pull(player, 24064)
    assert steepest(after) < 2.0 * steepest(before)
    # Heard within 50 ms means heard in the next blocks; a bell at 50 Hz takes a period or two to settle.
    assert np.max(np.abs(after[:, 6000:])) < 0.5 * np.max(np.abs(before))


def test_a_jump_takes_no_echo_along_and_does_not_click(tmp_path):
    # A tone through a long echo in the first second, nothing after it: there, one must hear nothing of the tone.
    first = np.concatenate([sine(500.0, 1.0, level_db=-6.0), np.zeros((2, 3 * RATE))], axis=1)
    project = project_from_stems([write_stem(tmp_path, "Lead", first)], tempo_bpm=120.0)
    session = edits.insert_device(project.session, "lead", device("delay", time=400.0, feedback=0.9, mix=0.5))
    player = Player(Renderer(project.store), RATE)
    player.set_versions(Version(compile_session(session)), None)
    player.set_loop(0, 4 * RATE)
    before = np.concatenate([player.block(512) for _ in range(80)], axis=1)
    assert np.std(before[:, -4800:]) > 0.1
    player.seek(3 * RATE)
    assert player.heard_position() == 3 * RATE
    after = np.concatenate([player.block(512) for _ in range(40)], axis=1)
    assert player.position == 3 * RATE - LEAD + 40 * 512
    # −120 dB after the fade; and the fade has no step larger than the tone itself has from sample to sample.
    assert np.max(np.abs(after[:, 1024:])) < 1e-6
    joined = np.concatenate([before[:, -2000:], after[:, :1500]], axis=1)
    assert np.max(np.abs(np.diff(joined))) < 1.5 * np.max(np.abs(np.diff(before[:, -2000:])))


def test_a_jump_while_an_edit_arrives_still_lands(tmp_path):
    project = pair_project(tmp_path, kick_hz=50.0, bass_hz=50.0)
    player = Player(Renderer(project.store), RATE)
    player.set_versions(Version(compile_session(project.session)), None)
    player.set_loop(0, 2 * RATE)
    player.block(2048)
    player.seek(RATE)
    player.set_versions(Version(compile_session(edits.change_strip(project.session, "bass", level_db=-6.0))), None)
    player.block(512)
    assert player.position == RATE - LEAD + 512
    assert np.isfinite(player.block(512)).all()


def test_a_loop_goes_round(tmp_path):
    project = tone_project(tmp_path, Bass=50.0)
    player = player_for(project, project.session)
    pull(player, 51200)
    assert 0 <= player.position < RATE


def test_the_playhead_tells_what_is_heard(tmp_path):
    project = tone_project(tmp_path, Bass=50.0)
    late = edits.insert_device(project.session, "bass", device("saturation", "s"))
    player = player_for(project, late)
    player.set_loop(12000, 24000)
    assert player.heard_position() == 12000  # nothing is underway before the first block
    pull(player, 1024)
    latency = player._versions[0].latency
    assert latency > 0
    assert player.heard_position() == 12000 - LEAD + 1024 - latency
    player.block(LEAD)
    pull(player, 10752)
    assert player.position == 23776
    player.block(224)
    player.block(32)
    assert player.heard_position() == 24000 + 32 - latency  # round the loop, but its end is still to be heard
