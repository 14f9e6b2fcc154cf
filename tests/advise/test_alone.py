"""A song of one voice: nobody hides it, and every view says so."""

import numpy as np
import pytest

from tests.builders import tone_project
from zygotone.advise.advisor import find_in
from zygotone.advise.fit_views import MapOf, OneOf
from zygotone.advise.hearing import Hearing
from zygotone.engine.graph import compile_session
from zygotone.engine.renderer import Renderer
from zygotone.session.edits import add_bus, change_strip


def never() -> bool:
    return False


@pytest.mark.parametrize("how", ["alone", "in a group", "the other muted"])
def test_a_voice_among_no_others_is_heard_whole(tmp_path, how):
    tracks = {"Lead": 440.0} if how in ("alone", "in a group") else {"Lead": 440.0, "Bass": 55.0}
    project = tone_project(tmp_path, seconds=4.0, **tracks)
    session = project.session
    if how == "in a group":
        session = add_bus(session, "Group")
        session = change_strip(session, "lead", bus=session.buses[-1].id)
    elif how == "the other muted":
        session = change_strip(session, "bass", mute=True)
    graph, section, renderer = compile_session(session), session.song.sections[0], Renderer(project.store)
    a, b = OneOf(graph, None, section, "lead").answer(renderer, never)
    assert b is None
    assert (a.share, a.maskers, a.by_bar.tolist()) == (0.0, (), [0.0] * len(a.by_bar))
    assert np.nanmax(a.hidden) == 0.0
    assert a.left_lu == 0.0
    assert a.level.max() == 1.0
    for strip in session.strips():
        OneOf(graph, graph, section, strip.id).answer(renderer, never)
    shown = MapOf(graph, section).answer(renderer, never)
    assert shown.against_all[shown.strips.index("lead")] == 0.0
    find_in(Hearing.of(graph, section, renderer))
