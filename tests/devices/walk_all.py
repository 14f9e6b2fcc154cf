"""Every device through every pair of values of every parameter while it runs. Run with NUMBA_BOUNDSCHECK=1 by ``test_changes``:
then a kernel that reaches outside of its arrays ends it."""

from __future__ import annotations

import sys

import numpy as np

from tests.devices.test_every_device import BUSY
from tests.devices.walking import HOST, pairs
from zygotone.devices import make_processor
from zygotone.session.catalogue import DEVICES

FRAMES = 700


def walk(kind: str) -> int:
    x = 0.3 * np.random.default_rng(3).standard_normal((2, 2 * FRAMES))
    busy = BUSY.get(kind, {})
    count = 0
    for name, before, after in pairs(kind, busy):
        old, new = make_processor(before, HOST), make_processor(after, HOST)
        try:
            old.process(x[:, :FRAMES].copy(), None)
            new.adopt(old)
            new.position = FRAMES
            y = new.process(x[:, FRAMES:].copy(), None)
            y = new.process(x[:, FRAMES:].copy(), None)
        except IndexError as error:
            raise SystemExit(f"{kind}.{name}: {before.params[name]} to {after.params[name]}: {error}") from None
        assert y.shape == (2, FRAMES)
        count += 1
    return count


if __name__ == "__main__":
    kinds = sys.argv[1:] or [kind.kind for kind in DEVICES if kind.kind != "split"]
    print(sum(walk(kind) for kind in kinds), "changes")
