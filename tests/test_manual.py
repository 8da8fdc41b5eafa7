"""The man page and the completions: whole, and understood by the programs that they are for."""

import shutil
import subprocess

import pytest

from upright_bolt.cli import completions
from upright_bolt.cli.manual import commands, man_page
from upright_bolt.model.catalogue import CATALOGUE
from upright_bolt.model.work import WORKLOADS


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


def offered(tmp_path, line):
    """Return what bash offers after a line."""
    script = tmp_path / "completion"
    script.write_text(completions.bash())
    words = line.replace(":", " : ").split() + ([""] if line.endswith(" ") else [])
    asked = f"""source {script}
COMP_LINE='{line}' COMP_POINT={len(line)} COMP_WORDS=({" ".join(repr(w) for w in words)}) COMP_CWORD={len(words) - 1}
compopt() {{ :; }}
_upright_bolt; printf '%s\\n' "${{COMPREPLY[@]}}" """
    return subprocess.run(["bash", "-c", asked], capture_output=True, text=True, check=True).stdout.split()


def test_bash_offers_what_fits(tmp_path):
    assert offered(tmp_path, "upright-bolt mach") == ["machine"]
    assert {"steady", "cooling", "--duration"} <= set(offered(tmp_path, "upright-bolt run "))
    assert offered(tmp_path, "upright-bolt runs expo") == ["export"]
    assert "--html" in offered(tmp_path, "upright-bolt --data d runs export --h")
    assert offered(tmp_path, "upright-bolt -m twin:sk") == ["skerry"]
    assert "twin:tern" in offered(tmp_path, "upright-bolt -m ")
    assert offered(tmp_path, "upright-bolt -m twin:tern set sust") == ["sustained="]


@pytest.mark.parametrize("shell", ["zsh", "fish"])
def test_other_shells_are_told_every_command(shell):
    text = getattr(completions, shell)()
    for entry in commands()[1]:
        assert entry.words.rsplit(" ", 1)[-1] in text
    if shutil.which(shell):
        subprocess.run([shell, "-n"], input=text, text=True, check=True)
