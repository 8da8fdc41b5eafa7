"""What the first call on a fresh machine says: one sentence, with the command to paste, and nothing half made."""

import os
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

ROOT = Path(__file__).resolve().parents[1]
TOOLS = ("sh", "sed", "tail", "rm", "touch", "mktemp", "grep", "printf", "cat", "dirname")


@pytest.fixture
def bare(tmp_path):
    """A folder with the setup, and a PATH on which there is next to nothing."""
    (tmp_path / "bin").mkdir()
    for tool in TOOLS:
        (tmp_path / "bin" / tool).symlink_to(shutil.which(tool))
    shutil.copytree(ROOT / "tools", tmp_path / "tools")
    (tmp_path / "requirements.lock").touch()
    program(tmp_path, "id", "echo 1000")
    return tmp_path


def program(bare, name, text):
    path = bare / "bin" / name
    path.unlink(missing_ok=True)
    path.write_text(f"#!/bin/sh\n{text}\n")
    path.chmod(0o755)


def missing(bare, *packages):
    """Let dpkg-query tell that these are missing, and all others are there."""
    cases = "".join(f"*{name}) exit 1 ;;" for name in packages)
    program(bare, "dpkg-query", f'for last; do :; done; case "$last" in {cases} esac; printf installed')


def setup(bare, *words, **environment):
    return subprocess.run(
        ["sh", "tools/setup.sh", *words], cwd=bare, capture_output=True, text=True, check=False,
        env={"PATH": str(bare / "bin"), "HOME": str(bare), **environment},
    )  # fmt: skip


@pytest.mark.parametrize(
    ("gone", "named"),
    [(("libegl1",), "libegl1"), (("python3-venv",), "python3-venv"), (("python3", "libgl1"), "python3 libgl1")],
)
def test_a_user_without_rights_gets_the_command_to_paste(bare, gone, named):
    missing(bare, *gone)
    done = setup(bare)
    assert done.returncode == 1
    assert done.stderr == (
        f"These system packages are missing. Paste this, then start again: su -c 'apt install {named}'\n"
    )
    program(bare, "sudo", "exit 1")  # it asks for a password
    assert f"start again: sudo apt install {named}" in setup(bare).stderr
    assert not (bare / ".venv").exists()


def test_a_user_with_rights_has_the_packages_installed_without_noise(bare):
    missing(bare, "libegl1")
    program(bare, "sudo", '[ "$1" = -n ] && shift; exec "$@"')
    program(bare, "true", "exit 0")
    program(bare, "env", 'while [ "${1#*=}" != "$1" ]; do shift; done; exec "$@"')
    program(bare, "apt-get", f'echo debconf: noise >&2; echo "$@" >>{bare}/asked')
    done = setup(bare)
    assert done.stdout == "Installing system packages: libegl1\n"
    assert "debconf" not in done.stderr
    assert (bare / "asked").read_text().splitlines()[-1].endswith("--no-install-recommends libegl1")
    program(bare, "apt-get", "echo E: no space left >&2; exit 100")
    failed = setup(bare)
    assert failed.returncode == 1
    assert "E: no space left" in failed.stderr
    assert failed.stderr.endswith("make setup\n")


def test_the_tests_want_packages_of_their_own(bare):
    missing(bare, "dbus-daemon", "lintian")
    (bare / ".venv").mkdir()
    done = setup(bare, "tests")
    assert done.returncode == 1
    assert "apt install dbus-daemon lintian'" in done.stderr
    assert not (bare / ".venv/ready-for-tests").exists()
    missing(bare)
    assert setup(bare, "tests").returncode == 0
    assert (bare / ".venv/ready-for-tests").exists()


def test_without_python_or_its_venv_module_a_sentence_says_so(bare):
    missing(bare)
    done = setup(bare)
    assert done.stderr == (
        "There is no python3 here. Install Python 3.11 or newer, or name another: make PYTHON=/path/to/python3\n"
    )
    program(bare, "python3", 'case "$2" in *ensurepip*) exit 1 ;; esac; exit 0')
    assert setup(bare).stderr.startswith("The venv module of python3 is missing. Paste this, then start again: su -c")
    program(bare, "python3", "exit 1")
    assert "3.11 or newer is needed; python3 is older" in setup(bare).stderr


VENV = """case "$1 $2" in
"-m venv") mkdir -p .venv/bin; cp bin/python3 .venv/bin/python ;;
"-m pip") [ ! -e pip-fails ] || { echo no network >&2; exit 1; } ;;
esac"""


def test_a_half_made_environment_is_mended_and_ready_comes_last(bare):
    for tool in ("mkdir", "cp"):
        (bare / "bin" / tool).symlink_to(shutil.which(tool))
    missing(bare)
    program(bare, "python3", VENV)
    (bare / ".venv").mkdir()
    (bare / ".venv/half-made").touch()
    (bare / "pip-fails").touch()
    done = setup(bare)
    assert done.returncode == 1
    assert done.stderr.splitlines()[0] == "no network"
    assert done.stderr.endswith("Once that is mended: make setup\n")
    assert not (bare / ".venv/ready").exists()
    (bare / "pip-fails").unlink()
    assert setup(bare).returncode == 0
    assert (bare / ".venv/ready").exists()
    assert not (bare / ".venv/half-made").exists()


def test_a_missing_library_of_qt_is_named(bare):
    for tool in ("mkdir", "cp"):
        (bare / "bin" / tool).symlink_to(shutil.which(tool))
    missing(bare)
    fault = "ImportError: libEGL.so.1: cannot open shared object file"
    program(bare, "python3", f'{VENV}\ncase "$2" in *QtWidgets*) echo "{fault}" >&2; exit 1 ;; esac')
    done = setup(bare)
    assert done.stderr.endswith(
        "Qt cannot be loaded: libEGL.so.1: cannot open shared object file. Install what it names, then: make setup\n"
    )
    assert not (bare / ".venv/ready").exists()


def test_output_reaches_a_pipe_line_by_line(data):

    command = [sys.executable, "-m", "upright_bolt", "--data", str(data), "sample", "--count", "100", "--json"]
    plain = {name: value for name, value in os.environ.items() if name != "PYTHONUNBUFFERED"}
    with subprocess.Popen(command, stdout=subprocess.PIPE, text=True, env=plain) as going:
        assert going.stdout.readline().startswith("{")
        assert going.poll() is None  # it goes on for more than a minute
        going.terminate()
