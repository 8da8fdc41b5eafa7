"""Rights on the real polkitd with the actions that ship: root, strangers, the owner at the desk, closed questions."""

import json
import os
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

from waiting import within

POLKITD = "/usr/lib/polkit-1/polkitd"
NAMESPACES = ["unshare", "--mount", "--pid", "--fork", "--mount-proc", "--kill-child"]
TRIED = {"set": True, "back": {"sustained": 18.0}}
RISKED = {"voltage": True, "back2": {"core-offset": 0.0}}
NOTHING_TO_PUT_BACK = "BadInput: No trial is running."


def namespaces_work() -> bool:
    if os.geteuid() != 0 or shutil.which("unshare") is None or not Path(POLKITD).exists():
        return False
    return subprocess.run([*NAMESPACES, "true"], check=False, capture_output=True).returncode == 0


pytestmark = pytest.mark.skipif(
    not namespaces_work(), reason="needs root, unshare with mount namespaces, and Debian's package polkitd"
)


@pytest.fixture(scope="module")
def told():
    scene = Path(__file__).with_name("rights_scene.py")
    done = subprocess.run([*NAMESPACES, sys.executable, str(scene)], capture_output=True, text=True, check=False,
                          timeout=within(300))  # fmt: skip
    assert done.returncode == 0, done.stderr
    return json.loads(done.stdout)


def assert_nothing_set(person, why):
    assert why in person["set"]
    assert "Nothing was changed." in person["set"]
    assert person["back"] == NOTHING_TO_PUT_BACK
    assert_nothing_risked(person, why)


def assert_nothing_risked(person, why):
    assert person["voltage"].startswith(
        "Denied: You may not change voltages and other risky settings of this machine: "
    )
    assert why in person["voltage"]
    assert person["back2"] == NOTHING_TO_PUT_BACK


def test_root_may_do_everything(told):
    assert told["root"] == {"watch": "yes", **TRIED, **RISKED}


def test_a_stranger_without_session_is_told_nothing(told):
    for who in ("stranger", "stranger who could be asked"):
        assert list(told[who]) == ["watch"]
        assert told[who]["watch"].startswith("Denied: You may not read this machine through the root service: ")


def test_an_administrators_rule_counts_for_what_it_names_and_no_more(told):
    assert told["nobody under a rule"]["watch"] == "yes"
    assert_nothing_set(told["nobody under a rule"], "it needs a password, and nobody could be asked")


def test_a_dismissed_question_changes_nothing(told):
    assert_nothing_set(told["nobody who dismisses"], "the password question was dismissed")
    assert {key: told["owner who dismisses"][key] for key in TRIED} == TRIED
    assert_nothing_risked(told["owner who dismisses"], "the password question was dismissed")


def test_with_the_password_it_goes(told):
    assert told["nobody who accepts"] == {"watch": "yes", **TRIED, **RISKED}
    assert told["owner who accepts"] == {"watch": "yes", **TRIED, **RISKED}


def test_the_owner_at_the_desk_sets_everyday_controls_without_a_password_but_no_voltage(told):
    assert {key: told["owner at the desk"][key] for key in TRIED} == TRIED
    assert_nothing_risked(told["owner at the desk"], "it needs a password, and nobody could be asked")


def test_a_standing_trial_is_its_owners_alone(told):
    for act in ("keep", "back"):
        assert told["nobody keeps it"][act].startswith("Denied: A trial of owner (uid 61002, process ")
    assert told["owner comes back"]["keep"] == {"sustained": 25.0}


def test_the_log_says_who_asked_for_what_and_what_became_of_it(told):
    log = told["log"]
    assert "owner (uid 61002, process " in log
    assert "asked for sustained 25 W; got sustained 25.0; in force" in log
    assert "nobody (uid 65534" in log
    assert "was refused Apply: You may not change voltages" in log
