"""What the Tab key offers in bash, zsh and fish, made from the commands themselves.

The command line's library could offer words as well, but it starts the program for every Tab, ends a word at the colon
of ``twin:``, puts a space behind ``sustained=`` and offers files wherever it knows nothing.

All three do the same: they find which command stands there, passing over options and what those take, and whether the
word that is typed belongs to an option. Then they offer what fits there.
"""

from collections.abc import Iterable, Iterator
from dataclasses import dataclass

from upright_bolt.cli.command_tree import PROGRAM, Option, commands
from upright_bolt.model.catalogue import CATALOGUE
from upright_bolt.model.search import AfterFreeze, Bold
from upright_bolt.model.start import Start
from upright_bolt.model.work import WEIGHTS
from upright_bolt.model.workloads import WORKLOADS
from upright_bolt.simulator.chip import TWINS

ASSIGNED = tuple(f"{name}=" for name in CATALOGUE)
SWITCHED = ("on", "off", "status")
KNOWN = {
    "run": tuple(WORKLOADS), "set": ASSIGNED, "sweep": ASSIGNED, "stock": tuple(CATALOGUE), "plug": ("in", "out"),
    "profile set": ASSIGNED, "hold": (*SWITCHED, "log"), "boot": SWITCHED,
}  # fmt: skip
"""What an argument of a command may be, where that is known beforehand."""
MACHINES = ("host", *(f"twin:{name}" for name in TWINS), "tree:")
VALUES: dict[str, tuple[str, ...]] = {
    "--machine": MACHINES, "--with": ASSIGNED, "--start": tuple(Start), "--weight": WEIGHTS, "--on": ("software",),
    "--bold": tuple(Bold), "--after-freeze": tuple(AfterFreeze), "--axis": ("core,cache", "core", "cache"),
    "--soak": ("10min", "1h", "8h", "while-i-work"), "--by": ("profile",), "--confirm": tuple(CATALOGUE),
    "--view": ("machine", "workbench", "edge", "compare", "profiles"), "--only": tuple(CATALOGUE),
    "--without": tuple(CATALOGUE), "profile save --from": ("in-force", "draft", "run", "search"),
    "runs note --unit": ("s", "ms", "us"),
}  # fmt: skip
"""What an option may take, where that is known beforehand; with a command before it, only there."""
FILES = ("FILE", "FOLDER", "CAPTURE")
"""Words for what is a file."""


@dataclass(frozen=True, slots=True)
class Place:
    """Where a word is typed: after a command, or before any.

    Attributes:
        words: the command; empty before any.
        following: commands below it and known arguments, each with what it does.
        options: its own options.
        files: its arguments are files.
    """

    words: str
    following: tuple[tuple[str, str], ...]
    options: tuple[Option, ...]
    files: bool = False

    def takes(self, option: Option) -> tuple[str, ...]:
        """Return what one of its options may take, as far as known."""
        name = option.names[-1]
        return VALUES.get(f"{self.words} {name}", VALUES.get(name, ()))


def _places() -> list[Place]:
    """Return each place, that before any command first; its options are those of every command."""
    everywhere, all_commands = commands()

    def below(words: str) -> tuple[tuple[str, str], ...]:
        split = [(*entry.words.rpartition(" "), entry.does) for entry in all_commands]
        return tuple((name, _first(does)) for group, _, name, does in split if group == words)

    after = [
        Place(
            entry.words,
            below(entry.words) + tuple((word, "") for word in KNOWN.get(entry.words, ())),
            entry.options,
            any(word in argument for argument in entry.arguments for word in FILES),
        )
        for entry in all_commands
    ]
    return [Place("", below(""), everywhere), *after]


def _groups(places: list[Place]) -> list[str]:
    """Return the commands that have others below them."""
    return sorted({place.words.split()[0] for place in places if " " in place.words})


def _taking(places: list[Place]) -> list[str]:
    """Return the options, of whatever command, after which a word is theirs."""
    return sorted({name for place in places for option in place.options if option.takes for name in option.names})


def _values(places: list[Place]) -> Iterator[tuple[str, tuple[str, ...]]]:
    """Yield what options take as far as known, each with a pattern of the command and the option; "" is any command."""
    for place in places:
        for option in place.options:
            if known := place.takes(option):
                yield _pattern(_at(place, option)), known


def _at(place: Place, option: Option) -> list[str]:
    return [f"{place.words or '*'} {name}" for name in option.names]


def _pattern(several: Iterable[str]) -> str:
    """Return a pattern of a shell's ``case``; a star stands for anything."""
    return "|".join(f"*'{words[1:]}'" if words.startswith("*") else f"'{words}'" for words in several)


def _of_files(places: list[Place]) -> tuple[str, str]:
    """Return patterns: of options that take files, and of commands whose arguments are files."""
    at = [words for place in places for o in place.options if o.takes in FILES for words in _at(place, o)]
    return _pattern(at), _pattern(place.words for place in places if place.files)


def _switches(place: Place, places: list[Place]) -> list[tuple[str, str]]:
    options = place.options if place is places[0] else (*place.options, *places[0].options)
    return [(name, _first(option.words)) for option in options for name in option.names]


def _finding(places: list[Place], typed: str, cases: str, values: str) -> str:
    """Return what bash and zsh do alike: find the place, and choose what follows there.

    Args:
        places: all there are.
        typed: gives the words before the one that is typed.
        cases: what follows, by command.
        values: what options take, by command and option.
    """
    options, arguments = _of_files(places)
    return f"""    for word in {typed}; do
        if [[ -n $mine ]]; then mine=""; continue; fi
        case $word in
        {"|".join(_taking(places))}) mine=$word ;;
        -*) ;;
        *) if [[ -z $given ]]; then given=$word
           elif [[ $given =~ ^({"|".join(_groups(places))})$ ]]; then given="$given $word"; fi ;;
        esac
    done
    if [[ -n $mine ]]; then
        case "$given $mine" in
{values}
        {options}) files=1 ;;
        esac
    else
        case $given in
{cases}
        esac
        case $given in {arguments}) files=1 ;; esac
    fi"""


def bash() -> str:
    """Return the completion for bash. It takes a colon for the end of a word, hence the care about machines."""
    places = _places()
    cases = "\n".join(
        f'        "{place.words}") next="{_joined([*place.following, *_switches(place, places)])}" ;;'
        for place in places
    )
    values = "\n".join(f'        {at}) next="{" ".join(known)}" ;;' for at, known in _values(places))
    return f"""# bash completion for {PROGRAM}
_upright_bolt() {{
    local word given="" next="" mine="" files="" current="${{COMP_WORDS[COMP_CWORD]}}"
    local line="${{COMP_LINE:0:COMP_POINT}}"
    local last="${{line##* }}"
    local words="${{line%"$last"}}"
{_finding(places, "${words#* }", cases, values)}
    COMPREPLY=($(compgen -W "$next" -- "$last"))
    if [[ -n $files ]]; then COMPREPLY+=($(compgen -f -- "$current")); fi
    if [[ $last == *:* ]]; then COMPREPLY=("${{COMPREPLY[@]#*:}}"); fi
    if [[ ${{#COMPREPLY[@]}} -eq 1 && ${{COMPREPLY[0]}} == *= ]]; then compopt -o nospace; fi
}}
complete -F _upright_bolt {PROGRAM}
"""


def zsh() -> str:
    """Return the completion for zsh."""
    places = _places()
    cases = "\n".join(
        f"        {_quoted(place.words)})\n"
        f"            next=({_described(place.following)})\n"
        f"            switches=({_described(_switches(place, places))}) ;;"
        for place in places
    )
    values = "\n".join(
        f"        {at}) next=({_described((word, '') for word in known)}) ;;" for at, known in _values(places)
    )
    return f"""#compdef {PROGRAM}
_upright_bolt() {{
    local word given="" mine="" files=""
    local -a next switches open
{_finding(places, "${words[2,CURRENT-1]}", cases, values)}
    open=(${{(M)next:#*=}})
    next=(${{next:#*=}})
    if (( $#open )); then _describe -t settings setting open -S ''; fi
    if (( $#next )); then _describe -t words word next; fi
    if [[ -n $files ]]; then _files; fi
    if (( $#switches )); then _describe -o -t options option switches; fi
}}
_upright_bolt "$@"
"""


def fish() -> str:
    """Return the completion for fish. It knows by itself which word an option takes."""
    places = _places()
    lines = [
        f"""# fish completion for {PROGRAM}
function __upright_bolt_at
    set -l given
    set -l passed
    for word in (commandline -opc)[2..]
        if test -n "$passed"
            set passed
        else if contains -- $word {" ".join(_taking(places))}
            set passed $word
        else if string match -q -- '-*' $word
            continue
        else if test -z "$given"
            set given $word
        else if contains -- $given {" ".join(_groups(places))}
            set given "$given $word"
        end
    end
    test "$given" = "$argv[1]"
end
complete -c {PROGRAM} -f"""
    ]
    for place in places:
        here = f"complete -c {PROGRAM} -n {_quoted(f'__upright_bolt_at {_quoted(place.words)}')}"
        for word, does in place.following:
            lines.append(f"{here} -a {_quoted(word)}" + (f" -d {_quoted(does)}" if does else ""))
        if place.files:
            lines.append(f"{here} -F")
        anywhere = here if place.words else f"complete -c {PROGRAM}"
        lines += [f"{anywhere} {_fish_option(place, option)}" for option in place.options]
    return "\n".join(lines) + "\n"


def _fish_option(place: Place, option: Option) -> str:
    names = " ".join(f"-l {n[2:]}" if n.startswith("--") else f"-s {n[1:]}" for n in option.names)
    known = place.takes(option)
    takes = ""
    if option.takes in FILES:
        takes = " -r -F"
    elif option.takes:
        takes = " -x" + (f" -a {_quoted(' '.join(known))}" if known else "")
    return f"{names}{takes} -d {_quoted(_first(option.words))}"


def _joined(several: Iterable[tuple[str, str]]) -> str:
    return " ".join(word for word, _ in several)


def _described(several: Iterable[tuple[str, str]]) -> str:
    """Return words as zsh takes them: a colon ends the word, and what it does follows."""
    return " ".join(_quoted(word.replace(":", "\\:") + (f":{does}" if does else "")) for word, does in several)


def _first(text: str) -> str:
    """Return the first sentence."""
    sentence, end, _ = text.replace("e.g. ", "e.g.\N{NO-BREAK SPACE}").partition(". ")
    return sentence.replace("\N{NO-BREAK SPACE}", " ") + (end.strip() if end else "")


def _quoted(text: str) -> str:
    return "'" + text.replace("'", "'\\''") + "'"
