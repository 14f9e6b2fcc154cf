"""``zygotone bounce`` as a user types it."""

import json

import numpy as np
import pytest
import soundfile

from zygotone.cli import main
from zygotone.music.midi_files import write_midi
from zygotone.music.notes import NoteEvent

SINE = {"layers": [{"sound": {"kind": "oscillator", "shape": "sine"}, "envelope": {"sustain": 1.0, "release_ms": 50}}]}


@pytest.fixture
def files(tmp_path):
    (tmp_path / "i.json").write_text(json.dumps(SINE))
    notes = [NoteEvent(0.0, 1.0, 69, 1.0), NoteEvent(2.0, 1.0, 81, 1.0)]
    write_midi(tmp_path / "n.mid", [("x", notes)], tempo_bpm=120.0)
    return tmp_path


def bounce(folder, *more: object, out: str = "o.wav") -> np.ndarray:
    assert main(["bounce", *map(str, (folder / "i.json", folder / "n.mid", folder / out, *more))]) == 0
    return soundfile.read(folder / out, always_2d=True)[0].T


def pitch_at(x: np.ndarray, at_s: float, rate: int = 48000) -> float:
    part = x[0, round(at_s * rate) : round((at_s + 0.3) * rate)]
    return float(np.argmax(np.abs(np.fft.rfft(part * np.hanning(len(part)), 1 << 18))) * rate / (1 << 18))


def test_notes_sound_at_their_time_and_pitch(files):
    x = bounce(files)
    assert pitch_at(x, 0.1) == pytest.approx(440.0, abs=0.5)
    assert pitch_at(x, 1.1) == pytest.approx(880.0, abs=0.5)
    assert np.max(np.abs(x[:, 27000:47000])) < 1e-4  # released, and not yet the second
    assert x.shape[1] == pytest.approx(1.55 * 48000, abs=100)


def test_tempo_and_rate_are_as_asked(files):
    x = bounce(files, "--tempo", 60, "--rate", 44100)
    assert soundfile.info(files / "o.wav").samplerate == 44100
    assert pitch_at(x, 2.1, 44100) == pytest.approx(880.0, abs=0.5)


def test_a_layers_chain_is_heard(files):
    loud = {**SINE, "layers": [{**SINE["layers"][0], "chain": [{"kind": "gain", "gain_db": -20.0}]}]}
    plain = bounce(files)
    (files / "i.json").write_text(json.dumps(loud))
    np.testing.assert_allclose(bounce(files), 0.1 * plain, atol=1e-6)


@pytest.mark.parametrize(
    ("instrument", "words"),
    [
        ('{"layers": [{"sound": {"kind": "oscilator"}}]}', "oscilator"),
        ('{"layers": [{"sound": {"kind": "fm", "algorithm": "nonsense"}}]}', "algorithm"),
        ("[]", "layers"), ('{"layers": [{"sound": {"kind": "noise"}, "routes": [{"source": "lfo1", "target": "cutoff", "amount": 1}]}]}', "cutoff"),
    ],
)  # fmt: skip
def test_bad_input_is_one_line_and_nothing_is_written(files, capsys, instrument, words):
    (files / "i.json").write_text(instrument)
    code = main(["bounce", str(files / "i.json"), str(files / "n.mid"), str(files / "o.wav")])
    said = capsys.readouterr().err
    assert code == 3
    assert words in said
    assert "i.json" in said
    assert said.count("\n") == 1
    assert not (files / "o.wav").exists()


def test_a_rate_that_is_none_is_refused(files, capsys):
    assert main(["bounce", str(files / "i.json"), str(files / "n.mid"), str(files / "o.wav"), "--rate", "1234"]) == 3
    assert "48000" in capsys.readouterr().err


def test_the_sources_are_listed(capsys):
    assert main(["sources", "--json"]) == 0
    listed = json.loads(capsys.readouterr().out)["sources"]
    kinds = {"oscillator", "wavetable", "fm", "noise", "sample", "string", "drum", "formant"}
    assert {each["kind"] for each in listed} == kinds
    operators = next(p for s in listed if s["kind"] == "fm" for p in s["params"] if p["name"] == "operators")
    assert {item["name"] for item in operators["items"]} >= {"ratio", "fixed_hz", "index", "velocity"}
