"""The project as a whole: the architecture, the documents, set-up."""

import importlib.util
import json
import re
import subprocess
import sys
from pathlib import Path

import pytest

from zygotone.session.catalogue import DEVICES, SOURCES

ROOT = Path(__file__).parent.parent


def lint(folder: Path) -> subprocess.CompletedProcess[str]:
    command = [
        str(Path(sys.executable).parent / "lint-imports"),
        "--config",
        str(ROOT / "pyproject.toml"),
        "--no-cache",
    ]
    return subprocess.run(
        command, capture_output=True, text=True, cwd=folder, env={"PYTHONPATH": str(folder)}, timeout=120
    )


@pytest.mark.parametrize(
    ("module", "line", "broken"),
    [
        ("dsp/levels.py", "import PySide6.QtCore", "Only the interface knows Qt BROKEN"),
        ("music/tempo.py", "import zygotone.session.models", "Arrows point one way BROKEN"),
        ("measure/stereo.py", "import zygotone.advise.findings", "Arrows point one way BROKEN"),
        ("advise/roles.py", "import zygotone.app.theme", "Arrows point one way BROKEN"),
    ],
)
def test_the_import_contract_can_fail(tmp_path, module, line, broken):
    """A contract is worth what it catches: here each arrow is turned round once, in a copy."""
    import shutil

    shutil.copytree(
        ROOT / "src" / "zygotone", tmp_path / "zygotone", ignore=shutil.ignore_patterns("__pycache__", "assets")
    )
    target = tmp_path / "zygotone" / module
    target.write_text(target.read_text() + f"\n{line}\n")
    done = lint(tmp_path)
    assert done.returncode == 1
    assert broken in done.stdout


def load_docs(monkeypatch):
    monkeypatch.syspath_prepend(ROOT / "docs")
    spec = importlib.util.spec_from_file_location("make_format", ROOT / "docs" / "make_format.py")
    module = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    return module


def test_the_device_pages_are_those_of_the_declarations(monkeypatch):
    docs = load_docs(monkeypatch)
    page = (ROOT / "docs" / "devices.md").read_text()
    for line in (*docs.catalogue(DEVICES), *docs.catalogue(SOURCES)):
        assert line in page, "run: python docs/make_format.py"
    assert {kind.kind for kind in DEVICES} | set(docs.REVERB_PICTURES) == {
        path.stem for path in (ROOT / "docs" / "devices").glob("*.svg")
    }


def test_the_schema_page_is_that_of_the_models():
    import json

    from zygotone.session.models import Session

    page = (ROOT / "docs" / "format.md").read_text()
    held = json.loads(re.search(r"```json\n(.*?)\n```", page, re.DOTALL)[1])
    assert held == Session.model_json_schema(), "run: python docs/make_format.py"


def test_every_link_of_the_documents_leads_somewhere():
    for page in (ROOT / "README.md", *(ROOT / "docs").glob("*.md")):
        for target in re.findall(r"\]\(([^)#]+)\)", page.read_text()):
            assert (page.parent / target).exists(), f"{page.name}: {target}"


def test_the_lock_file_holds_hashes_and_no_addresses():
    text = (ROOT / "requirements" / "requirements.lock").read_text()
    assert "://" not in text
    packages = re.findall(r"^([\w.-]+)==", text, re.MULTILINE)
    assert len(packages) > 30
    assert text.count("--hash=sha256:") >= len(packages)


def test_everything_is_compiled_beforehand():
    """After the warm-up, no kernel that a device, source or measure uses is compiled in front of the user. In a process of its
    own, since here other tests have compiled what they need."""
    done = subprocess.run(
        [sys.executable, "-m", "tests.compiled_later"], cwd=ROOT, capture_output=True, text=True, check=False
    )
    assert done.returncode == 0, done.stderr[-2000:]
    assert json.loads(done.stdout) == []


def test_the_commands_of_the_readme_exist():
    run = (ROOT / "run").read_text()
    for word in re.findall(r"^\./run (\w+)", (ROOT / "README.md").read_text(), re.MULTILINE):
        assert f"  {word})" in run, word
    listed = subprocess.run([ROOT / "run"], capture_output=True, text=True, check=True).stdout
    for word in ("demo", "test", "app", "cli", "check", "shots", "bench"):
        assert re.search(rf"^  {word} ", listed, re.MULTILINE)
