"""The recipe "to add a control", followed on a copy of the source: a declaration and a driver, and it is everywhere."""

import json
import os
import shutil
import subprocess
import sys
from pathlib import Path
from typing import Any

import pytest

from waiting import within

SOURCE = Path(__file__).parents[1] / "src"
DECLARATION = """
    Declaration(
        name="deck-lamp",
        title="Deck lamp",
        hint="How bright the lamp over the chart table is.",
        quantity=q.SHARE,
        step=5.0,
        panel=PanelGroup.RARE,
        panel_order=900,
        write_order=900,
        interface=Subject.PLATFORM_MODE,
    ),
"""
DRIVER = """
from upright_bolt.kernel.driver import Facts, Found
from upright_bolt.kernel.file_control import FileControl, Number, within
from upright_bolt.model.control import ControlState

RANK = 500
PATH = "/sys/class/leds/deck/brightness"
ALLOWED = Facts(ControlState.SETTABLE, minimum=0.0, maximum=100.0)


def find(probe, machine):
    lamp = FileControl(probe, "deck-lamp", (PATH,), Number(within(0.5)), lambda: ALLOWED)
    return Found([lamp] if probe.files.exists(PATH) else [])
"""
TWIN = """
PATH = "/sys/class/leds/deck/brightness"


def files_of(physics):
    values = physics.state.extra
    return {PATH: lambda: f"{values.get('lamp', 40.0):.0f}"}, {PATH: lambda text: values.update(lamp=float(int(text)))}
"""
IN_THE_WINDOW = """
import sys
from pathlib import Path
from upright_bolt.app import open_session
from upright_bolt.desktop.app import DesktopApp
app = DesktopApp(open_session("twin:tern", Path(sys.argv[1]), "the window", exclusive=True), Path(sys.argv[1]))
row = app.window.workbench.settings.rows["deck-lamp"]
app.presenter.draft_values({"deck-lamp": 55.0})
print(row.entry.text(), "|", row.strip.accessibleName())
app.window.close()
app.tear_down()
"""


@pytest.fixture(scope="module")
def source(tmp_path_factory):
    """The source with the three files that the recipe names."""
    made = tmp_path_factory.mktemp("source")
    shutil.copytree(SOURCE, made, dirs_exist_ok=True, ignore=shutil.ignore_patterns("__pycache__"))
    package = made / "upright_bolt"
    catalogue = package / "model/catalogue.py"
    text = catalogue.read_text()
    end = text.index(")\nCATALOGUE")
    catalogue.write_text(text[:end] + DECLARATION + text[end:])
    (package / "kernel/interfaces/deck_lamp.py").write_text(DRIVER)
    (package / "simulator/files_lamp.py").write_text(TWIN)
    return made


@pytest.fixture(scope="module")
def run(source, tmp_path_factory):
    data = tmp_path_factory.mktemp("data")
    environment = {**os.environ, "PYTHONPATH": str(source)}

    def command(*words):
        done = subprocess.run(
            [sys.executable, *words], capture_output=True, text=True, env=environment, timeout=within(120), check=False
        )
        assert done.returncode == 0, done.stderr
        return done.stdout

    with_shortcuts: Any = command
    with_shortcuts.data = str(data)
    with_shortcuts.bolt = lambda *words: command("-m", "upright_bolt", "-m", "twin:tern", "--data", str(data), *words)
    return with_shortcuts


def test_it_is_listed_set_and_put_back(run):
    (listed,) = [c for c in json.loads(run.bolt("machine", "--json"))["controls"] if c["name"] == "deck-lamp"]
    assert (listed["current"], listed["min"], listed["max"], listed["state"]) == (40.0, 0.0, 100.0, "settable")
    assert "deck-lamp" in run.bolt("machine")
    (row,) = json.loads(run.bolt("set", "deck-lamp=60%", "--json"))
    assert (row["ok"], row["got"]) == (True, 60.0)
    assert json.loads(run.bolt("put-back", "--json"))["revert"] == {"deck-lamp": 40.0}


def test_it_has_a_row_in_the_window(run):
    assert run("-c", IN_THE_WINDOW, run.data).strip() == "55 % | Deck lamp"


def test_a_sweep_goes_over_it(run):
    runs = json.loads(run.bolt("sweep", "deck-lamp=20%..60%/20%", "--duration", "10s", "--json"))["runs"]
    assert [made["settings"]["deck-lamp"] for made in runs if not made["role"]] == [20.0, 40.0, 60.0]


def test_elsewhere_it_is_absent_with_a_reason(run, tmp_path):
    listed = json.loads(run("-m", "upright_bolt", "-m", "twin:skerry", "--data", str(tmp_path), "machine", "--json"))[
        "controls"
    ]
    assert {c["name"] for c in listed} >= {"deck-lamp", "sustained"}
