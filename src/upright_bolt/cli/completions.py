"""What the Tab key offers in bash, zsh and fish, made from the commands themselves."""

from collections.abc import Iterator

from upright_bolt.cli.manual import PROGRAM, Option, commands
from upright_bolt.model.catalogue import CATALOGUE
from upright_bolt.model.work import WORKLOADS
from upright_bolt.twin.chip import TWINS

ASSIGNED = [f"{name}=" for name in CATALOGUE]
KNOWN = {"run": list(WORKLOADS), "set": ASSIGNED, "sweep": ASSIGNED, "stock": list(CATALOGUE), "plug": ["in", "out"]}
"""What an argument of a command may be, where that is known beforehand."""
MACHINES = ["host", *(f"twin:{name}" for name in TWINS), "tree:"]


def _table() -> Iterator[tuple[str, list[str]]]:
    """Yield each command's words, the empty ones first, and what may follow: commands, known arguments, options."""
    everywhere, all_commands = commands()
    common = [name for option in everywhere for name in option.names]
    yield "", [*(entry.words for entry in all_commands if " " not in entry.words), *common]
    for entry in all_commands:
        below = [e.words.rsplit(" ", 1)[1] for e in all_commands if e.words.rpartition(" ")[0] == entry.words]
        own = [name for option in entry.options for name in option.names]
        yield entry.words, [*below, *KNOWN.get(entry.words, []), *own, *common]


def bash() -> str:
    """Return the completion for bash. It takes a colon for the end of a word, hence the care about machines."""
    cases = "\n".join(f'        "{words}") next="{" ".join(after)}" ;;' for words, after in _table())
    groups = "|".join(sorted({words.split()[0] for words, _ in _table() if " " in words}))
    return f"""# bash completion for {PROGRAM}
_upright_bolt() {{
    local word given="" next="" skip="" current="${{COMP_WORDS[COMP_CWORD]}}" last="${{COMP_LINE##* }}"
    local words="${{COMP_LINE%"$last"}}"
    if [[ $words =~ (-m|--machine)[[:space:]]+$ ]]; then
        COMPREPLY=($(compgen -W "{" ".join(MACHINES)}" -- "$last"))
        if [[ $last == *:* ]]; then COMPREPLY=("${{COMPREPLY[@]#*:}}"); fi
        return
    fi
    for word in ${{words#* }}; do
        if [[ -n $skip ]]; then skip=""; continue; fi
        case $word in
        -m|--machine|--data) skip=1 ;;
        -*) ;;
        *) if [[ -z $given ]]; then given=$word
           elif [[ $given =~ ^({groups})$ ]]; then given="$given $word"; fi ;;
        esac
    done
    case $given in
{cases}
    esac
    COMPREPLY=($(compgen -W "$next" -- "$current"))
    if [[ ${{#COMPREPLY[@]}} -eq 1 && ${{COMPREPLY[0]}} == *= ]]; then compopt -o nospace; fi
    if [[ ${{#COMPREPLY[@]}} -eq 0 ]]; then COMPREPLY=($(compgen -f -- "$current")); fi
}}
complete -F _upright_bolt {PROGRAM}
"""


def zsh() -> str:
    """Return the completion for zsh."""
    everywhere, all_commands = commands()
    top = "\n".join(f"        {_quoted(f'{e.words}:{_first(e.does)}')}" for e in all_commands if " " not in e.words)
    cases = "\n".join(
        f"        {words}) compadd -- {' '.join(_quoted(word) for word in after)}; _files ;;"
        for words, after in _table()
        if words and " " not in words
    )
    switches = " \\\n".join(
        "        " + _quoted(f"{name}[{_first(option.words)}]{_zsh_values(option)}")
        for option in everywhere
        for name in option.names
    )
    return f"""#compdef {PROGRAM}
_upright_bolt() {{
    local state
    local -a known
    known=(
{top}
    )
    _arguments -C \\
{switches} \\
        '1:command:->command' '*::argument:->argument'
    case $state in
    command) _describe command known ;;
    argument)
        case $words[1] in
{cases}
        esac ;;
    esac
}}
_upright_bolt "$@"
"""


def _zsh_values(option: Option) -> str:
    if not option.takes:
        return ""
    machines = " ".join(word.replace(":", "\\:") for word in MACHINES)
    return f":value:({machines})" if "--machine" in option.names else ":value:_files"


def fish() -> str:
    """Return the completion for fish."""
    everywhere, all_commands = commands()
    lines = [f"# fish completion for {PROGRAM}", f"complete -c {PROGRAM} -f"]
    lines += [_fish_option("", option) for option in everywhere]
    for entry in all_commands:
        group, _, name = entry.words.rpartition(" ")
        when = f"__fish_seen_subcommand_from {group}" if group else "__fish_use_subcommand"
        lines.append(f"complete -c {PROGRAM} -n {_quoted(when)} -a {name} -d {_quoted(_first(entry.does))}")
        here = f"__fish_seen_subcommand_from {name}"
        if entry.words in KNOWN:
            lines.append(f"complete -c {PROGRAM} -n {_quoted(here)} -a {_quoted(' '.join(KNOWN[entry.words]))}")
        lines += [_fish_option(here, option) for option in entry.options]
    return "\n".join(lines) + "\n"


def _fish_option(when: str, option: Option) -> str:
    names = " ".join(f"-l {n[2:]}" if n.startswith("--") else f"-s {n[1:]}" for n in option.names)
    where = f" -n {_quoted(when)}" if when else ""
    takes = " -r -F" if option.takes else ""
    if "--machine" in option.names:
        takes = f" -x -a {_quoted(' '.join(MACHINES))}"
    return f"complete -c {PROGRAM}{where} {names}{takes} -d {_quoted(_first(option.words))}"


def _first(text: str) -> str:
    """Return the first sentence, without signs that a completion would take for its own."""
    sentence = text.partition(". ")[0].rstrip(".")
    return "".join("" if sign in "[]'\"`$\\:" else sign for sign in sentence)


def _quoted(text: str) -> str:
    return "'" + text.replace("'", "'\\''") + "'"
