"""The command line as a user types it."""

import json
import subprocess
import sys

import numpy as np
import pytest
import soundfile

from tests.builders import write_stem
from tests.session.test_files import bad_audio
from tests.signals import RATE, bass_track, clear_db, hit_times, kick_track, noise, sine
from zygotone.cli import main
from zygotone.session.project_file import load_project

MEASURE_KEYS = [
    "file",
    "rate_hz",
    "seconds",
    "integrated_lufs",
    "loudness_range_lu",
    "momentary_max_lufs",
    "short_term_max_lufs",
    "true_peak_dbtp",
    "sample_peak_dbfs",
    "rms_dbfs",
    "crest_db",
    "correlation",
    "side_share",
    "fold_down_loss_lu",
    "centroid_hz",
    "fundamental_hz",
    "fundamental_note",
    "fundamental_cents",
    "third_octaves_db",
]


@pytest.fixture
def run(capsys):
    """Runs a command; gives exit code, output and errors."""

    def call(*arguments: object) -> tuple[int, str, str]:
        code = main([str(a) for a in arguments])
        out, err = capsys.readouterr()
        return code, out, err

    return call


@pytest.fixture
def stems(tmp_path):
    return [
        write_stem(tmp_path, "Kick", kick_track(50.0)),
        write_stem(tmp_path, "Bass", bass_track(50.0, gap_ms=-9.0, level=0.6)),
    ]


@pytest.fixture
def project(run, stems, tmp_path):
    path = tmp_path / "song.zygotone"
    assert (
        run(
            "new",
            path,
            *stems,
            "--role",
            "Kick=kick",
            "--role",
            "Bass=bass",
            "--seat",
            "Bass=4",
            "--tempo",
            "120",
            "--key",
            "F#m",
        )[0]
        == 0
    )
    return path


def test_it_runs_as_a_program(tmp_path):
    done = subprocess.run(
        [sys.executable, "-m", "zygotone.cli", "devices", "--json"],
        capture_output=True,
        text=True,
        timeout=120,
        check=True,
    )
    kinds = {d["kind"]: d for d in json.loads(done.stdout)["devices"]}
    assert {"gain", "pan", "eq", "keyed_eq", "compressor", "saturation", "mono_low"} <= set(kinds)
    assert kinds["compressor"]["takes_key"] is True
    threshold = kinds["compressor"]["params"][0]
    assert threshold == {
        "name": "threshold_db", "type": "float", "unit": "dB", "low": -60.0, "high": 0.0, "default": -20.0, "scale": "db",
        "choices": None, "help": threshold["help"], "items": None,
    }  # fmt: skip
    bands = kinds["eq"]["params"][0]
    assert bands["type"] == "list"
    assert [p["name"] for p in bands["items"]] == ["shape", "freq_hz", "gain_db", "q", "slope_db_oct", "channel", "on"]


def test_a_project_from_stems(project):
    session = load_project(project).session
    assert [(t.name, t.role, t.seat) for t in session.tracks] == [("Kick", "kick", 1), ("Bass", "bass", 4)]
    assert (session.song.tempo_bpm, session.song.key) == (120.0, "F♯ minor")


def test_from_finding_to_kept_decision(run, project, tmp_path):
    code, out, _ = run("findings", project, "--json")
    assert code == 0
    found = {f["rule"]: f for f in json.loads(out)}
    clash = found["kick_bass_clash"]
    assert set(clash) == {
        "id", "rule", "severity", "tracks", "section", "bars", "band_hz", "hidden_share", "stage", "on_purpose", "sentence", "evidence",
        "fixes",
    }  # fmt: skip
    assert clash["tracks"] == ["Kick", "Bass"]
    assert clash["evidence"]["kick_hz"] == pytest.approx(50.0, abs=0.5)
    assert clash["evidence"]["bass_hz"] == pytest.approx(50.0, abs=0.5)
    assert clash["evidence"]["onset_gap_ms"] == pytest.approx(-9.0, abs=1.0)
    for fix in clash["fixes"]:
        assert {"label", "school", "applies", "why_not", "gain", "cost"} <= set(fix)
    number = next(n for n, f in enumerate(clash["fixes"], 1) if f["label"] == "Duck the whole bass")
    code, out, _ = run(
        "try", project, "--finding", clash["id"], "--fix", number, "-o", tmp_path / "kept.zygotone", "--json"
    )
    assert code == 0
    report = json.loads(out)
    promised, change = report["promised"]["kick_clear_db"], report["measured"]["kick_clear_db"]
    assert change["change"] == pytest.approx(promised, abs=0.3)
    assert change["after"] >= 3.0
    kept = load_project(tmp_path / "kept.zygotone")
    assert [e.action for e in kept.log] == ["found", "tried", "kept"]
    # The same number again, from rendered files and with other code.
    gains = []
    for version in (project, tmp_path / "kept.zygotone"):
        assert run("render", version, "--stems", tmp_path / "stems", "--subtype", "FLOAT")[0] == 0
        kick, bass = (soundfile.read(tmp_path / "stems" / f"{n}.wav")[0].T for n in ("Kick", "Bass"))
        gains.append(clear_db(kick, bass, 50.0, hit_times()))
    assert gains[1] - gains[0] == pytest.approx(promised, abs=0.3)


def test_a_fix_that_does_not_exist_or_apply(run, project, tmp_path):
    code, _, err = run("try", project, "--finding", "nonsense", "--fix", 1, "-o", tmp_path / "o.zygotone")
    assert (code, err.count("\n")) == (3, 1)
    assert "there is no finding 'nonsense'" in err
    finding = "kick-bass.kick.bass.song"
    code, _, err = run("try", project, "--finding", finding, "--fix", 9, "-o", tmp_path / "o.zygotone")
    assert code == 3
    assert "has fixes 1 to 5, not 9" in err
    assert not (tmp_path / "o.zygotone").exists()


def test_render_writes_mix_stems_and_sections(run, project, tmp_path):
    code, *_ = run(
        "render", project, "-o", tmp_path / "mix.wav", "--stems", tmp_path / "s", "--block", 100, "--subtype", "FLOAT"
    )
    assert code == 0
    mix, rate = soundfile.read(tmp_path / "mix.wav")
    parts = [soundfile.read(tmp_path / "s" / f"{n}.wav")[0] for n in ("Kick", "Bass")]
    assert rate == RATE
    np.testing.assert_allclose(mix, parts[0] + parts[1], atol=1e-6)
    assert run("render", project, "-o", tmp_path / "kick.flac", "--track", "Kick", "--section", "Song")[0] == 0
    kick, _ = soundfile.read(tmp_path / "kick.flac")
    np.testing.assert_allclose(kick, parts[0][: len(kick)], atol=1e-5)
    assert soundfile.info(tmp_path / "kick.flac").subtype == "PCM_24"


def test_render_says_what_is_wrong(run, project, tmp_path):
    assert run("render", project)[0] == 2
    for arguments, words in (
        (["--track", "Flute"], "there is no track 'Flute'"),
        (["--section", "Coda"], "there is no section 'Coda'"),
        (["--subtype", "PCM_99"], "cannot hold PCM_99"),
    ):
        code, _, err = run("render", project, "-o", tmp_path / "x.wav", *arguments)
        assert code == 3, words
        assert words in err
        assert not (tmp_path / "x.wav").exists()
    assert run("render", project, "-o", tmp_path / "x.mp3")[0] == 3


def test_measure_prints_an_object_a_file(run, stems, tmp_path):
    code, out, _ = run("measure", *stems, "--json")
    assert code == 0
    objects = [json.loads(line) for line in out.splitlines()]
    assert [o["file"] for o in objects] == [str(s) for s in stems]
    for one in objects:
        assert list(one) == MEASURE_KEYS
        assert one["fundamental_hz"] == pytest.approx(50.0, abs=0.5)
    write_stem(tmp_path, "silence", np.zeros((2, RATE)))
    _, out, _ = run("measure", tmp_path / "silence.wav", "--json")
    assert json.loads(out)["integrated_lufs"] is None
    code, out, _ = run("measure", stems[0])
    assert "integrated_lufs" in out


@pytest.mark.parametrize(
    "what", ["truncated", "empty", "no frames", "0 channels", "nan", "8 channels", "not audio", "missing", "a folder"]
)
def test_bad_files_are_one_line_and_exit_3(run, tmp_path, what):
    path, _ = bad_audio(tmp_path)[what]
    chain = tmp_path / "chain.json"
    chain.write_text('{"devices": []}')
    before = sorted(p.name for p in tmp_path.iterdir())
    for arguments in (
        ["measure", path, "--json"],
        ["process", path, tmp_path / "o.wav", "--chain", chain],
        ["new", tmp_path / "o.zygotone", path],
    ):
        code, out, err = run(*arguments)
        assert code == 3
        assert err.startswith("zygotone: ")
        assert err.count("\n") == 1
        assert str(path) in err
        assert not out
    assert sorted(p.name for p in tmp_path.iterdir()) == before


def chain_file(tmp_path, *devices: dict):
    path = tmp_path / "chain.json"
    path.write_text(json.dumps({"devices": list(devices)}))
    return path


@pytest.mark.parametrize("subtype", ["FLOAT", "PCM_16", "PCM_24"])
@pytest.mark.parametrize("channels", [1, 2])
def test_an_idle_chain_gives_back_the_input(run, tmp_path, subtype, channels):
    x = noise(0.5, level=0.2)[:channels]
    soundfile.write(tmp_path / "in.wav", x.T, RATE, subtype=subtype)
    idle = [
        {"kind": "gain"},
        {"kind": "eq", "bands": [{}]},
        {"kind": "compressor", "ratio": 1, "lookahead_ms": 5},
        {"kind": "saturation", "drive_db": 0, "mix": 0.5},
    ]
    # To 16 bits the output is dithered, so that case compares in floating point.
    out_type = [] if subtype != "PCM_16" else ["--subtype", "FLOAT"]
    assert (
        run("process", tmp_path / "in.wav", tmp_path / "out.wav", "--chain", chain_file(tmp_path, *idle), *out_type)[0]
        == 0
    )
    a, b = soundfile.read(tmp_path / "in.wav")[0], soundfile.read(tmp_path / "out.wav")[0]
    assert soundfile.info(tmp_path / "out.wav").subtype == ("FLOAT" if subtype != "PCM_24" else "PCM_24")
    assert a.shape == b.shape
    assert np.max(np.abs(a - b)) < 2e-7


def test_a_key_file_feeds_what_takes_a_key(run, tmp_path):
    write_stem(tmp_path, "in", sine(300.0, 1.0, level_db=-12))
    write_stem(tmp_path, "key", kick_track(50.0, hits=2))
    chain = chain_file(tmp_path, {"kind": "compressor", "threshold_db": -40, "ratio": 10, "attack_ms": 1})
    for name, more in (("own", []), ("keyed", ["--key", tmp_path / "key.wav"])):
        assert run("process", tmp_path / "in.wav", tmp_path / f"{name}.wav", "--chain", chain, *more)[0] == 0
    own, keyed = (soundfile.read(tmp_path / f"{n}.wav")[0] for n in ("own", "keyed"))
    quiet = slice(2000, 11000)  # before the first hit
    np.testing.assert_allclose(keyed[quiet], soundfile.read(tmp_path / "in.wav")[0][quiet], atol=1e-6)
    assert np.max(np.abs(own[6000:])) < 0.5 * np.max(np.abs(keyed[6000:]))


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("{", "is not JSON"),
        ("[]", "is not of the form"),
        ('{"devices": [{"kind": "compresor"}]}', "did you mean compressor?"),
        ('{"devices": [{"kind": "compressor", "treshold_db": 1}]}', "did you mean threshold_db?"),
        ('{"devices": [{"kind": "compressor", "ratio": "loud"}]}', "ratio must be a number"),
        ('{"devices": [{"kind": "compressor", "ratio": NaN}]}', "ratio must be between"),
        ('{"devices": [{"kind": "eq", "bands": [{}, {"gain_db": 99}]}]}', r"bands[1].gain_db must be between"),
        ('{"devices": [{"mix": 1}]}', "kind is missing"),
        ('{"devices": [{"kind": "pan", "mix": 3}]}', "mix"),
        ('{"devices": [{"kind": "compressor", "key": {"track": "kick"}}]}', "use --key"),
        ('{"devices": ' + "[" * 50000 + "]" * 50000 + "}", "nested too deeply"),
    ],
)
def test_a_bad_chain_is_refused_by_place(run, tmp_path, text, words):
    write_stem(tmp_path, "in", noise(0.1))
    (tmp_path / "chain.json").write_text(text)
    code, _, err = run("process", tmp_path / "in.wav", tmp_path / "out.wav", "--chain", tmp_path / "chain.json")
    assert code == 3
    assert err.startswith(f"zygotone: {tmp_path / 'chain.json'}")
    assert words in err
    assert err.count("\n") == 1
    assert not (tmp_path / "out.wav").exists()


@pytest.mark.parametrize(
    "arguments",
    [
        ["measure"],
        ["render", "x.zygotone"],
        ["process", "a.wav"],
        ["new"],
        ["try", "x.zygotone"],
        ["measure", "a.wav", "--loud"],
        ["new", "o.zygotone", "a.wav", "--seat", "a=99"],
    ],
)
def test_bad_usage_is_exit_2(run, arguments):
    assert run(*arguments)[0] == 2


def test_projects_that_lie_are_exit_3(run, tmp_path):
    (tmp_path / "not.zygotone").write_bytes(b"no zip")
    for command in (["findings"], ["render", "-o", tmp_path / "x.wav"]):
        code, _, err = run(command[0], tmp_path / "not.zygotone", *command[1:])
        assert code == 3
        assert "is not a Zygotone project" in err
        assert err.count("\n") == 1


def test_bad_roles_tempo_and_keys(run, stems, tmp_path):
    for more, words in (
        (["--role", "Kick=drummer"], "must be one of kick"),
        (["--role", "Nobody=kick"], "there is no stem named"),
        (["--key", "H moll"], "a key looks like"),
    ):
        code, _, err = run("new", tmp_path / "x.zygotone", *stems, *more)
        assert code == 3
        assert words in err
        assert not (tmp_path / "x.zygotone").exists()
    assert run("new", tmp_path / "x.zygotone", *stems, "--tempo", "5000")[0] == 2


def test_the_demo_is_written_alike_each_time(run, tmp_path):
    for name in ("a", "b"):
        assert run("demo", tmp_path / f"{name}.zygotone")[0] == 0
    assert (tmp_path / "a.zygotone").read_bytes() == (tmp_path / "b.zygotone").read_bytes()
    code, _, err = run("demo", tmp_path / "no" / "folder.zygotone")
    assert code == 3
    assert "cannot be saved" in err


def test_sources_are_listed(run):
    kinds = {s["kind"] for s in json.loads(run("sources", "--json")[1])["sources"]}
    assert {"oscillator", "drum"} <= kinds


def test_audio_that_a_package_ships_is_handled(run, tmp_path):
    """Files nobody here made: SciPy's own test WAVs, good ones and broken ones."""
    from pathlib import Path

    import scipy.io

    folder = Path(scipy.io.__file__).parent / "tests" / "data"
    files = sorted(folder.glob("*.wav"))
    assert files
    good = []
    for path in files:
        code, out, err = run("measure", path, "--json")
        assert code in (0, 3), path
        assert err.count("\n") <= 1
        if code == 0:
            assert list(json.loads(out)) == MEASURE_KEYS
            good.append(path)
    assert len(good) >= 3
    assert run("new", tmp_path / "foreign.zygotone", *good)[0] == 0
    assert run("findings", tmp_path / "foreign.zygotone", "--json")[0] == 0
    chain = chain_file(tmp_path, {"kind": "eq", "bands": [{"gain_db": 3}]}, {"kind": "saturation", "drive_db": 6})
    assert run("process", good[0], tmp_path / "out.wav", "--chain", chain)[0] == 0


def test_the_masking_map(run, project):
    code, out, _ = run("masking", project, "--json")
    assert code == 0
    section = json.loads(out)
    assert [t["name"] for t in section["tracks"]] == ["Kick", "Bass"]
    pairs = {(p["masker"], p["maskee"]): p for p in section["pairs"]}
    assert set(pairs) == {("Kick", "Bass"), ("Bass", "Kick")}
    one = pairs["Bass", "Kick"]
    assert 0.0 < one["hidden_share"] <= 1.0
    assert sum(one["third_octaves"].values()) == pytest.approx(one["hidden_share"], abs=0.01)
    assert len(one["by_bar"]) == section["bars"]
    assert run("masking", project)[0] == 0
    assert run("masking", project, "--section", "Nowhere")[0] == 3


def test_a_section_is_settled_within_limits(run, project, tmp_path):
    out_file = tmp_path / "settled.zygotone"
    code, out, _ = run("settle", project, "-o", out_file, "--json", "--no-ducking", "--deepest", "-6")
    assert code == 0
    report = json.loads(out)
    best = report["trials"][0]
    assert best["severity_after"] < best["severity_before"]
    assert report["kept"] == best["title"]
    assert all("Duck" not in step["label"] for step in best["steps"])
    settled = load_project(out_file)
    assert [e.action for e in settled.log] == ["tried", "kept"]
    # What it says is left is what is found in the file.
    code, out, _ = run("findings", out_file, "--json")
    assert sorted(f["id"] for f in json.loads(out)) == sorted(f["id"] for f in best["left"])
    # The same again.
    code, again, _ = run(
        "settle", project, "-o", tmp_path / "again.zygotone", "--json", "--no-ducking", "--deepest", "-6"
    )
    assert json.loads(again)["trials"] == report["trials"]
    untouched = run(
        "settle", project, "-o", tmp_path / "u.zygotone", "--json", "--untouched", "Bass", "--untouched", "Kick"
    )
    assert untouched[0] == 0
    kept = load_project(tmp_path / "u.zygotone").session
    assert kept.tracks == load_project(project).session.tracks
    assert run("settle", project, "-o", tmp_path / "x.zygotone", "--untouched", "Nobody")[0] == 3
    code, out, _ = run("settle", project, "--song", "-o", tmp_path / "song.zygotone", "--json")
    whole = json.loads(out)
    assert (code, whole["section"], whole["kept"]) == (0, None, "Section by section")
    assert whole["trials"][0]["severity_after"] < whole["trials"][0]["severity_before"]
    assert load_project(tmp_path / "song.zygotone").log[-1].title == "Settle the song: section by section"


def test_a_bracket_in_a_name_is_a_bracket(tmp_path, run):
    """Names come from outside; tables print them as they are."""
    stems = []
    for name, hz in (("[red]Bass[/red]", 60.0), ("[bold]Lead", 900.0)):
        stems.append(tmp_path / "stems" / f"{name.replace('/', '')}.wav")
        stems[-1].parent.mkdir(exist_ok=True)
        soundfile.write(stems[-1], 0.2 * np.sin(2.0 * np.pi * hz * np.arange(96000) / 48000), 48000)
    project = tmp_path / "p.zygotone"
    assert run("new", project, *stems)[0] == 0
    code, out, _err = run("masking", project)
    assert code == 0
    assert "[bold]" in out
    assert "[red]" in out
