"""Sketches made by hand through the real window: each counts its gestures, and sounds as the same made without a hand."""

from __future__ import annotations

import json
import os
from collections.abc import Iterator
from itertools import pairwise
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QPointF, Qt
from PySide6.QtWidgets import QWidget

from tests.app.gestures import Hand, pump
from zygotone.app.files import empty_project
from zygotone.app.window import Window
from zygotone.engine.renderer import Renderer
from zygotone.factory import factory_sounds
from zygotone.music.chords import parse_chord_line
from zygotone.music.generators import chord_line, root_line
from zygotone.session import copies, note_edits
from zygotone.session.audio_store import AudioStore
from zygotone.session.differences import differences
from zygotone.session.edits import change_sections, put_phrase, set_part
from zygotone.session.instruments import InstrumentSource, Note, Phrase
from zygotone.session.models import Section, Session

CTRL, SHIFT, ALT = (
    Qt.KeyboardModifier.ControlModifier,
    Qt.KeyboardModifier.ShiftModifier,
    Qt.KeyboardModifier.AltModifier,
)
COUNTS: dict[str, tuple[int, int]] = {}  # gestures taken and allowed


@pytest.fixture(scope="module", autouse=True)
def _told() -> Iterator[None]:
    """With ZYGOTONE_GESTURES set, the counts go into that file."""
    yield
    if os.environ.get("ZYGOTONE_GESTURES"):
        Path(os.environ["ZYGOTONE_GESTURES"]).write_text(json.dumps(COUNTS))


@pytest.fixture
def empty(opened) -> Window:
    window = opened(empty_project(), stage="sounds")
    window.stages["sounds"].show_tab("Source")
    window.stages["sounds"].panel("LFOs").which_lfo = "LFO 1"
    window.stages["sounds"].notes.chords.setText("F#m9 | Dmaj7 | Bm7 | C#m7")  # whatever others left there
    return window


@pytest.fixture
def hand(empty) -> Hand:
    return Hand(empty)


def within(name: str, hand: Hand, most: int) -> None:
    COUNTS[name] = (hand.count, most)
    assert hand.count <= most, f"{name} took {hand.count} gestures, {most} are allowed"


def sound(role: str, at: int = 0):
    return [s for s in factory_sounds() if s.role == role][at]


def same_sound(by_hand: Session, by_file: Session, store: AudioStore, *, alike: bool = True) -> None:
    if alike:
        assert [d.sentence for d in differences(by_file, by_hand)] == []
    a = Renderer(store).mix(by_hand)
    b = Renderer(AudioStore()).mix(by_file)
    assert np.max(np.abs(b)) > 0.01
    np.testing.assert_allclose(a, b, atol=1e-9)


def with_phrase(session: Session, track: str, phrase: Phrase, *sections: str) -> Session:
    session = put_phrase(session, track, phrase)
    for section in sections:
        session = set_part(session, track, section, phrase.id)
    return session


def run_of(pitch: int, beats: float, step: float) -> tuple[Note, ...]:
    return tuple(Note(start_beat=n * step, length_beats=step, pitch=pitch) for n in range(round(beats / step)))


def four_tracks() -> Session:
    """Kick in quarters, hats in eighths, bass on the roots, keys in chords."""
    session = empty_project().session
    bars = parse_chord_line("F#m9 | Dmaj7 | Bm7 | C#m7")
    events = {
        "kick": run_of(60, 16.0, 1.0), "hats": run_of(60, 16.0, 0.5),
        "bass": root_line(bars, bar_beats=4.0, step_beats=0.5, lowest=28), "keys": chord_line(bars, bar_beats=4.0, lowest=50),
    }  # fmt: skip
    for role, notes in events.items():
        session, track = copies.new_track(session, role, sound(role), name=sound(role).name)
        made = tuple(n if isinstance(n, Note) else Note(start_beat=n.start_beat, length_beats=n.length_beats, pitch=n.pitch, velocity=n.velocity) for n in notes)  # fmt: skip
        session = with_phrase(session, track, Phrase(id="phrase", beats=16.0, notes=made), "song")
    return session


def test_a_four_track_sketch_from_nothing(empty, hand):
    hand.menu("tracks.new", "Kick", sound("kick").name)
    hand.click("sounds.tab.notes")
    hand.click("sounds.grid")
    hand.choose("sounds.step", "1/4")
    hand.run(0.0, 15.0, 60)
    hand.menu("tracks.new", "Hats", sound("hats").name)
    hand.click("sounds.grid")
    hand.choose("sounds.step", "1/8")
    hand.run(0.0, 15.5, 60)
    hand.menu("tracks.new", "Bass", sound("bass").name)
    hand.choose("sounds.make", "Roots in eighths")
    hand.menu("tracks.new", "Keys", sound("keys").name)
    hand.choose("sounds.make", "Chords")
    assert not hand.told or "silent" not in hand.told[-1]
    same_sound(empty.desk.session, four_tracks(), empty.desk.store)
    within("four-track sketch from nothing", hand, 60)


def test_sixteen_bars_of_velocities_in_one_sweep(empty, hand):
    hand.menu("tracks.new", "Hats", sound("hats").name)
    hand.click("sounds.tab.notes")
    hand.click("sounds.grid")  # begins a phrase
    hand.typed("sounds.phrase.beats", "64")
    hand.choose("sounds.step", "1/4")
    hand.run(0.0, 63.0, 60)
    hand.grid.choose(())
    before = empty.desk.session
    hand.count = 0
    hand.sweep((0.0, 0.1), (63.01, 1.0))
    within("sixteen bars of velocities swept", hand, 1)
    track = empty.desk.session.tracks[0]
    velocities = [n.velocity for n in sorted(track.source.phrases[0].notes, key=lambda n: n.start_beat)]
    assert len(velocities) == 64
    np.testing.assert_allclose(velocities, np.linspace(0.1, 1.0, 64), atol=0.03)
    empty.desk.bench.undo()  # one drag is one step
    assert empty.desk.session == before


def test_a_strummed_part_copied_to_another_section(empty, hand):
    song = [Section(id="verse", name="Verse", bars=4), Section(id="chorus", name="Chorus", bars=4)]
    empty.desk.edit("Sections", lambda s: change_sections(s, song))
    empty.desk.selection.set_loop(("verse",))
    hand.menu("tracks.new", "Guitar", sound("guitar").name)
    hand.click("sounds.tab.notes")
    hand.choose("sounds.make", "Chords")
    hand.menu("sounds.change", "Strum up, 24 ms")
    source = empty.desk.session.tracks[0].source
    assert any(n.nudge_ms < -20 for n in source.phrases[0].notes)
    hand.count = 0
    hand.shortcut("edit.copy")
    hand.shortcut("play.next")
    hand.shortcut("edit.paste")
    within("strummed part copied to another section", hand, 4)
    track = empty.desk.session.tracks[0]
    bare = set_part(empty.desk.session, track.id, "chorus", None)
    by_file = with_phrase(bare, track.id, source.phrases[0], "verse", "chorus")
    same_sound(empty.desk.session, by_file, empty.desk.store, alike=False)  # the copy is a phrase of its own


def test_a_chain_moved_to_another_track(empty, hand):
    hand.menu("tracks.new", "Bass", sound("bass").name)
    hand.menu("tracks.new", "Lead", sound("lead").name)
    hand.stage(3)
    for kind in ("eq", "compressor", "saturation"):
        hand.click(f"chains.add.{kind}")
    first, second = (t.id for t in empty.desk.session.tracks)
    chain = empty.desk.session.track(second).chain
    assert len(chain) == 3
    hand.count = 0
    hand.menu("chains.chain", "Move it to", empty.desk.session.track(first).name)
    hand.count -= 1  # to go over the entry that opens the inner menu is no gesture of its own
    within("chain moved to another track", hand, 2)
    assert empty.desk.session.track(second).chain == ()
    assert [d.params for d in empty.desk.session.track(first).chain] == [d.params for d in chain]


def test_a_chorus_only_bass_double_with_two_dirts(empty, hand):
    song = [Section(id="verse", name="Verse", bars=2), Section(id="chorus", name="Chorus", bars=2)]
    empty.desk.edit("Sections", lambda s: change_sections(s, song))
    hand.menu("tracks.new", "Bass", sound("bass").name)
    hand.click("sounds.tab.notes")
    hand.choose("sounds.make", "Roots in eighths")
    bass = empty.desk.session.tracks[0].id
    empty.desk.edit("Verse too", lambda s: set_part(s, bass, "verse", s.track(bass).source.phrases[0].id))
    hand.count = 0
    hand.context(empty.left.row_of(bass), "Duplicate only in Chorus")
    hand.stage(3)
    hand.click("chains.add.saturation")
    hand.typed("chains.ruler.drive_db", "18")
    hand.click("chains.add.bit_reducer")
    hand.typed("chains.ruler.bits", "7")
    within("chorus-only bass double with two dirts", hand, 12)
    session = empty.desk.session
    double = session.tracks[1]
    assert [p.section for p in double.parts] == ["chorus"]
    assert [d.kind for d in double.chain] == ["saturation", "bit_reducer"]
    alone = Renderer(empty.desk.store).stem(session, double.id)
    edge = session.section_span("chorus")[0]
    assert np.max(np.abs(alone[:, : edge - 3000])) < 1e-3 * np.max(np.abs(alone))
    assert np.max(np.abs(alone[:, edge:])) > 0.05


def test_a_reversed_swell_into_an_entry(empty, hand, settled):
    song = [Section(id="verse", name="Verse", bars=2), Section(id="chorus", name="Chorus", bars=2)]
    empty.desk.edit("Sections", lambda s: change_sections(s, song))
    empty.desk.selection.set_loop(("chorus",))
    hand.menu("tracks.new", "Keys", sound("keys").name)
    hand.click("sounds.tab.notes")
    hand.choose("sounds.make", "Chords")
    keys = empty.desk.session.tracks[0].id
    settled(empty)
    hand.count = 0
    hand.context(empty.left.row_of(keys), "Reversed swell into Chorus")
    settled(empty)
    within("reversed swell into an entry", hand, 6)
    session = empty.desk.session
    assert len(session.tracks) == 2, hand.told
    swell = np.max(np.abs(Renderer(empty.desk.store).stem(session, session.tracks[1].id)), axis=0)
    entry = session.section_span("chorus")[0]
    assert np.flatnonzero(swell > 1e-4)[-1] <= entry + 300
    assert np.max(swell[entry - 24000 : entry]) > 0.01


def test_a_ten_layer_electric_piano_that_velocity_switches(empty, hand):
    hand.menu("tracks.new", "Keys", "Empty")
    hand.click("sounds.tab.source")
    hand.choose("sounds.add", "Operators (FM)")
    hand.click("sounds.tab.envelopes")
    hand.typed("sounds.envelope.decay_ms", "900")
    hand.typed("sounds.envelope.sustain", "0.1")
    for n in range(9):
        hand.click("sounds.duplicate")
        hand.click("sounds.tab.zones") if n == 0 else None
        hand.typed("sounds.tune_cents", str(2 * n - 8))
    hand.menu("sounds.sound", "Share out the velocities")
    hand.click("sounds.tab.notes")
    hand.choose("sounds.make", "Chords")
    hand.sweep((0.0, 0.05), (12.5, 1.0))
    within("ten-layer electric piano that velocity switches", hand, 60)
    source = empty.desk.session.tracks[0].source
    assert len(source.layers) == 10
    edges = [(layer.velocity_low, layer.velocity_high) for layer in source.layers]
    assert edges[0][0] == 0.0
    assert edges[-1][1] == 1.0
    assert all(a[1] == b[0] for a, b in pairwise(edges))
    hit = {next(n for n, (low, high) in enumerate(edges) if low <= v.velocity <= high) for v in source.phrases[0].notes}
    assert len(hit) >= 4
    assert np.max(np.abs(Renderer(empty.desk.store).mix(empty.desk.session))) > 0.01


def test_a_chorus_lifted_by_hand(empty, hand):
    """Wider, brighter, louder and one more track: by lanes that add to the rulers, in the chorus only."""
    song = [Section(id="verse", name="Verse", bars=2), Section(id="chorus", name="Chorus", bars=2)]
    empty.desk.edit("Sections", lambda s: change_sections(s, song))
    for role in ("keys", "lead"):
        empty.desk.edit("Track", lambda s, r=role: copies.new_track(s, r, sound(r), name=r.capitalize())[0])
    phrase = Phrase(id="p", beats=8.0, notes=run_of(60, 8.0, 1.0))
    for t in ("keys", "lead"):
        empty.desk.edit("Notes", lambda s, t=t: with_phrase(s, t, phrase, "verse", "chorus"))
    empty.desk.selection.set_loop(("chorus",))
    empty.desk.selection.track("keys")
    pump()
    plain = empty.desk.session
    hand.stage(3)
    hand.click("chains.add.width")
    hand.choose("lane.add", "Width: Width")
    hand.choose("lane.relative", "added to the ruler")
    hand.typed("lane.point.value", "40")
    hand.choose("lane.add", "Level")
    hand.choose("lane.relative", "added to the ruler")
    hand.typed("lane.point.value", "2")
    hand.click("track.lead")
    hand.click("chains.add.eq")
    hand.choose("lane.add", "Level")
    hand.choose("lane.relative", "added to the ruler")
    hand.typed("lane.point.value", "3")
    within("chorus lift by hand", hand, 40)
    lifted = empty.desk.session
    assert all(lane.relative and lane.section == "chorus" for lane in lifted.lanes)
    store = empty.desk.store
    edge = lifted.section_span("chorus")[0]
    before, after = Renderer(store).mix(plain), Renderer(store).mix(lifted)
    np.testing.assert_allclose(before[:, : edge - 2000], after[:, : edge - 2000], atol=2e-3)

    def level(x: np.ndarray) -> float:
        return 10.0 * np.log10(np.mean(x[:, edge + 4800 :] ** 2))

    assert 1.5 < level(after) - level(before) < 4.0


def test_a_bounce_with_its_chain(empty, hand, settled, monkeypatch):
    from zygotone.app.bouncing import BounceDialog

    hand.menu("tracks.new", "Bass", sound("bass").name)
    hand.click("sounds.tab.notes")
    hand.choose("sounds.make", "Roots in eighths")
    settled(empty)
    before = Renderer(empty.desk.store).mix(empty.desk.session)
    seen = []

    def answered(dialog: BounceDialog) -> int:
        seen.append(dialog.spec())
        return BounceDialog.DialogCode.Accepted

    monkeypatch.setattr(BounceDialog, "exec", answered)
    hand.count = 0
    hand.shortcut("file.bounce")
    hand._one()  # OK
    settled(empty)
    within("bounce in place", hand, 4)
    assert seen[0].how == "chain"
    session = empty.desk.session
    assert session.tracks[1].source.type == "clip"
    after = Renderer(empty.desk.store).mix(session)
    assert np.max(np.abs(after - before)) < 1e-3 * np.max(np.abs(before))


def test_a_filter_that_opens_over_the_section(empty, hand):
    hand.menu("tracks.new", "Pad", sound("pad").name)
    hand.click("sounds.tab.notes")
    hand.choose("sounds.make", "Chords")
    hand.count = 0
    hand.stage(3)
    hand.click("chains.add.filter")
    hand.typed("chains.ruler.cutoff_hz", "300")
    ruler = hand.find(QWidget, "chains.ruler.cutoff_hz")
    hand.context(ruler, "Automate, or show its automation")
    hand.menu("lane.menu", "A ramp up")
    within("filter that opens over the section", hand, 10)
    (lane,) = empty.desk.session.lanes
    assert (lane.points[0].value, lane.points[0].beat) == (pytest.approx(300.0), 0.0)
    assert lane.points[-1].value > 900.0
    assert lane.points[-1].beat == 32.0


LINES = (("kick", (60,) * 4), ("hats", (60,) * 4), ("bass", (30, 30, 33, 35)), ("lead", (66, 69, 71, 73)))


def test_a_four_track_sketch_by_keyboard_alone(empty, hand, qtbot):
    """No mouse: menus by their keys, notes by the caret, everything else by Tab."""
    for role, pitches in LINES:
        hand.shortcut("edit.new_track")
        menu = empty.left.add.menu()
        assert menu.isVisible()
        hand.key_through(menu, role.capitalize(), sound(role).name)
        pump()
        if empty.stages["sounds"].tab == "Notes":
            hand.shortcut("sounds.page.next")
        hand.shortcut("sounds.page.before")  # from the first page to the last, the notes
        pump()
        steps = hand.tab_to("sounds.step", back=True)
        while steps.currentText() != "1/4":
            hand.key(steps, Qt.Key.Key_Up)
        grid = hand.grid
        hand.tab_to(grid.objectName())
        hand.key(grid, Qt.Key.Key_Return)  # begins a phrase
        assert grid.step == 1.0
        for n, pitch in enumerate(pitches):
            beat, now = grid._caret_now()
            del beat
            step = pitch - now
            octaves, rest = divmod(abs(step), 12)
            hand.key(grid, Qt.Key.Key_Up if step > 0 else Qt.Key.Key_Down, SHIFT, times=octaves)
            hand.key(grid, Qt.Key.Key_Up if step > 0 else Qt.Key.Key_Down, times=rest)
            hand.key(grid, Qt.Key.Key_Return)
            assert len(grid.notes) == n + 1
    session = empty.desk.session
    by_file = empty_project().session
    for role, pitches in (
        ("kick", (60,) * 4),
        ("hats", (60,) * 4),
        ("bass", (30, 30, 33, 35)),
        ("lead", (66, 69, 71, 73)),
    ):
        by_file, track = copies.new_track(by_file, role, sound(role), name=sound(role).name)
        notes = tuple(Note(start_beat=float(n), length_beats=1.0, pitch=p) for n, p in enumerate(pitches))
        by_file = with_phrase(by_file, track, Phrase(id="phrase", beats=16.0, notes=notes), "song")
    same_sound(session, by_file, empty.desk.store)
    COUNTS["four-track sketch by keyboard alone"] = (hand.count, 0)


def test_a_talking_bass_of_two_syllables(empty, hand):
    """A sung vowel moved by a drawn LFO, a sub that goes past the chain, and the place of the table by each note's macro."""
    hand.menu("tracks.new", "Bass", "Empty")
    hand.choose("sounds.add", "Sung vowel")
    hand.click("sounds.tab.lfos")
    hand.choose("sounds.lfo.shape.value", "drawn")
    hand.choose("sounds.lfo.mode.value", "with the song")
    hand.typed("sounds.lfo.rate", "1/2")
    plot = empty.stages["sounds"].panel("LFOs").lfo.plot
    x, y = plot._to_screen(np.array([0.25, 0.25]), np.array([0.0, 0.9]))
    hand.drag(plot, QPointF(x[0], y[0]), QPointF(x[1], y[1]))
    hand.click("sounds.tab.routes")
    hand.choose("sounds.route.source", "LFO 1")
    hand.choose("sounds.route.target", "Blend")
    hand.click("sounds.route.add")
    hand.choose("sounds.add", "Wavetable")
    hand.choose("sounds.route.source", "Macro 1")
    hand.choose("sounds.route.target", "Position")
    hand.click("sounds.route.add")
    hand.choose("sounds.add", "Oscillators")
    hand.click("sounds.tab.zones")
    hand.choose("sounds.output.value", "direct, past it")
    hand.typed("sounds.transpose_semitones", "-12")
    hand.click("sounds.tab.notes")
    hand.choose("sounds.make", "Roots in eighths")
    hand.shortcut("edit.select_all")
    hand.typed("sounds.note.macro1", "0.2")
    hand.menu("sounds.choose", "On weak beats")
    hand.typed("sounds.note.macro1", "0.9")
    within("talking two-syllable bass", hand, 80)
    track = empty.desk.session.tracks[0]
    assert isinstance(track.source, InstrumentSource)
    voice, table, sub = track.source.layers
    assert (voice.lfos[0].shape, voice.lfos[0].rate) == ("drawn", "1/2")
    assert len(voice.lfos[0].cycle) > 3
    assert [(r.source, r.target) for r in (*voice.routes, *table.routes)] == [
        ("lfo1", "sound.blend"),
        ("macro1", "sound.position"),
    ]
    assert sub.output == "direct"
    notes = track.source.phrases[0].notes
    weak = note_edits.weak(notes, beats_per_bar=4, bar_beats=4.0)
    assert 0 < len(weak) < len(notes)
    assert [n.macros[0] for n in notes] == [0.9 if at in weak else 0.2 for at in range(len(notes))]
    # The two syllables differ: what the voice alone plays in the first and in the second half of the LFO's cycle.
    bare = empty.desk.session.replace(tracks=(track.replace(source=track.source.replace(layers=(voice,))),))
    audio = Renderer(empty.desk.store).stem(bare, track.id)[0]
    ends = [np.abs(np.fft.rfft(audio[at : at + 8192] * np.hanning(8192))) for at in (6000, 30000)]
    alike = float(ends[0] @ ends[1] / np.linalg.norm(ends[0]) / np.linalg.norm(ends[1]))
    assert alike < 0.97
