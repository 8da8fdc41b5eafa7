"""Sentences of events."""

from collections.abc import Callable, Iterable
from typing import Any

from upright_bolt.model.control import show_value
from upright_bolt.model.event import (
    OF_THIS_PROGRAM,
    AccessChanged,
    ChangedByOthers,
    ChargerChanged,
    ChipsChanged,
    ClockSet,
    Event,
    Kept,
    LimitsReset,
    NotSettled,
    ProcessorsChanged,
    ProfileEvent,
    Resumed,
    RunEnded,
    RunStarted,
    SelfTestPassed,
    Tried,
    WasPutBack,
)
from upright_bolt.model.settings import show_settings
from upright_bolt.sanitize import capital
from upright_bolt.text.enforcement import entry_in_short, entry_words
from upright_bolt.text.times import length


def _clock_set(event: ClockSet) -> str:
    way = "forward" if event.by_s > 0 else "back"
    return f"The computer's clock was set {way} by {length(abs(event.by_s))}; times within a run do not go by it"


def _processors_changed(event: ProcessorsChanged) -> str:
    parts = [f"{_processors(event.gone)} went offline"] if event.gone else []
    return " and ".join([*parts, *([f"{_processors(event.back)} came back"] if event.back else [])])


def _chips_changed(event: ChipsChanged) -> str:
    went = [f"Graphics chip {part} was unplugged" for part in event.went]
    return "; ".join([*went, *(f"Graphics chip {part} was plugged in" for part in event.came)])


def _checkers(event: SelfTestPassed) -> str:
    if not event.processors:
        return "The checker caught the wrong bit that was planted to test it"
    return f"The checkers caught one planted wrong bit each, on {event.processors} processors"


_SENTENCES: dict[type, Callable[[Any], str]] = {
    ChargerChanged: lambda e: "Charger plugged in" if e.plugged else "Charger unplugged",
    LimitsReset: lambda e: f"Changed by firmware or another program: {_change(e)}",
    ProcessorsChanged: _processors_changed,
    ChipsChanged: _chips_changed,
    Resumed: lambda e: f"The machine was suspended for {length(e.slept_s)}",
    ClockSet: _clock_set,
    AccessChanged: lambda e: e.trouble or "The root service answers again",
    ChangedByOthers: lambda e: f"{capital(e.what)} by {e.who}",
    ProfileEvent: lambda e: entry_words(e.entry).rstrip("."),
    Tried: lambda e: "Trial refused" if e.refused else f"Tried {show_settings(e.settings)}",
    Kept: lambda e: f"Kept {show_settings(e.settings)}",
    WasPutBack: lambda e: f"Put back {show_settings(e.settings)}",
    RunStarted: lambda e: f"Run {e.run_id} started",
    RunEnded: lambda e: f"Run {e.run_id} ended",
    NotSettled: lambda e: f"It had not come to rest after {length(e.waited_s)}; it was measured as it was",
    SelfTestPassed: _checkers,
}


def sentence(event: Event) -> str:
    """Return what happened, without full stop."""
    return _SENTENCES[type(event)](event)


def short(event: Event) -> str:
    """Return what happened in few words, for a flag on a time axis."""
    if isinstance(event, ProfileEvent):
        return entry_in_short(event.entry)
    return f"Reset: {_change(event)}" if isinstance(event, LimitsReset) else sentence(event)


def during_run(events: Iterable[Event]) -> list[str]:
    """Return what happened during a run from outside, a sentence each with its time from load start."""
    return [
        f"At {event.time_s:.0f} s: {sentence(event)}." for event in events if not isinstance(event, OF_THIS_PROGRAM)
    ]


def _change(event: LimitsReset) -> str:
    before, after = (show_value(event.control, value) for value in (event.before, event.after))
    return f"{event.control} {before} → {after}"


def _processors(numbers: tuple[int, ...]) -> str:
    return f"processor{'s' if len(numbers) > 1 else ''} {', '.join(map(str, numbers))}"
