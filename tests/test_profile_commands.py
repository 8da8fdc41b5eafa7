"""Profiles, rules, hold and boot on the command line, as processes."""

import json

import pytest

from test_commands import one_sentence


@pytest.fixture
def done(bolt):
    """Run a command that has to succeed, and return what it says."""

    def run(*words):
        result = bolt(*words)
        assert result.returncode == 0, result.stderr
        return result.stdout

    return run


@pytest.fixture
def quay(done):
    """A profile saved from what was tried."""
    done("set", "sustained=28W", "epp=64")
    said = done("profile", "save", "quay", "--from", "draft", "--note", "shore power")
    done("put-back")
    return said


def test_a_profile_from_saving_to_its_end(bolt, done, quay, tmp_path):
    assert quay == "Saved as quay: sustained 28 W, epp 64.\n"
    assert "at sea: sustained 28 W, epp 64." in done("profile", "copy", "quay", "at sea")
    assert "turbo off" in done("profile", "set", "at sea", "sustained=20W", "turbo=off", "--without", "epp")
    assert "In force: profile at sea.\nsustained 20 W, turbo off." in done("profile", "use", "at sea")
    assert "Kept in this boot: sustained 20 W, turbo off." in done("status")
    assert "epp 64" in done("profile", "copy", "quay", "at sea", "--only", "epp")
    assert "epp 64" in done("status")
    assert "is in force; use another one first" in one_sentence(bolt("profile", "delete", "at sea"), 2)
    done("profile", "use", "stock")
    assert done("profile", "rename", "at sea", "open water") == "at sea is called open water now.\n"
    file = tmp_path / "carried.toml"
    done("profile", "export", "open water", str(file))
    assert "sustained_w = 20.0" in file.read_text()
    done("profile", "delete", "open water")
    assert "sustained 20 W" in done("profile", "import", str(file), "--name", "open water")
    names = [view["profile"]["name"] for view in json.loads(done("profile", "list", "--json"))["profiles"]]
    assert names == ["open water", "quay"]


def test_what_a_file_claims_to_be_proven_counts_only_if_runs_here_say_so(bolt, done, quay, tmp_path):
    file = tmp_path / "claims.toml"
    file.write_text(
        'format = "upright-bolt profile"\nversion = 1\n[settings]\ncore_offset_mv = -150.0\nepp = 64.0\n'
        '[proof.core_offset_mv]\nvalue = -150.0\nchip = "Halyard Q6-4200T, stepping 1, microcode 0x1, '
        'board Quayside Computing tern board, firmware 1.04"\nload_s = 90000.0\nall_loads_s = 90000.0\n'
    )
    result = bolt("profile", "import", str(file))
    assert result.returncode == 0
    assert "core-offset −150 mV held back: not proven." in result.stderr
    assert "held back: not proven" in done("profile", "use", "claims")
    assert "core-offset" not in done("status")


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (("save", "quay"), "Nothing has been changed on this machine"),
        (("save", "stock"), "the machine's own values, and cannot be changed"),
        (("save", "x", "--from", "run"), "takes the number of a run"),
        (("save", "x", "--from", "moon"), "none of in-force, draft, run, search"),
        (("save", "x", "--from", "draft"), "No trial is running"),
        (("save", "x", "--from", "search"), "No search of this machine has found anything yet"),
        (("show", "nowhere"), "There is no profile “nowhere”. Profiles: none yet; stock is always there."),
        (("use", "nowhere"), "There is no profile “nowhere”"),
        (("set", "nowhere", "sustained=20W"), "There is no profile “nowhere”"),
        (("set", "nowhere"), "Nothing was given to change"),
        (("copy", "stock", "x"), "does not set anything"),
        (("try", "stock"), "stock has nothing to try"),
        (("delete", "../x"), "cannot be the name of a profile"),
        (("import", "/nowhere.toml"), "cannot be read: No such file"),
    ],
)
def test_bad_input_gets_one_sentence(bolt, words, said):
    assert said in one_sentence(bolt("profile", *words), 2)


def test_a_profile_is_tried_like_anything_else(done, quay):
    assert "A trial of quay is running: sustained 28 W, epp 64." in done("profile", "try", "quay")
    assert "A trial is running" in done("status")


def test_rules_are_shown_explained_and_followed(bolt, done, quay, tmp_path):
    done("profile", "copy", "quay", "At Sea")
    done("profile", "set", "At Sea", "sustained=20W")
    file = tmp_path / "rules"
    file.write_text("When on battery, use At Sea.\nWhen it rains, use quay.\n")
    assert "Line 2: “it rains” is no condition" in one_sentence(bolt("rules", "set", str(file)), 2)
    file.write_text("# mine\nWhen on battery, use At Sea.\nOtherwise, use quay.\n")
    assert "2 rules." in done("rules", "set", str(file))
    assert "hold on" in done("rules", "set", str(file))
    assert done("rules", "show") == "1. When on battery, use At Sea.\n2. Otherwise, use quay.\n"
    assert "does not count: the machine is not on its battery." in done("rules", "explain")
    assert "Hold is on. In force: profile quay." in done("hold", "on")
    assert done("plug", "out") == (
        "The charger is unplugged.\nProfile At Sea put in force, as the rules say.\n"
        "The firmware, or something unseen, set sustained to 12 W; 20 W was put back.\n"
    )
    assert "12 W; 20 W was put back" in done("hold", "log")
    assert "A rule uses the profile quay" in one_sentence(bolt("profile", "delete", "quay"), 2)
    assert [entry["kind"] for entry in json.loads(done("hold", "log", "--json"))] == ["used", "used", "reset"]


def test_boot_says_item_by_item_what_would_be_put_in_force(bolt, done, quay):
    assert "nothing is put in force" in done("boot")
    done("profile", "set", "quay", "core-offset=-60mV")
    done("profile", "use", "quay")
    said = done("boot", "on")
    assert "  sustained 28 W: in force" in said
    assert "  core-offset −60 mV: held back: not proven" in said
    assert "none of on, off, status" in one_sentence(bolt("boot", "perhaps"), 2)
    assert "none of on, off, status, log" in one_sentence(bolt("hold", "perhaps"), 2)


def test_proof_comes_from_runs(done, quay):
    done("profile", "set", "quay", "core-offset=-40mV", "cache-offset=-40mV")
    assert "not proven" in done("profile", "show", "quay")
    done("profile", "try", "quay")
    done("run", "proof", "--duration", "25min", "--start", "at-once")
    done("put-back")
    assert "Brought up to date: quay." in done("profile", "prove")
    assert "25 min passed in 1 run, 25 min of them of every kind of load" in done("profile", "show", "quay")
    done("profile", "use", "quay")
    assert "core-offset −40 mV" in done("status")


def test_profiles_are_compared_by_their_newest_runs(bolt, done, quay):
    assert "no two profiles with a run" in one_sentence(bolt("compare", "--by", "profile"), 2)
    assert "Name the runs" in one_sentence(bolt("compare"), 2)
    assert "is not known" in one_sentence(bolt("compare", "--by", "moon"), 2)
    done("run", "steady", "--duration", "90s", "--start", "at-once")
    done("profile", "try", "quay")
    done("run", "steady", "--duration", "90s", "--start", "at-once")
    said = done("compare", "--by", "profile")
    assert said.startswith("stock: run 1, quay: run 2\n")
    told = json.loads(done("compare", "--by", "profile", "--json"))
    assert (told["baseline"], len(told["runs"])) == (1, 2)
