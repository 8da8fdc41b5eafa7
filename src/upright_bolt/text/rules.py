"""Rules as sentences, one a line: read, written, and told why each counts or does not.

The sentences are the file: ``When on battery and battery below 20 %, use night watch.``, and at the end
``Otherwise, use quay.`` Empty lines and lines that begin with ``#`` are a person's own.
"""

import re
from collections.abc import Iterable, Iterator, Sequence

from upright_bolt.errors import BadInput
from upright_bolt.model.profile import STOCK, check_name
from upright_bolt.model.rule import Condition, Rule, Rules, Standing, When

HEADER = "# upright-bolt rules 1"
MOST_BYTES = 12 << 10
MOST_RULES = 64
MOST_CONDITIONS = 8
LONGEST_WORD = 64
ACCEPTED = (
    "on charger, on battery, battery below N %, program NAME is running, platform mode is NAME, "
    "device NAME is connected"
)
_TOKENS = re.compile(r'"([^"]*)"|“([^”]*)”|([^\s,"“”]+)')
_BARE = re.compile(r"[\w.+:@/-]+")
_NAMED = {
    ("program", ("is", "running")): Condition.PROGRAM,
    ("device", ("is", "connected")): Condition.DEVICE,
}


def parse_rules(text: str) -> Rules:
    """Return the rules of a text.

    Raises:
        BadInput: one sentence for every faulty line, all of them at once.
    """
    if len(text.encode()) > MOST_BYTES:
        raise BadInput(f"Rules are a text of at most {MOST_BYTES >> 10} KB.")
    rules: list[Rule] = []
    faults: list[str] = []
    otherwise = 0
    for number, line in enumerate(text.splitlines(), start=1):
        words = line.strip()
        if words.startswith("# upright-bolt rules ") and words != HEADER:
            raise BadInput("These rules were written by a newer version of this program.")
        if not words or words.startswith("#"):
            continue
        try:
            rules.append(parse_rule(words))
            # Told with the line, since such a rule is usually one that was added at the end by habit.
            if otherwise:
                faults.append(f"Line {number}: nothing after “Otherwise” in line {otherwise} can ever count.")
            otherwise = 0 if rules[-1].when else number
        except BadInput as fault:
            faults.append(f"Line {number}: {fault}")
    if len(rules) > MOST_RULES:
        faults.append(f"There are {len(rules)} rules; {MOST_RULES} are the most.")
    if faults:
        raise BadInput(" ".join(faults))
    return Rules(tuple(rules))


def parse_rule(sentence: str) -> Rule:
    """Return the rule of one sentence. Raises BadInput."""
    words = list(_words(sentence.strip().rstrip(".")))
    first = words[0].casefold() if words else ""
    if first not in ("when", "otherwise") or "use" not in [word.casefold() for word in words]:
        raise BadInput(
            f"“{sentence[:80]}” is no rule; write “When CONDITION and CONDITION, use PROFILE” or "
            "“Otherwise, use PROFILE”."
        )
    # The last “use”: a program or device may have that name as well.
    at = len(words) - 1 - [word.casefold() for word in reversed(words)].index("use")
    profile = " ".join(word.removeprefix('"') for word in words[at + 1 :])
    if profile.casefold() != STOCK:
        profile = check_name(profile)
    inner = words[1:at]
    if first == "otherwise":
        if inner:
            raise BadInput(f"“Otherwise” takes no condition; “{' '.join(inner)[:40]}” was given.")
        return Rule((), profile.strip())
    when = tuple(_condition(part) for part in _split(inner))
    if len(when) > MOST_CONDITIONS:
        raise BadInput(f"a rule has at most {MOST_CONDITIONS} conditions.")
    return Rule(when, profile if profile.casefold() != STOCK else STOCK)


def _words(text: str) -> Iterator[str]:
    """Yield the words; one in quotes keeps its first, so that it is never taken for a word of the sentence."""
    for quoted, curly, bare in _TOKENS.findall(text):
        yield bare or f'"{quoted or curly}'


def _split(words: Sequence[str]) -> Iterator[list[str]]:
    part: list[str] = []
    for word in words:
        if word.casefold() == "and":
            yield part
            part = []
        else:
            part.append(word)
    yield part


def _condition(words: list[str]) -> When:
    said = tuple(word.casefold() for word in words)
    if said in (("on", "charger"), ("on", "the", "charger")):
        return When(Condition.CHARGER)
    if said == ("on", "battery"):
        return When(Condition.BATTERY)
    if said[:2] == ("battery", "below") and len(said) in (3, 4):
        return When(Condition.BATTERY_BELOW, _percent(" ".join(words[2:])))
    if said[:3] == ("platform", "mode", "is") and len(said) == 4:
        return When(Condition.MODE, _name(words[3]))
    if len(said) == 4 and (said[0], said[2:]) in _NAMED:
        return When(_NAMED[said[0], said[2:]], _name(words[1]))
    raise BadInput(f"“{' '.join(words)[:80]}” is no condition; there are: {ACCEPTED}.")


def _percent(text: str) -> str:
    number = text.removesuffix("%").strip()
    if not (number.isascii() and number.isdecimal() and 1 <= int(number) <= 100):
        raise BadInput(f"“{text[:20]}” is no charge of a battery; write a whole number from 1 to 100, as in “20 %”.")
    return str(int(number))


def _name(text: str) -> str:
    text = text.removeprefix('"')
    if not 0 < len(text) <= LONGEST_WORD or not text.isprintable():
        raise BadInput(f"a name has 1 to {LONGEST_WORD} printable characters.")
    return text


def sentence(rule: Rule) -> str:
    """Return a rule as its sentence."""
    profile = f'"{rule.profile}"' if "use" in rule.profile.casefold().split() else rule.profile
    if not rule.when:
        return f"Otherwise, use {profile}."
    return f"When {' and '.join(map(condition, rule.when))}, use {profile}."


def condition(when: When) -> str:
    """Return a condition as it stands in a sentence."""
    # In quotes wherever it would not be read back as one word of this kind.
    bare = _BARE.fullmatch(when.value) and when.value.casefold() not in ("and", "use")
    name = when.value if bare else f'"{when.value}"'
    return {
        Condition.CHARGER: "on charger",
        Condition.BATTERY: "on battery",
        Condition.BATTERY_BELOW: f"battery below {when.value} %",
        Condition.PROGRAM: f"program {name} is running",
        Condition.MODE: f"platform mode is {name}",
        Condition.DEVICE: f"device {name} is connected",
    }[when.condition]


def rules_text(rules: Iterable[Rule]) -> str:
    """Return rules as the text of their file."""
    return "\n".join([HEADER, *map(sentence, rules)]) + "\n"


NOT_SO = {
    Condition.CHARGER: "the machine is not on its charger",
    Condition.BATTERY: "the machine is not on its battery",
    Condition.BATTERY_BELOW: "the battery holds more, or there is none",
    Condition.PROGRAM: "the program is not running",
    Condition.MODE: "the platform mode is another",
    Condition.DEVICE: "the device is not connected",
}


def why(standing: Standing, counting: Rule | None) -> str:
    """Return why a rule counts now, or why not."""
    if standing.counts:
        return "counts now: all of it holds" if standing.rule.when else "counts now, since no other rule does"
    if standing.failing:
        reasons = [NOT_SO[when.condition] for when in standing.failing]
        return f"does not count: {' and '.join(dict.fromkeys(reasons))}"
    return f"does not count: “{sentence(counting)}” stands before it" if counting else "does not count"


CHANGES = {
    Condition.CHARGER: "the power source changes",
    Condition.BATTERY: "the power source changes",
    Condition.BATTERY_BELOW: "the battery's charge passes a rule's limit",
    Condition.PROGRAM: "a program that a rule names begins or ends",
    Condition.MODE: "the platform mode changes",
    Condition.DEVICE: "a device that a rule names comes or goes",
}


def until(rules: Rules) -> str:
    """Return until when a profile chosen by hand counts, in words; empty if no rule can change it."""
    kinds = dict.fromkeys(CHANGES[when.condition] for rule in rules.rules for when in rule.when)
    return f"until {' or '.join(kinds)}" if kinds else ""
