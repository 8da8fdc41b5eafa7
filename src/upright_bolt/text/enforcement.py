"""Sentences of the hold's log, and of how profiles stand."""

from collections.abc import Callable, Iterable

from upright_bolt.model.catalogue import unsafe_direction_of
from upright_bolt.model.control import Value, show_value
from upright_bolt.model.hold import Cause, EnforcementStatus, LogEntry, LogKind, Resting
from upright_bolt.model.profile import STOCK, HeldBack, Proof, needs_proof
from upright_bolt.model.settings import show_settings
from upright_bolt.sanitize import capital, one_line
from upright_bolt.text.times import date_and_time, span

STOCK_WORDS = "the machine's own values"


def no_such_profile(name: str, there: Iterable[str]) -> str:
    """Return the sentence for a name that no profile has, with those that are there."""
    names = ", ".join(there) or "none yet"
    return f"There is no profile “{one_line(name)[:40]}”. Profiles: {names}; stock is always there."


def profile_words(name: str) -> str:
    """Return what a profile is called in a sentence."""
    return STOCK_WORDS if name == STOCK else f"profile {name}"


def _since(entry: LogEntry) -> str:
    """Return why a profile was put in force."""
    chosen = f"chosen by {entry.who}" if entry.who else "chosen by hand"
    return {
        Cause.BY_HAND: chosen,
        Cause.RULE: "as the rules say",
        Cause.BOOT: "after the machine's start",
        Cause.WAKE: "again after sleep",
        Cause.EDITED: "since it was edited, or proofs have changed",
        Cause.RESUMED: "since this program began again",
        Cause.PROCESSORS: "since a processor came or went",
        Cause.DRIVERS: "since a driver came or went",
        Cause.CHIP_AWAKE: "since a graphics chip that it sets has woken",
    }.get(entry.cause, entry.cause.value)


def _changed_by(entry: LogEntry) -> str:
    if entry.cause is Cause.PROGRAM:
        return entry.who or "Another program"
    if entry.cause is Cause.PROCESSORS:
        return "A processor that came back"
    if entry.cause is Cause.DRIVERS:
        return "A driver that was loaded anew"
    return "The firmware, or something unseen,"


def _value(entry: LogEntry, value: float | str | None) -> str:
    return show_value(entry.control, value)


def _used(entry: LogEntry) -> str:
    return f"{capital(profile_words(entry.profile))} put in force, {_since(entry)}"


def _not_used(entry: LogEntry) -> str:
    what = capital(profile_words(entry.profile)) if entry.profile else "Nothing"
    return f"{what} {'not ' if entry.profile else ''}put in force: {entry.why.rstrip('.')}"


def _reset(entry: LogEntry) -> str:
    got = f"to {_value(entry, entry.got)}" if not entry.why else f"differently ({entry.why})"
    return f"{_changed_by(entry)} set {entry.control} {got}; {_value(entry, entry.expected)} was put back"


def _rests(entry: LogEntry) -> str:
    return (
        f"{_changed_by(entry)} sets {entry.control} again and again; it is left at {_value(entry, entry.got)} "
        f"instead of {_value(entry, entry.expected)}. End that program or take {entry.control} out of the profile, "
        "then turn hold on again"
    )


def _suspect(entry: LogEntry) -> str:
    what = profile_words(entry.profile) if entry.profile else "a trial"
    return (
        f"The machine went down uncleanly while {what} was new in force; nothing risky is put in force until a "
        "person chooses a profile"
    )


def _failed(entry: LogEntry) -> str:
    what = show_settings(entry.settings)
    if entry.cause is Cause.BOOT:
        return f"{entry.why}; no profile applies that any more"
    who = f", reported by {entry.who}" if entry.who else ""
    return f"A run went wrong at {what}{who}; no profile applies that any more"


_SENTENCES: dict[LogKind, Callable[[LogEntry], str]] = {
    LogKind.USED: _used,
    LogKind.NOT_USED: _not_used,
    LogKind.RESET: _reset,
    LogKind.RESTS: _rests,
    LogKind.SUSPECT: _suspect,
    LogKind.SETTLED: lambda e: f"{capital(profile_words(e.profile))} has been in force for five minutes",
    LogKind.FAILED: _failed,
    LogKind.CLEARED: lambda e: f"{capital(e.who) if e.who else 'You'} cleared the failures on record: {e.why}",
    LogKind.DAMAGED: lambda e: (
        f"{e.control} was damaged. It is repaired as far as possible, and a copy is kept beside it"
    ),
}


def entry_words(entry: LogEntry) -> str:
    """Return an entry as a sentence, without its time."""
    return f"{_SENTENCES[entry.kind](entry)}."


def notable(entry: LogEntry, *, rules: bool) -> bool:
    """Tell whether an entry is worth a notification: another program, a hold that rests, a crash; ``rules`` too."""
    if entry.kind is LogKind.RESET:
        return entry.cause is Cause.PROGRAM
    if entry.kind is LogKind.USED:
        return rules and entry.cause is Cause.RULE
    return entry.kind in (LogKind.RESTS, LogKind.SUSPECT, LogKind.NOT_USED, LogKind.FAILED, LogKind.DAMAGED)


def entry_in_short(entry: LogEntry) -> str:
    """Return an entry in few words, for a flag on a time axis."""
    if entry.kind is LogKind.USED:
        return f"Profile {entry.profile}"
    if entry.kind is LogKind.RESET:
        by = f", set by {entry.who.partition(' ')[0].rstrip(':')}" if entry.who else ""
        return f"{entry.control} put back{by}"
    return f"{entry.control} left alone" if entry.kind is LogKind.RESTS else entry_words(entry).rstrip(".")


def proof_words(control: str, value: Value, proof: Proof | None) -> str:
    """Return what speaks for a setting of a profile, in a phrase."""
    if proof is None:
        return "not proven" if needs_proof(control, value) else "no run has had it yet"
    loads = f", {span(proof.all_loads_s)} of them of every kind of load" if unsafe_direction_of(control) else ""
    runs = f"{len(proof.runs)} run{'s' if len(proof.runs) != 1 else ''}"
    deeper = f" at {show_value(control, proof.value)}" if proof.value != value else ""
    return f"{span(proof.load_s)} passed in {runs}{deeper}{loads}, last {proof.on}"


def held_words(held: HeldBack) -> str:
    """Return a setting that is held back, and why."""
    return f"{held.name} {show_value(held.name, held.value)} held back: {held.why}"


def resting_words(one: Resting) -> str:
    """Return a setting that the hold leaves alone, and why."""
    who = one.who or "something unseen"
    return f"{one.control} is left alone since {date_and_time(one.since)}: {who} changes it again and again."


def in_force_words(status: EnforcementStatus) -> str:
    """Return the profile in force in a few words, for the strip on top."""
    name = profile_words(status.active)
    chosen = f"chosen by hand {status.by_hand}" if status.by_hand else ""
    count = "all" if nothing_applied(status) else str(len(status.held_back))
    back = f"{count} of its settings withheld" if status.held_back else ""
    return ", ".join(part for part in (capital(name), chosen, back) if part)


def used_words(status: EnforcementStatus) -> str:
    """Return what became of using a profile."""
    name = profile_words(status.active)
    if nothing_applied(status):
        return f"{capital(name)} is active, but all of its settings are withheld."
    held = f"; {len(status.held_back)} of its settings are withheld" if status.held_back else ""
    return f"{capital(name)} was put in force{held}."


def standing_words(status: EnforcementStatus) -> str:
    """Return in a short sentence which profile is in force, and until when."""
    if status.off:
        return f"{capital(status.off)}."
    if not status.active:
        return "No profile is in force."
    chosen = f", chosen by hand {status.by_hand}" if status.by_hand else ""
    if nothing_applied(status):
        return f"{capital(profile_words(status.active))} is active{chosen}, but all of its settings are withheld."
    return f"In force: {profile_words(status.active)}{chosen}."


def nothing_applied(status: EnforcementStatus) -> bool:
    """Tell whether every setting of the active profile is withheld."""
    return bool(status.held_back) and not status.applied
