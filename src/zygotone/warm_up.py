"""Compiles every kernel, with progress, and makes the demo ready to play; set-up runs this once so that no user waits for it."""

from __future__ import annotations

import sys
import time
from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np

from zygotone.demo import build_demo
from zygotone.dsp.delays import DelayLine
from zygotone.dsp.dynamics import is_finite
from zygotone.dsp.interleaving import join_channels, part_channels
from zygotone.dsp.sides import add_at, both_from
from zygotone.dsp.strings import plucked_string
from zygotone.dsp.types import Stereo
from zygotone.dsp.voice_filters import add_voice
from zygotone.engine.chains import process_chain
from zygotone.engine.every_kernel import devices_that_reach_all
from zygotone.engine.graph import compile_session
from zygotone.engine.motion import smoothed
from zygotone.engine.nodes import SourceNode, nodes_below
from zygotone.engine.renderer import Renderer
from zygotone.measure.hiding import hidden_weights, loudness_left_lu, summed, weights
from zygotone.measure.levels import clicks, levels
from zygotone.measure.masking import excitation, excitation_of_ears, masked_threshold
from zygotone.measure.pitch import fundamental_hz
from zygotone.measure.report import measure_audio
from zygotone.session.catalogue import DEVICES, SOURCES
from zygotone.session.instruments import layer_params
from zygotone.session.mapped import MappedCache, takes_below, user_cache
from zygotone.session.models import Layer, Note, Route, Sound, VoiceFilter
from zygotone.session.project_file import Project
from zygotone.sources.instrument import render_note

# Settings that reach kernels the defaults leave out.
_SOURCE_REACH: dict[str, list[dict[str, Any]]] = {
    "drum": [{}, {"model": "cymbal", "drop_semitones": 0.0}],
    "oscillator": [{}, {"spread_pct": 50.0, "unison": 2}, {"shape": "pulse"}, {"shape": "sine"}],
    "sample": [{"files": ["x"]}, {"files": ["x"], "play": "loop"}],
    "wavetable": [{}, {"position": 0.3, "unison": 2}],
}

_MOST_ROUTES = 32


Progress = Callable[[int, int, str, float], None]


def warm_up(say: Progress = lambda done, total, title, seconds: None) -> None:
    """Run every kind of device, source and measure once on a second of noise."""
    rate = 48000
    noise = 0.1 * np.random.default_rng(1).standard_normal((2, rate // 4))
    jobs: list[tuple[str, Callable[[], object]]] = []
    for device in devices_that_reach_all():
        title = DEVICES.find(device.kind).title
        jobs.append((title, partial(process_chain, noise, [device], rate, max_tail_s=0.0)))
    for source in SOURCES:
        for values in _SOURCE_REACH.get(source.kind, [{}]):
            sound = Sound.model_validate({"kind": source.kind, **values})
            still = Layer(id="x", name="x", sound=sound, filter=VoiceFilter(drive_db=6.0))
            targets = [path for path, p in layer_params(still).items() if not p.at_start][:_MOST_ROUTES]
            moving = still.replace(routes=tuple(Route(source="lfo1", target=path, amount=0.01) for path in targets))
            for layer in (still, moving):
                note = Note(start_beat=0, length_beats=1, pitch=60)
                render = partial(
                    render_note, layer, note, gate_frames=4800, rate_hz=rate, a4_hz=440.0, clip=lambda name: noise
                )
                jobs.append((source.title, render))
    string = partial(plucked_string, sample_rate_hz=rate, decay_s=1.0, damping=0.3, pick=0.2, seed=1)
    jobs.append(("Strings", partial(string, 110.0, 480)))
    jobs.append(("Automation", partial(smoothed, lambda frames: np.minimum(frames, 1000.0), 0, 2000)))
    jobs.append(("Voices", _voices_in_a_song))
    jobs.append(("Tracks", _tracks_of_a_song))
    jobs.append(("Measures", partial(measure_audio, noise, rate)))
    jobs.append(("Files", _channels_of_files))
    jobs.append(("Pitch", partial(fundamental_hz, np.tile(np.linspace(-0.5, 0.5, 480), (2, 100)), rate)))
    jobs.append(("Levels", partial(_levels, noise, rate)))
    jobs.append(("Masking", partial(_who_hides_whom, noise, rate)))
    for done, (title, job) in enumerate(jobs, 1):
        start = time.monotonic()
        job()
        say(done, len(jobs), title, time.monotonic() - start)


def _channels_of_files() -> None:
    """In single precision and in double; mono too, which has kernels to look through it."""
    for frames in (np.zeros((64, 2), dtype=np.float32), np.zeros((64, 2))):
        join_channels(part_channels(frames), frames)
    is_finite(np.zeros((1, 64)))


def _voices_in_a_song() -> None:
    """Voices are added to parts of longer arrays, and parts of them to whole ones."""
    part, curve, side = np.zeros((2, 64)), np.zeros(32), np.zeros(32)
    for audio in (part[:, :32], part[:, :32].copy()):
        for out in (part[:, 32:], part[:, 32:].copy()):
            add_voice(audio, curve, side, side, out)


def _tracks_of_a_song() -> None:
    """Layers are kept in single precision and only read, as all that was worked out before; what is late in different ways is added up."""
    layer, out = np.zeros((1, 64), dtype=np.float32), np.zeros((2, 64))
    layer.setflags(write=False)
    add_at(layer, 0, np.ones((2, 1)), out, 0, 64)
    both_from(layer, 0, out)
    DelayLine(8).add_to(out.copy(), out)


def _levels(audio: Stereo, rate_hz: int) -> None:
    levels(audio, rate_hz)
    clicks(audio, rate_hz)


def _who_hides_whom(audio: Stereo, rate_hz: int) -> None:
    excitation(audio, rate_hz)
    kept = audio.astype(np.float32)
    kept.setflags(write=False)  # as what is kept is: compiled code tells them apart
    ears = excitation_of_ears(kept, rate_hz)
    weight, threshold = weights(ears.pattern, ears.own), masked_threshold(ears.pattern)
    bar = np.zeros(weight.shape[2], dtype=np.int64)
    summed(weight, bar, 1)
    hidden_weights(ears.pattern, weight, threshold, bar, 1)
    loudness_left_lu(ears.pattern, weight, threshold)


def _print_progress(done: int, total: int, title: str, seconds: float) -> None:
    bar = "█" * round(24 * done / total)
    end = "\n" if done == total or not sys.stderr.isatty() else "\r"
    sys.stderr.write(f"  {bar:<24} {done}/{total} {title} ({seconds:.1f} s)      {end}")
    sys.stderr.flush()


def play_ready(project: Project, cache: Path) -> None:
    """Renders a project's instruments to where the application looks for them, so that it plays as soon as it is opened."""
    renderer = Renderer(project.store, project.store.held, mapped=MappedCache(takes_below(cache)))
    graph = compile_session(project.session)
    renderer.make_sources([n for n in nodes_below([graph.mix]) if isinstance(n, SourceNode)], project.session)


if __name__ == "__main__":
    warm_up(_print_progress)
    sys.stderr.write("  The demo's instruments\n")
    play_ready(build_demo(), user_cache())
