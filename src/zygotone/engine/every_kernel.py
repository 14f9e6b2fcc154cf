"""Devices that between them call all compiled code of their kinds, for whoever compiles or loads it before it is needed."""

from __future__ import annotations

from typing import Any

from zygotone.dsp.shaping import CURVES
from zygotone.session.catalogue import DEVICES
from zygotone.session.models import Device

# Settings that reach kernels the defaults leave out.
_REACH: dict[str, list[dict[str, Any]]] = {
    "bit_reducer": [{"bits": 8.0, "hiss_db": -60.0}],
    "eq": [{"bands": [{"gain_db": 3.0}, {"gain_db": 3.0, "channel": "side"}]}],
    "compressor": [{}, {"detector": "rms"}],
    "delay": [{"drive_db": 6.0, "low_cut_hz": 100.0, "time": 5.0}],
    "filter": [{"env_octaves": 1.0, "depth_octaves": 1.0}, {"model": "ladder"}],
    "gain": [{"delay_ms": 0.01}],
    "multiband": [{}, {"phase": "minimum"}],
    "pitch": [{"semitones": 3.0}],
    "reverb": [{}, {"space": "plate"}, {"space": "nonlinear"}],
    "saturation": [{"curve": curve} for curve in CURVES] + [{"oversampling": 1}, {"clean_below_hz": 100.0}],
    "spread": [{"method": "allpass"}],
    "tremolo": [{"shape": "drift"}],
    "width": [{"keep_below_hz": 100.0}],
}


def devices_that_reach_all() -> list[Device]:
    """Each kind, with each of its settings above."""
    return [
        Device.model_validate({"kind": kind.kind, "id": f"{kind.kind}-{n}", **values})
        for kind in DEVICES
        for n, values in enumerate(_REACH.get(kind.kind, [{}]))
    ]
