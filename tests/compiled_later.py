"""Prints what is compiled only after the warm-up, when devices, sources and measures work hard: ``[]`` if nothing is."""

import gc
import json

import numpy as np

from tests.devices.test_every_device import BUSY
from zygotone.advise.advisor import find_in
from zygotone.advise.hearing import Hearing
from zygotone.advise.masking import masking_map
from zygotone.demo import build_demo
from zygotone.devices import make_processor
from zygotone.engine.chains import process_chain
from zygotone.engine.live import LiveNotes
from zygotone.engine.renderer import Renderer
from zygotone.factory import factory_sounds
from zygotone.measure import dynamics, low_end, masking, pitch
from zygotone.measure.layers import band_powers
from zygotone.session.catalogue import DEVICES, SOURCES
from zygotone.session.instruments import Layer, Note, VoiceFilter
from zygotone.session.kinds import Sound
from zygotone.session.models import Device
from zygotone.sources.instrument import render_note
from zygotone.warm_up import warm_up

RATE = 48000


def kernels() -> dict[str, int]:
    """How many signatures of each kernel there are."""
    from numba.core.registry import CPUDispatcher

    return {
        f"{each.py_func.__module__}.{each.py_func.__name__}": len(each.signatures)
        for each in gc.get_objects()
        if isinstance(each, CPUDispatcher) and each.py_func.__module__.startswith("zygotone")
    }


def unlike_layers() -> list[Layer]:
    """Of the factory sounds, one layer of each source and each set of what is chosen in it."""
    found = {}
    for sound in factory_sounds():
        for layer in sound.instrument().layers:
            values = layer.sound.params.items()
            chosen = tuple((name, value) for name, value in values if isinstance(value, (str, bool)))
            found.setdefault((layer.sound.kind, chosen), layer)
    return list(found.values())


def work() -> None:
    x = 0.2 * np.random.default_rng(3).standard_normal((2, RATE))
    for kind in DEVICES:
        for values in ({}, BUSY.get(kind.kind, {})):
            device = Device.model_validate({"kind": kind.kind, **values})
            process_chain(
                x, [device], RATE, key=x[::-1].copy() if kind.takes_key else None, block_frames=512, max_tail_s=0.1
            )
            if kind.holds_chains:
                continue
            older, newer = (make_processor(device, RATE) for _ in range(2))
            older.process(x[:, :512].copy(), None)
            newer.adopt(older)
            newer.process(x[:, 512:1024].copy(), None)
    for source in SOURCES:
        layer = Layer(
            id="x",
            name="x",
            sound=Sound.model_validate({"kind": source.kind}),
            filter=VoiceFilter(drive_db=6.0, resonance=0.9),
        )
        note = Note(start_beat=0, length_beats=1, pitch=48)
        render_note(layer, note, gate_frames=9600, rate_hz=RATE, a4_hz=440.0, clip=lambda name: x)
    for layer in unlike_layers():
        note = Note(start_beat=0, length_beats=1, pitch=60)
        render_note(layer, note, gate_frames=480, rate_hz=RATE, a4_hz=440.0, clip=lambda name: x)
    demo = build_demo()
    hearing = Hearing(demo.session, demo.session.song.section("Break"), Renderer(demo.store))
    masking_map(hearing)
    find_in(hearing)
    kick = low_end.find_kick(x, RATE)
    if kick is not None:
        low_end.hit_energies(x, kick, RATE)
    masking.hidden_share(masking.excitation(x, RATE), masking.excitation(0.1 * x, RATE))
    pitch.fundamental_hz(x, RATE)
    dynamics.attack_ms(x, RATE)
    band_powers(x, RATE)
    LiveNotes(RATE).mix_into(x.copy())


def main() -> None:
    warm_up()
    before = kernels()
    work()
    after = kernels()
    print(json.dumps(sorted(name for name, count in after.items() if count > before.get(name, 0))))


if __name__ == "__main__":
    main()
