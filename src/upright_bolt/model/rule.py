"""Rules: when which profile is used, as data. Their sentences are read and written in ``text.rules``."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from enum import StrEnum


class Condition(StrEnum):
    """What a rule can depend on."""

    CHARGER = "on charger"
    BATTERY = "on battery"
    BATTERY_BELOW = "battery below"
    PROGRAM = "program"
    MODE = "platform mode"
    DEVICE = "device"


@dataclass(frozen=True, slots=True)
class When:
    """One condition, with the percent, program, mode or device that it names; empty for none."""

    condition: Condition
    value: str = ""


@dataclass(frozen=True, slots=True)
class Rule:
    """When all of ``when`` hold, ``profile`` is used. Without conditions it always holds ("otherwise")."""

    when: tuple[When, ...]
    profile: str


@dataclass(frozen=True, slots=True)
class Situation:
    """What rules look at, as far as the machine says.

    Attributes:
        source: "charger" or "battery"; empty if it is not known.
        battery_percent: of all batteries together; None without one.
        mode: the platform mode; empty without one.
        devices: names of chargers and docks that supply power now.
        programs: which of the programs that rules name are running.
    """

    source: str = ""
    battery_percent: float | None = None
    mode: str = ""
    devices: frozenset[str] = frozenset()
    programs: frozenset[str] = frozenset()


def holds(when: When, now: Situation) -> bool:
    """Tell whether a condition holds; what the machine does not say does not hold."""
    if when.condition is Condition.BATTERY_BELOW:
        return now.battery_percent is not None and now.battery_percent < float(when.value)
    answers: Mapping[Condition, bool] = {
        Condition.CHARGER: now.source == "charger",
        Condition.BATTERY: now.source == "battery",
        Condition.PROGRAM: when.value in now.programs,
        Condition.MODE: when.value == now.mode,
        Condition.DEVICE: when.value in now.devices,
    }
    return answers[when.condition]


@dataclass(frozen=True, slots=True)
class Standing:
    """How one rule stands.

    Attributes:
        rule: the rule.
        failing: which of its conditions do not hold.
        counts: it is the first whose conditions all hold.
    """

    rule: Rule
    failing: tuple[When, ...]
    counts: bool


@dataclass(frozen=True, slots=True)
class Rules:
    """An ordered list of rules; the first whose conditions hold counts."""

    rules: tuple[Rule, ...] = field(default=())

    def stand(self, now: Situation) -> tuple[Standing, ...]:
        """Return how every rule stands."""
        found: list[Standing] = []
        counted = False
        for rule in self.rules:
            failing = tuple(when for when in rule.when if not holds(when, now))
            found.append(Standing(rule, failing, counts=not failing and not counted))
            counted = counted or not failing
        return tuple(found)

    def counting(self, now: Situation) -> Rule | None:
        """Return the rule that counts; None if none does."""
        return next((each.rule for each in self.stand(now) if each.counts), None)

    def named(self, condition: Condition) -> frozenset[str]:
        """Return what the conditions of one kind name."""
        return frozenset(w.value for rule in self.rules for w in rule.when if w.condition is condition)

    def profiles(self) -> tuple[str, ...]:
        """Return the profiles that rules name, each once."""
        return tuple(dict.fromkeys(rule.profile for rule in self.rules))
