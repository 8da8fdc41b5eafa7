"""The completions of bash, zsh and fish, asked as the Tab key asks."""

import subprocess

import pytest

from pty_terminal import Terminal
from upright_bolt.cli import completions
from upright_bolt.cli.command_tree import commands


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
    assert offered(tmp_path, "upright-bolt run steady --label set --start ") == ["rested", "warm", "at-once"]
    assert offered(tmp_path, "upright-bolt run steady --label ") == []
    assert "--weight" not in offered(tmp_path, "upright-bolt runs show ")


OFFERED = [
    ("upright-bolt mach", {"machine"}),
    ("upright-bolt run ", {"steady", "cooling"}),
    ("upright-bolt runs expo", {"export"}),
    ("upright-bolt --data d runs export --h", {"--html"}),
    ("upright-bolt -m twin:sk", {"twin:skerry"}),
    ("upright-bolt -m ", {"host", "twin:tern-two-rails"}),
    ("upright-bolt -m twin:tern set sust", {"sustained="}),
    ("upright-bolt run steady --start ", {"rested", "warm", "at-once"}),
    ("upright-bolt run steady --label set --sta", {"--start"}),
    ("upright-bolt profile show --ma", {"--machine"}),
    ("upright-bolt profile save quiet --from ", {"in-force", "search"}),
    ("upright-bolt sample --csv tabl", {"table.csv"}),
    ("upright-bolt rules set tabl", {"table.csv"}),
]


@pytest.mark.parametrize(("line", "words"), OFFERED)
def test_fish_offers_what_fits(tmp_path, line, words):
    script = tmp_path / "upright-bolt.fish"
    script.write_text(completions.fish())
    (tmp_path / "table.csv").touch()
    asked = f"source {script}; cd {tmp_path}; complete -C '{line}'"
    done = subprocess.run(["fish", "--no-config", "-c", asked], capture_output=True, text=True, check=True)
    found = {row.partition("\t")[0] for row in done.stdout.splitlines()}
    assert words <= found
    assert done.stderr == ""


def test_fish_offers_nothing_that_belongs_elsewhere(tmp_path):
    script = tmp_path / "upright-bolt.fish"
    script.write_text(completions.fish())
    for line in ("upright-bolt run steady --label ", "upright-bolt profile show --ht", "upright-bolt runs show --wei"):
        asked = f"source {script}; complete -C '{line}'"
        done = subprocess.run(["fish", "--no-config", "-c", asked], capture_output=True, text=True, check=True)
        assert done.stdout == "", line


@pytest.mark.parametrize(("line", "words"), OFFERED)
def test_zsh_offers_what_fits(tmp_path, line, words):
    (tmp_path / "_upright-bolt").write_text(completions.zsh())
    (tmp_path / "table.csv").touch()
    with Terminal(["zsh", "-f", "-i"], tmp_path) as terminal:
        terminal.type(f"fpath=({tmp_path} $fpath); autoload -U compinit; compinit -D -u; bindkey '^I' complete-word\n")
        terminal.type("setopt no_beep no_prompt_sp; unsetopt prompt_cr; PS1=; LISTMAX=1000; print is re''ady\n")
        terminal.wait_for("is ready")
        terminal.type(f"{line}\t\t")
        for word in words:
            terminal.wait_for(word)


@pytest.mark.parametrize("shell", ["bash", "zsh", "fish"])
def test_every_shell_is_told_every_command(shell):
    text = getattr(completions, shell)()
    for entry in commands()[1]:
        assert entry.words.rsplit(" ", 1)[-1] in text
    assert "e.g" not in {
        line.rpartition(" ")[2].strip("'") for line in text.splitlines()
    }  # cut at a point that ends none
    subprocess.run([shell, "-n"], input=text, text=True, check=True)
