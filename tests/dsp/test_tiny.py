"""What rings out into silence comes to nothing, and not to numbers that hold a processor up (IEEE 754, subnormal numbers)."""

import functools
import sys
import time

import numpy as np
import pytest

from tests.builders import pair_project
from tests.devices.test_changes import KINDS, acting, arrays
from tests.devices.walking import HOST
from tests.signals import noise
from zygotone.advise.hearing import Hearing
from zygotone.devices import make_processor
from zygotone.dsp.onsets import Onsets
from zygotone.dsp.tiny import tiny_as_zero
from zygotone.engine.block_graph import BlockGraph
from zygotone.engine.nodes import SourceNode
from zygotone.engine.pipeline import at_once
from zygotone.engine.playing import play_one
from zygotone.engine.renderer import Renderer
from zygotone.engine.stream import Player
from zygotone.engine.transport import SimulatedOutput, Transport
from zygotone.factory import factory_sounds
from zygotone.measure import report
from zygotone.measure.loudness import loudness
from zygotone.session.audio_store import AudioStore
from zygotone.sources import instrument
from zygotone.sources.instrument import source_kind


def tiny_numbers(x: np.ndarray) -> int:
    return int(np.sum((x != 0.0) & (np.abs(x) < np.finfo(x.dtype).tiny))) if x.dtype.kind in "fc" else 0


def quarter() -> float:
    """0 where what is too small is taken for zero."""
    return sys.float_info.min / 4.0


def test_within_it_only_and_in_this_thread():
    found = []
    with tiny_as_zero():
        with tiny_as_zero():
            found.append(quarter())
        found.append(quarter())
    assert found == [0.0, 0.0]
    with pytest.raises(ValueError, match="once"), tiny_as_zero():
        raise ValueError("once")
    assert quarter() > 0.0


def test_wherever_sound_is_worked_out(monkeypatch, tmp_path):
    found: dict[str, list[float]] = {}

    def note(where: str) -> float:
        found.setdefault(where, []).append(quarter())
        return 0.0

    at_once([functools.partial(note, "helpers") for _ in range(8)])

    def read(start: int, frames: int) -> np.ndarray:
        note("graph")
        return np.zeros((2, frames))

    graph = BlockGraph(HOST)
    graph.show([SourceNode("in", ("in", "source"), 0)], lambda node: read)
    graph.block(0, 64)
    list(graph.blocks([(0, 64), (64, 64)], lambda *_: None))

    session = pair_project(tmp_path).session
    hearing = Hearing(session, session.song.sections[0], Renderer(AudioStore()))
    hearing.fact("tiny", "test", lambda: note("rules"))

    monkeypatch.setattr(report, "loudness", lambda *_: note("report") or loudness(np.zeros((2, 4800)), 48000))
    report.measure_audio(np.zeros((2, 48000)), 48000)

    monkeypatch.setattr(instrument, "source_kind", lambda kind: note("voices") or source_kind(kind))
    play_one(factory_sounds()[0].instrument(), 60, rate_hz=48000, hold_s=0.1)

    class Card(SimulatedOutput):
        def write(self, block: np.ndarray) -> bool:
            note("card")
            return super().write(block)

    transport = Transport(Player(Renderer(AudioStore()), 48000), Card())
    transport.play()
    until = time.monotonic() + 20.0
    while len(found.get("card", ())) < 3 and time.monotonic() < until:
        time.sleep(0.005)
    transport.stop()
    assert set(found) == {"helpers", "graph", "rules", "report", "voices", "card"}
    assert {where: max(values) for where, values in found.items()} == dict.fromkeys(found, 0.0)
    assert quarter() > 0.0


@pytest.mark.parametrize("kind", KINDS)
@tiny_as_zero()
def test_no_device_holds_up_in_the_silence_after_a_sound(kind):
    one = make_processor(acting(kind), HOST)
    takes_key = acting(kind).spec.takes_key
    for at in range(0, 4 * 48000, 480):
        x = noise(0.01, level=0.4, seed=at) if at < 9600 else np.zeros((2, 480))
        one.position = at
        out = one.process(x.copy(), x.copy() if takes_key else None)
        assert tiny_numbers(out) == 0
        if at % 4800 == 0:
            assert {place: n for place, (_, _, array) in arrays(one).items() if (n := tiny_numbers(array))} == {}


@tiny_as_zero()
def test_hits_are_found_as_quickly_in_silence():
    finder = Onsets(48000)
    for at in range(40):
        finder.process(noise(0.1, level=0.4) if at < 2 else np.zeros((2, 4800)))
        assert not any(tiny_numbers(array) for array in (finder._filters, finder._follow, finder._since))
