"""Exports against the same rendered by other ways."""

import numpy as np
import pytest
import soundfile

from tests.session.test_bounce import a_song
from tests.signals import RATE
from zygotone.dsp.giving_up import Cancelled, given_up_when
from zygotone.engine.renderer import Renderer
from zygotone.errors import BadFileError, ParameterError
from zygotone.reports.exporting import FORMATS, ExportFiles, ExportSpec
from zygotone.session.audio_store import AudioStore


def export(folder, **more):
    session = a_song()
    renderer = Renderer(AudioStore())
    ExportFiles(session, ExportSpec(folder, **more)).answer(renderer, lambda: False)
    return session, renderer


def test_mix_tracks_and_buses_are_what_they_are_in_the_song(tmp_path):
    session, renderer = export(tmp_path / "new", tracks=True, buses=True, format="WAV, floating point")
    assert {p.name for p in (tmp_path / "new").iterdir()} == {"Untitled.wav", "Bass.wav", "Room.wav"}
    parts = {p.stem: soundfile.read(p)[0].T for p in (tmp_path / "new").iterdir()}
    length = 6 * RATE
    np.testing.assert_allclose(parts["Untitled"][:, :length], renderer.mix(session), atol=1e-6)
    np.testing.assert_allclose(parts["Bass"] + parts["Room"], parts["Untitled"], atol=1e-6)
    assert parts["Untitled"].shape[1] > length  # what rings out is there


def test_sections_laid_end_to_end_are_the_song(tmp_path):
    session, renderer = export(tmp_path, sections=True, format="WAV, floating point")
    names = sorted(p.name for p in tmp_path.iterdir())
    assert names == [f"0{n} {s} Untitled.wav" for n, s in enumerate("ABC", 1)]
    laid = np.concatenate([soundfile.read(tmp_path / n)[0].T for n in names], axis=1)
    np.testing.assert_allclose(laid, renderer.mix(session), atol=1e-6)


@pytest.mark.parametrize("words", list(FORMATS))
def test_every_format_holds_what_it_says(tmp_path, words):
    export(tmp_path, only="b", format=words)
    (path,) = tmp_path.iterdir()
    info = soundfile.info(path)
    assert (path.suffix, info.subtype, info.samplerate, info.channels) == (*FORMATS[words], RATE, 2)
    assert info.frames == 2 * RATE


def test_stopped_it_leaves_no_half_file(tmp_path):
    asked = 0

    def unwanted() -> bool:
        nonlocal asked
        asked += 1
        return asked > 20

    request = ExportFiles(a_song(), ExportSpec(tmp_path, tracks=True))
    with given_up_when(unwanted), pytest.raises(Cancelled):
        request.answer(Renderer(AudioStore()), unwanted)
    assert list(tmp_path.iterdir()) == []


def test_a_place_that_cannot_be_written_and_nothing_at_all(tmp_path):
    (tmp_path / "file").write_text("x")
    with pytest.raises(BadFileError, match="file"):
        export(tmp_path / "file" / "folder")
    with pytest.raises(ParameterError, match="nothing to export"):
        export(tmp_path, mix=False)
