"""A device, a rule, a quantity and a stage that are added from here, and found everywhere with no other edit."""

import importlib.util
import json
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtGui import QAction
from PySide6.QtWidgets import QPushButton

from tests.signals import RATE, sine
from zygotone.advise.findings import RULES, Finding, Fix, Rule
from zygotone.app.desk import Desk
from zygotone.app.files import empty_project
from zygotone.app.stages import STAGES, Stage, StageWidget
from zygotone.app.widgets.basic import column, label
from zygotone.app.window import Window
from zygotone.cli import main
from zygotone.devices.base import _MAKERS, Processor, device
from zygotone.engine.chains import process_chain
from zygotone.measure.quantities import forget_quantity, quantity
from zygotone.session.catalogue import DEVICES, Kind
from zygotone.session.edits import change_strip, insert_device, new_device
from zygotone.session.models import Device
from zygotone.session.params import share
from zygotone.session.project_file import load_project, save_project

ROOT = Path(__file__).parents[2]
HALVE = Kind(
    kind="toy_halve", title="Halve", summary="Takes a share of the level away.", params=(share("by", "By", 0.5, "How much goes."),)
)  # fmt: skip


def loud_tracks(hearing, subject):
    peak = float(np.max(np.abs(hearing.stem(subject[0]))))
    if peak < 0.01:
        return []
    name = hearing.session.track(subject[0]).name
    return [
        Finding(
            id=f"toy.{subject[0]}.{hearing.section.id}", rule="toy_sounds", severity=0.5, tracks=subject,
            section=hearing.section, stage="toys", sentence=f"{name} sounds at all", advice="Halve it.", evidence={"toy_peak": peak},
        )
    ]  # fmt: skip


def halved(hearing, finding):
    softer = change_strip(hearing.session, finding.tracks[0], level_db=-6.0)
    return (Fix(label="Halve it", gain={"toy_peak": -0.1}, session=softer),)


class ToyStage(StageWidget):
    def __init__(self, desk):
        super().__init__(desk)
        self.setObjectName("stage.toys")
        self.setLayout(column(label("Toys", "title", name="toys.title"), 1))


@pytest.fixture
def toys():
    quantity("toy_peak", "Toy peak", "", 2, "lower", "The largest sample.")

    @device(HALVE)
    class Halve(Processor):
        def __init__(self, params, host):
            self._gain = 1.0 - params["by"]

        def process(self, x, key):
            return self._gain * x

    RULES.enter(
        Rule(
            name="toy_sounds", title="What sounds", over="track", reads=("toy_peak",), threshold=0.01, source="this test",
            stage="toys", subjects=lambda session: [(t.id,) for t in session.tracks], find=loud_tracks, fixes=halved,
            numbers=lambda hearing, tracks, layers: {"toy_peak": float(np.max(np.abs(hearing.stem(tracks[0]))))},
        )
    )  # fmt: skip
    STAGES.enter(Stage(key="toys", title="Toys", order=35, make=ToyStage))
    yield
    STAGES.leave("toys")
    RULES.leave("toy_sounds")
    DEVICES.leave("toy_halve")
    del _MAKERS["toy_halve"]
    forget_quantity("toy_peak")


def test_they_are_in_the_window(toys, qapp, fresh_pair, settings, settled, qtbot):
    window = Window(Desk(empty_project(), settings=settings, own_processes=False))
    window.show()
    desk = window.desk
    try:
        desk.open_project(fresh_pair, None)
        settled(window)
        # The stage has its place between Chains and Fit, its key, and its findings in the margin.
        assert list(window.left.stages) == [stage.key for stage in STAGES]
        assert list(window.left.stages).index("toys") == list(window.left.stages).index("chains") + 1
        action = window.findChild(QAction, "view.toys")
        assert action.shortcut().toString() == "Alt+4"
        action.trigger()
        qtbot.waitUntil(window.stages["toys"].isVisible)
        assert window.stack.currentWidget().objectName() == "stage.toys"
        assert window.left.stages["toys"].waiting() == 2
        trials = [b for b in window.findChildren(QPushButton) if b.objectName().startswith("finding.toy.kick")]
        trials[-1].click()
        settled(window)
        assert desk.bench.trial.title == "Halve it"
        assert desk.bench.session.track("kick").level_db == -6.0
        assert desk.bench.log[-2].readings[0].label == "Toy peak"
        desk.keep("so be it")
        assert desk.bench.log[-1].stage == "toys"
        # The device stands among those to add, and is measured as any other.
        window.show_stage("chains")
        window.findChild(QPushButton, "chains.add.toy_halve").click()
        settled(window)
        assert desk.session.strip(desk.selection.track_id).chain[-1].kind == "toy_halve"
        change = window.stages["chains"]._measured.effect
        assert change.after.lufs - change.before.lufs == pytest.approx(-6.02, abs=0.05)
        # A stage that the table does not hold leads to one that it does.
        window.show_stage("nowhere")
        assert window.stage == STAGES.leading.key
    finally:
        desk.files.saved_changes = desk.bench.changes
        window.close()


def test_they_are_in_the_command_line_the_file_and_the_docs(toys, pair, tmp_path, capsys, monkeypatch):
    session = insert_device(pair.session, "kick", new_device(pair.session.track("kick"), "toy_halve", by=0.25))
    path = tmp_path / "toys.zygotone"
    save_project(path, type(pair)(session, store=pair.store))
    assert load_project(path).session.track("kick").chain[-1].params["by"] == 0.25
    x = sine(100.0, 0.1)
    np.testing.assert_allclose(
        process_chain(x, [Device(id="h", kind="toy_halve", params=HALVE.check({}, ""))], RATE), 0.5 * x
    )

    assert main(["devices", "--json"]) == 0
    assert "toy_halve" in {d["kind"] for d in json.loads(capsys.readouterr().out)["devices"]}
    assert main(["rules", "--json"]) == 0
    told = json.loads(capsys.readouterr().out)
    assert "toy_sounds" in {r["name"] for r in told["rules"]}
    assert "toy_peak" in {q["name"] for q in told["quantities"]}
    assert main(["findings", str(path), "--json"]) == 0
    found = {f["rule"]: f for f in json.loads(capsys.readouterr().out)}
    assert found["toy_sounds"]["evidence"]["toy_peak"] > 0.01
    assert found["toy_sounds"]["fixes"][0]["label"] == "Halve it"

    monkeypatch.syspath_prepend(ROOT / "docs")
    spec = importlib.util.spec_from_file_location("make_format", ROOT / "docs" / "make_format.py")
    docs = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(docs)
    assert any("(`toy_halve`)" in line for line in docs.catalogue(DEVICES))
    assert any("(`toy_sounds`)" in line for line in docs.rules())
    assert any("(`toy_peak`)" in line for line in docs.rules())
