"""The man page: whole, and understood by the program that shows it."""

import shutil
import subprocess

import pytest

from upright_bolt.cli.command_tree import commands
from upright_bolt.cli.manual import man_page
from upright_bolt.model.catalogue import CATALOGUE
from upright_bolt.model.workloads import WORKLOADS


def test_the_page_names_every_command_option_workload_and_control():
    page = man_page().replace("\\-", "-")
    everywhere, all_commands = commands()
    assert {"run", "runs", "runs show", "sweep", "machine", "window"} <= {entry.words for entry in all_commands}
    for entry in all_commands:
        assert f".SS {entry.words}" in page
        assert entry.does, entry.words
        for option in entry.options:
            assert ", ".join(option.names) in page
            assert option.words, (entry.words, option.names)
    for name in (*WORKLOADS, *CATALOGUE):
        assert f".B {name}\n" in page
    assert all(option.words for option in everywhere)


@pytest.mark.skipif(shutil.which("man") is None, reason="needs Debian's package man-db")
def test_man_has_nothing_to_say_against_the_page(tmp_path):
    page = tmp_path / "upright-bolt.1"
    page.write_text(man_page())
    done = subprocess.run(
        ["man", "--warnings", "-E", "UTF-8", "-l", "-Tutf8", "-Z", str(page)],
        capture_output=True,
        text=True,
        check=True,
    )
    assert done.stderr == ""
