"""Prints the compiled code that a version loads in a process that has played silence: ``[]`` if there is none."""

import json

from tests.compiled_later import kernels
from tests.demo import DEMO, demo_renderer
from tests.signals import RATE
from zygotone.engine.graph import compile_session
from zygotone.engine.nodes import SourceNode, nodes_below
from zygotone.engine.standby_process import play_silence
from zygotone.engine.stream import Player, Version


def main() -> None:
    play_silence()
    later: set[str] = set()
    known = kernels()
    graph = compile_session(DEMO.session)
    later |= newer_than(known)
    renderer = demo_renderer()
    nodes = [node for node in nodes_below([graph.mix]) if isinstance(node, SourceNode)]
    renderer.make_sources(nodes, DEMO.session)  # as the measurer does
    known = kernels()
    player = Player(renderer, RATE)
    player.set_loop(*DEMO.session.section_span(DEMO.session.song.section("Chorus").id))
    player.set_versions(Version(graph), None)
    for _ in range(100):
        player.block(1024)
    print(json.dumps(sorted(later | newer_than(known))))


def newer_than(known: dict[str, int]) -> set[str]:
    return {name for name, count in kernels().items() if count > known.get(name, 0)}


if __name__ == "__main__":
    main()
