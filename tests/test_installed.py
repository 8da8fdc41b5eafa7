"""What ``make install`` puts in place: complete, usable through the real bus' activation, and gone after uninstall."""

import json
import os
import re
import subprocess
import sys
import xml.etree.ElementTree as ET
from pathlib import Path

import pytest

from test_service_rights import NAMESPACES, namespaces_work
from upright_bolt.model.workloads import WORKLOADS
from waiting import within

ROOT = Path(__file__).resolve().parents[1]
pytestmark = [pytest.mark.timeout(900), pytest.mark.long]  # the first test installs everything, packages included
PLACED = {
    "usr/local/bin/upright-bolt",
    "usr/local/share/applications/org.upright_bolt.UprightBolt.desktop",
    "usr/local/share/metainfo/org.upright_bolt.UprightBolt.metainfo.xml",
    "usr/local/share/icons/hicolor/scalable/apps/org.upright_bolt.UprightBolt.svg",
    "usr/local/share/doc/upright-bolt/service.md",
    "usr/local/share/doc/upright-bolt/security.md",
    "usr/local/share/man/man1/upright-bolt.1",
    "usr/local/share/bash-completion/completions/upright-bolt",
    "usr/local/share/zsh/vendor-completions/_upright-bolt",
    "usr/local/share/fish/vendor_completions.d/upright-bolt.fish",
    "usr/share/dbus-1/system-services/org.upright_bolt.Machine1.service",
    "usr/share/dbus-1/system.d/org.upright_bolt.Machine1.conf",
    "usr/share/polkit-1/actions/org.upright-bolt.policy",
    "usr/lib/systemd/system/upright-bolt.service",
    "usr/lib/systemd/system/upright-bolt-boot.service",
    "usr/lib/systemd/system/multi-user.target.wants/upright-bolt-boot.service",
    "usr/local/share/doc/upright-bolt/profiles.md",
}


def make(word, stage):
    """Install or uninstall as root with the strictest habit would."""
    return subprocess.run(
        ["make", "-C", str(ROOT), word, f"DESTDIR={stage}"], capture_output=True, text=True, check=True, umask=0o077
    )


@pytest.fixture(scope="module")
def stage(tmp_path_factory):
    made = tmp_path_factory.mktemp("stage") / "tests"  # a name that folders of packages have as well
    made.mkdir()
    made.chmod(0o755)
    others = made / "usr/local/share/icons"
    others.mkdir(parents=True)
    make("install", made)
    yield made
    make("uninstall", made)
    assert list(made.rglob("*")) == [made / "usr", made / "usr/local", made / "usr/local/share", others]


def placed(stage, end):
    return (stage / next(path for path in PLACED if path.endswith(end))).read_text()


def test_every_file_is_in_its_place_and_names_the_others_rightly(stage):
    found = {str(p.relative_to(stage)) for p in stage.rglob("*") if not p.is_dir()}
    assert {path for path in found if "/lib/upright-bolt/" not in path} == PLACED
    compiled = {path.parent.parent.name for path in stage.rglob("__pycache__/__init__.*.pyc")}
    assert {"upright_bolt", "numpy", "pydantic"} <= compiled
    assert "tests" not in compiled
    assert "Exec=/usr/local/bin/upright-bolt service" in placed(stage, "Machine1.service")
    assert "ExecStart=/usr/local/bin/upright-bolt service" in placed(stage, "upright-bolt.service")
    begins = placed(stage, "multi-user.target.wants/upright-bolt-boot.service")
    assert "ExecStart=/usr/local/bin/upright-bolt boot begin" in begins
    assert "ConditionKernelCommandLine=!upright-bolt=off" in begins
    assert not any("@" in placed(stage, end) for end in ("bin/upright-bolt", "Machine1.service"))
    actions = {action.get("id") for action in ET.fromstring(placed(stage, ".policy")).iter("action")}
    from upright_bolt.service.names import BUS_NAME, Action

    assert actions == {action.value for action in Action}
    assert f'own="{BUS_NAME}"' in placed(stage, ".conf")
    assert ET.fromstring(placed(stage, ".svg")).tag.endswith("svg")
    app = ET.fromstring(placed(stage, "metainfo.xml"))
    assert app.findtext("launchable") == "org.upright_bolt.UprightBolt.desktop"


def test_everybody_may_read_what_is_installed_and_nobody_but_root_write_it(stage):
    for path in stage.rglob("*"):
        mode = path.stat().st_mode & 0o777
        assert mode == 0o755 if path.is_dir() else mode in (0o755, 0o644), path


def test_the_unit_leaves_open_only_what_the_work_needs(stage):
    unit = placed(stage, "systemd/system/upright-bolt.service")
    for line in (
        "CapabilityBoundingSet=CAP_SYS_RAWIO CAP_SYS_ADMIN", "ProtectSystem=strict", "DevicePolicy=closed",
        "PrivateNetwork=yes", "NoNewPrivileges=yes", "ProtectKernelTunables=yes",
        "SystemCallFilter=@system-service",
    ):  # fmt: skip
        assert line in unit.splitlines()


@pytest.mark.skipif(
    not namespaces_work(), reason="needs root, unshare with mount namespaces, and Debian's package polkitd"
)
def test_every_workload_runs_and_the_bus_starts_the_service_and_polkit_by_itself(stage):
    scene = Path(__file__).with_name("installed_scene.py")
    command = [*NAMESPACES, sys.executable, str(scene), str(stage)]
    done = subprocess.run(command, capture_output=True, text=True, check=False, timeout=within(300))
    assert done.returncode == 0, done.stderr
    told = json.loads(done.stdout)
    assert told["before"] == []
    assert told["machine"]["code"] == 0, told["machine"]
    assert "root service" not in {gap["what"] for gap in json.loads(told["machine"]["out"])["missing"]}
    assert len(told["after"]) == 1
    assert told["uid"] == [0]
    assert told["polkit"]
    assert told["first_answer_s"] < within(10.0)
    assert json.loads(told["status"]["out"]) == {
        "trial": None, "drift": [], "kept": {}, "capped": {}, "unseen": "", "stock_unknown": False,
    }  # fmt: skip
    assert "host" in told["state"]
    for who in ("without a bus", "nobody"):
        assert told[who]["code"] == 0, told[who]
        assert "- root service: " in told[who]["out"]
    assert "there is no system bus here; install the root service with" in told["without a bus"]["out"]
    homeless = told["without a home"]
    assert homeless["code"] == 1
    assert homeless["err"].startswith("Setting anything here needs root or the root service: there is no system bus")
    assert "/nonexistent/.local/share/upright-bolt/machines/host cannot be written" in homeless["err"]
    assert "You may not read this machine through the root service" in told["nobody"]["out"]
    assert told["nobody sets"]["code"] == 1
    battery = any("battery" in sensor["name"] for sensor in json.loads(told["machine"]["out"])["sensors"])
    for who in ("workloads", "workloads as root"):
        assert_all_ran(told[who], battery=battery)
    assert_sudo_runs_as_its_caller(told["under sudo"])
    assert_nothing_planted_counts(told["planted"])
    assert "PermissionError" in told["lock"]["stranger"]
    assert told["lock"]["put back"]["err"] == "No trial is running.\n"


def assert_all_ran(workloads, *, battery):
    assert {what.split()[0] for what in workloads} == set(WORKLOADS)
    assert len(workloads) == 2 * len(WORKLOADS)
    for what, done in workloads.items():
        if what.startswith("battery ") and not battery:
            assert "no battery whose drain could be measured" in done["err"]
            continue
        if what.startswith("cooling ") and done["code"]:  # it needs watts, a temperature, and limits that can be set
            assert done["code"] == 2
            assert json.loads(done["err"])["error"].startswith("cooling: ")
            continue
        assert done["code"] == 0, (what, done)
        run = json.loads(done["out"])
        assert (run["state"], run["errors"]) == ("finished", []), what
        scored = WORKLOADS[what.split()[0]].score is not None
        assert (run["score"] is not None) == scored, what


def assert_sudo_runs_as_its_caller(told):
    assert told["command"]["code"] == 0, told["command"]
    assert json.loads(told["command"]["out"])["score"] == 1.0  # what “id -u” said
    assert told["worker uids"] == [1]
    assert told["helper uids"] == [0, 1]  # what sets the machine, and the program
    for what in ("steady", "export", "capture"):
        assert told[what]["code"] == 0, told[what]
    assert set(told["owners"].values()) == {1}, told["owners"]
    assert len(told["owners"]) >= 4


def assert_nothing_planted_counts(told):
    assert told["victim"] == "precious"
    assert told["aside"] == []
    assert told["under sudo"]["code"] == 0, told["under sudo"]
    assert "damaged" not in told["under sudo"]["err"]
    for what in ("as root", "a twin", "runs"):
        assert told[what]["code"] == 1
        assert re.search("(belongs to|can be changed by) daemon, so what .* is not trusted", told[what]["err"])


@pytest.mark.attack
@pytest.mark.skipif(
    not namespaces_work(), reason="needs root, unshare with mount namespaces, and Debian's package polkitd"
)
def test_rights_kills_and_attacks_on_the_installed_layout_with_the_real_polkit(stage, request):
    scene = Path(__file__).parent / "attack/installed_attack_scene.py"
    kills = 100 if request.config.getoption("--long") else 5
    done = subprocess.run(
        [*NAMESPACES, sys.executable, str(scene), str(stage), str(kills)],
        capture_output=True, text=True, check=False, timeout=within(300 + 5 * kills),
        env={**os.environ, "PYTHONPATH": str(Path(__file__).parent)},
    )  # fmt: skip
    assert done.returncode == 0, done.stderr
    told = json.loads(done.stdout)
    assert told["before"] == ""
    assert told["uid"] == 0
    everything = {"set": True, "back": {"sustained": 18.0}, "voltage": True, "back2": {"core-offset": 0.0}}
    assert told["root"] == told["owner with password"] == {"watch": "yes", **everything}
    assert told["stranger"]["watch"].startswith("Denied: You may not read this machine through the root service: ")
    assert (told["owner"]["set"], told["owner"]["back"]) == (True, {"sustained": 18.0})
    assert told["owner"]["voltage"].startswith("Denied: You may not change voltages")
    assert "answered" not in told["attack"], "a stranger got something"
    assert any("bytes at most" in said for said in told["attack"])
    assert told["worst_s"] < within(3.0)
    assert told["most_mb"] < 128
    assert told["withdrawn"]["before"] is None
    assert told["withdrawn"]["after"].startswith("Denied: You may not read this machine")
    assert told["kills"]["wrong"] == []
    assert told["kills"]["started"] >= kills - 1
    assert set(told["modes"]) <= {"0o700", "0o600"}
