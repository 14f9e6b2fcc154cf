"""The one door: edits, trials, undo and the log."""

import pytest
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, invariant, precondition, rule

from tests.builders import device
from zygotone.demo import build_demo
from zygotone.engine.bench import Bench, Edit
from zygotone.engine.graph import compile_session
from zygotone.errors import LoopError, ParameterError
from zygotone.session import edits
from zygotone.session.history import Reading, Trial
from zygotone.session.models import KeyInput, Section

DEMO = build_demo().session


def set_level(value: float):
    return lambda s: edits.change_strip(s, "bass", level_db=value)


def a_trial(value: float) -> Trial:
    reading = Reading(name="kick_clear_db", label="Kick clear", unit="dB", before=-1.0, after=3.2)
    return Trial(
        session=set_level(value)(DEMO),
        title=f"level {value}",
        finding="f",
        fix=1,
        tracks=("bass",),
        readings=(reading,),
    )


def test_a_hand_edit_belongs_to_the_trial():
    bench = Bench(DEMO)
    bench.try_out(a_trial(-6.0))
    bench.apply(Edit("Level", set_level(-7.0)))
    assert bench.kept == DEMO
    assert bench.session.track("bass").level_db == -7.0
    bench.keep("sits better")
    assert bench.kept.track("bass").level_db == -7.0
    assert bench.trial is None
    assert [e.action for e in bench.log] == ["tried", "kept"]
    assert bench.log[-1].reason == "sits better"
    assert bench.log[-1].readings[0].after == 3.2


def test_dropping_leaves_the_kept_version_and_is_logged():
    bench = Bench(DEMO)
    bench.try_out(a_trial(-6.0))
    bench.drop("too thin")
    assert bench.kept == DEMO
    assert [e.action for e in bench.log] == ["tried", "dropped"]


def test_all_of_it_undoes_and_the_record_says_so():
    bench = Bench(DEMO)
    bench.try_out(a_trial(-6.0))
    bench.keep()
    bench.undo()
    assert bench.trial is not None
    assert bench.kept == DEMO
    bench.undo()
    assert bench.trial is None
    bench.redo()
    bench.redo()
    assert bench.kept.track("bass").level_db == -6.0
    assert [e.action for e in bench.log] == ["tried", "kept", "undone", "undone", "redone", "redone"]


def test_many_steps_at_once_are_those_steps_one_by_one_and_told_once():
    def worked_on() -> Bench:
        bench = Bench(DEMO)
        bench.apply(Edit("Level", set_level(-2.0)))
        bench.try_out(a_trial(-6.0))
        bench.apply(Edit("Level again", set_level(-7.0)))
        bench.keep()
        bench.apply(Edit("Last", set_level(-3.0)))
        return bench

    at_once, one_by_one = worked_on(), worked_on()
    told: list[int] = []
    at_once.listen(lambda: told.append(1))
    for done in (0, 5, 2, 4, 1):
        told.clear()
        at_once.go_to_step(done)
        assert len(told) == 1
        while len(one_by_one.steps[0]) > done:
            one_by_one.undo()
        while len(one_by_one.steps[0]) < done:
            one_by_one.redo()
        assert at_once.state == one_by_one.state
        assert at_once.steps == one_by_one.steps
    assert [e.action for e in at_once.log] == [e.action for e in one_by_one.log]
    assert at_once.steps == (
        ("Level",),
        (f"Try: {a_trial(-6.0).title}", "Level again", f"Keep: {a_trial(-6.0).title}", "Last"),
    )


def test_a_drag_that_is_held_is_one_step_however_slow(monkeypatch):
    now = [0.0]
    monkeypatch.setattr("zygotone.engine.bench.time.monotonic", lambda: now[0])
    bench = Bench(DEMO)
    for n, held in enumerate((True, True, True, False)):
        bench.apply(Edit("Level", set_level(-2.0 - n), merge_key="drag", held=held))
        now[0] += 5.0
    assert bench.steps[0] == ("Level", "Level")  # what comes late and is not held is a step of its own


def test_one_drag_is_one_step():
    bench = Bench(DEMO)
    for value in (-1.5, -2.0, -2.5):
        bench.apply(Edit("Level", set_level(value), merge_key="drag"))
    bench.end_merge()
    bench.apply(Edit("Level", set_level(-9.0), merge_key="drag"))
    bench.undo()
    assert bench.session.track("bass").level_db == -2.5
    bench.undo()
    assert bench.session == DEMO


def test_a_version_of_the_log_comes_back():
    bench = Bench(DEMO)
    bench.try_out(a_trial(-6.0))
    bench.keep()
    entry = bench.log[-1]
    bench.apply(Edit("Level", set_level(0.0)))
    bench.restore(entry)
    assert bench.kept.track("bass").level_db == -6.0
    with pytest.raises(ParameterError, match="holds no version"):
        bench.restore(bench.log[0])


def test_an_edit_that_changes_nothing_is_no_step():
    bench = Bench(DEMO)
    bench.apply(Edit("Nothing", lambda s: s))
    assert bench.undo_label is None


class BenchMachine(RuleBasedStateMachine):
    """Whatever is done: undo after do is where one was, and the log only grows."""

    def __init__(self) -> None:
        super().__init__()
        self.bench = Bench(DEMO)
        self.longest = 0

    @rule(value=st.sampled_from([-12.0, -6.0, 3.0]))
    def edit(self, value):
        before = self.bench.state
        self.bench.apply(Edit("Level", set_level(value)))
        if self.bench.state != before:
            after = self.bench.state
            self.bench.undo()
            assert self.bench.state == before
            self.bench.redo()
            assert self.bench.state == after

    @rule(value=st.sampled_from([-10.0, -5.0]))
    def try_out(self, value):
        self.bench.try_out(a_trial(value))

    @precondition(lambda self: self.bench.trial is not None)
    @rule()
    def keep(self):
        b = self.bench.trial.session
        self.bench.keep()
        assert self.bench.kept == b

    @precondition(lambda self: self.bench.trial is not None)
    @rule()
    def drop(self):
        a = self.bench.kept
        self.bench.drop()
        assert self.bench.kept == a

    @rule()
    def undo(self):
        self.bench.undo()

    @invariant()
    def the_log_only_grows(self):
        assert len(self.bench.log) >= self.longest
        self.longest = len(self.bench.log)
        assert [e.number for e in self.bench.log] == list(range(1, self.longest + 1))


TestBenchMachine = BenchMachine.TestCase


def test_the_record_says_in_which_stage_it_was_decided():
    bench = Bench(DEMO)
    bench.try_out(a_trial(-6.0).replace(stage="chains"))
    bench.keep()
    bench.try_out(a_trial(-3.0).replace(stage="sounds"))
    bench.drop()
    assert [e.stage for e in bench.log] == ["chains", "chains", "sounds", "sounds"]


def test_the_present_version_is_not_restored():
    bench = Bench(DEMO)
    bench.try_out(a_trial(-6.0))
    bench.keep()
    entries, changes = len(bench.log), bench.changes
    assert not bench.restore(bench.log[-1])
    assert (len(bench.log), bench.changes) == (entries, changes)


def test_what_is_left_alone_keeps_its_nodes():
    bench = Bench(DEMO)
    old = bench.graph
    bench.apply(Edit("Level", set_level(-7.0)))
    assert bench.graph.strip["kick"] is old.strip["kick"]
    assert bench.graph.chain["bass"] is old.chain["bass"]
    assert bench.graph.mix is not old.mix
    assert bench.graph.mix.key == compile_session(bench.session).mix.key


@pytest.mark.parametrize(
    ("change", "reason"),
    [
        (lambda s: edits.with_strip(s, s.track("bass").replace(bus="nowhere")), "goes to bus"),
        (lambda s: edits.with_strip(s, s.track("bass").replace(level_db=99.0)), "level_db"),
        (lambda s: edits.with_strip(s, s.track("bass").replace(chain=s.track("bass").chain * 2)), "one id"),
        (lambda s: edits.with_strip(s, s.track("bass").replace(chain=tuple(device("eq", f"e{n}") for n in range(200)))), "chain"),
        (lambda s: s.replace(song=s.song.replace(sections=(*s.song.sections, s.song.sections[0]))), "two sections"),
        (lambda s: s.replace(song=s.song.replace(sections=(Section(id="x", name="X", bars=4),))), "does not exist"),
        (lambda s: s.replace(tracks=s.tracks * 30), "tracks"),
        (lambda s: edits.put_phrase(s, "bass", s.track("bass").source.phrases[0].replace(beats=1e-9)), "more than 200000"),
        (lambda s: edits.with_strip(s, s.track("bass").replace(source=s.track("bass").source.replace(phrases=(s.track("bass").source.phrases[0].replace(beats=20000.0),)), parts=())), "beats"),
        (lambda s: edits.insert_device(s, "bass", device("eq", "e").replace(mix=2.0)), "mix"),
        (lambda s: edits.insert_device(s, "bass", _wrong("compressor", ratio=1000.0)), "ratio must be between"),
    ],
)  # fmt: skip
def test_what_a_file_may_not_say_an_edit_may_not_do(change, reason):
    bench = Bench(DEMO)
    with pytest.raises(ValueError, match=reason):
        bench.apply(Edit("Wrong", change))
    assert bench.session is DEMO
    assert bench.undo_label is None


def _wrong(kind: str, **params: float):
    right = device(kind, "wrong")
    return right.replace(params=right.params.replace(**params))


def test_a_circle_is_refused_at_the_door():
    bench = Bench(DEMO)
    listening = device("compressor", "c").replace(key=KeyInput(track="bass"))
    ducked = device("compressor", "d").replace(key=KeyInput(track="kick"))
    bench.apply(Edit("Duck", lambda s: edits.insert_device(s, "bass", ducked)))
    before = bench.session
    with pytest.raises(LoopError, match="circle"):
        bench.apply(Edit("Circle", lambda s: edits.insert_device(s, "kick", listening)))
    assert bench.session is before


def test_many_tracks_in_a_row_are_compiled():
    """Each listens to the one before: no depth of calls grows with them."""
    track = DEMO.track("bass").replace(chain=())
    row = tuple(
        track.replace(id=f"t{n}", name=f"T{n}", chain=(device("compressor", "c").replace(key=KeyInput(track=f"t{n - 1}")),) if n else ())
        for n in range(256)
    )  # fmt: skip
    bench = Bench(DEMO.replace(tracks=row[::-1], lanes=()))
    assert len(bench.graph.strip) == len(bench.session.strips())


def test_splits_in_a_row_are_walked_once():
    """Twenty two-branch splits have 2^20 ways through them, and some hundred nodes."""
    from zygotone.engine.nodes import nodes_below

    branch = {"gain_db": 1.0, "devices": []}
    splits = tuple(device("split", f"s{n}", branches=[branch, branch]) for n in range(20))
    bench = Bench(edits.with_strip(DEMO, DEMO.track("bass").replace(chain=splits)))
    assert len(nodes_below([bench.graph.mix])) < 500
