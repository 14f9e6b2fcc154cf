"""The demo, whose instruments are rendered once for all tests of a run: that takes seconds, and few tests are about it."""

from __future__ import annotations

import os
from pathlib import Path

from zygotone.demo import build_demo
from zygotone.engine.renderer import Renderer
from zygotone.session.held import Held
from zygotone.session.mapped import MappedCache

FOLDER = "ZYGOTONE_TESTS_FOLDER"  # in the environment: what all processes of a run share

DEMO = build_demo()


def demo_renderer(held: Held | None = None) -> Renderer:
    """One that knows nothing yet but what the instruments play."""
    folder = os.environ.get(FOLDER)  # none where somebody runs a part by hand
    held = held if held is not None else Held()
    return Renderer(DEMO.store, held, mapped=MappedCache(Path(folder) / "takes") if folder else None)
