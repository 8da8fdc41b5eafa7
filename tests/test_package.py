"""The Debian package: sound to Debian's own check, complete where it is installed, and gone when it is removed."""

import json
import os
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

from test_service_rights import NAMESPACES, namespaces_work
from waiting import within

ROOT = Path(__file__).resolve().parents[1]
pytestmark = [pytest.mark.timeout(1800), pytest.mark.long]


@pytest.fixture(scope="module")
def package(tmp_path_factory):
    made = tmp_path_factory.mktemp("package")
    subprocess.run(["sh", "tools/deb.sh", str(made)], cwd=ROOT, capture_output=True, text=True, check=True, umask=0o077)
    return next(made.glob("*.deb"))


def test_the_package_says_what_it_needs(package):
    told = subprocess.run(["dpkg-deb", "--field", str(package)], capture_output=True, text=True, check=True).stdout
    assert "Package: upright-bolt\n" in told
    assert f"python3 (>= 3.{sys.version_info.minor})" in told
    needs = told.split("Depends: ")[1].partition("\n")[0]
    setup = (ROOT / "tools/setup.sh").read_text().split('NEEDED="')[1].partition('"')[0].split()
    for name in set(setup) - {"python3", "python3-venv"}:
        assert name in needs, name


@pytest.mark.skipif(shutil.which("lintian") is None, reason="needs Debian's package lintian")
def test_debians_own_check_finds_no_error(package):
    done = subprocess.run(
        ["lintian", "--allow-root", "--fail-on", "error", str(package)], capture_output=True, text=True, check=False
    )
    assert done.returncode == 0, done.stdout


@pytest.mark.skipif(not namespaces_work(), reason="needs root and mount namespaces")
def test_it_is_installed_works_and_leaves_nothing_behind(package):
    scene = Path(__file__).with_name("package_scene.py")
    words = [word for word in NAMESPACES if word != "--mount-proc"]
    done = subprocess.run(
        [*words, sys.executable, str(scene), str(package)], capture_output=True, text=True, check=False,
        timeout=within(600), env={**os.environ, "PYTHONPATH": ""},
    )  # fmt: skip
    assert done.returncode == 0, done.stderr
    told = json.loads(done.stdout)
    for step in ("install", "version", "status", "run", "report", "page", "purge"):
        assert told[step]["code"] == 0, (step, told[step])
    assert told["status"]["out"] == "No trial is running.\n"
    assert json.loads(told["run"]["out"])["state"] == "finished"
    assert told["compiled"] > 100
    assert told["verify"]["out"] == ""
    assert told["left"] == []
