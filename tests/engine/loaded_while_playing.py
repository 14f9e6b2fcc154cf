"""Prints the kernels that are loaded after playing has begun, by whoever plays: ``[]`` if none is."""

import json

from tests.compiled_later import kernels
from tests.demo import DEMO, demo_renderer
from tests.signals import RATE
from zygotone.engine.graph import compile_session
from zygotone.engine.stream import Player, Version
from zygotone.session import edits
from zygotone.session.automation import Lane, Point

BLOCK_FRAMES = 1024


def main() -> None:
    session = DEMO.session
    start, end = session.section_span(session.song.section("Chorus").id)
    points = (Point(beat=56, value=-9.0), Point(beat=88, value=0.0))
    moved = edits.put_lane(session, Lane(id="l", strip="drums", param="level_db", points=points))
    player = Player(demo_renderer(), RATE)
    player.set_loop(start, end)
    later: set[str] = set()
    for version in (session, moved, edits.change_strip(moved, "bass", pan_pct=20.0)):
        player.set_versions(Version(compile_session(version)), None)
        before = kernels()
        for _ in range(3 * RATE // BLOCK_FRAMES):
            player.block(BLOCK_FRAMES)
        later |= {name for name, count in kernels().items() if count > before.get(name, 0)}
    print(json.dumps(sorted(later)))


if __name__ == "__main__":
    main()
