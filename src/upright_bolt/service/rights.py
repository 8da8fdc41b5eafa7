"""Rights: polkit decides, asked for the caller that the bus names. No answer in time is a no.

Whether a right still holds is asked again after every change of polkit's rules and at the end of every wait for a
person. Root is asked for nothing: polkit would say yes, and root must get through while polkit hangs.
"""

import uuid
from collections import Counter
from contextlib import suppress
from dataclasses import dataclass, field
from enum import Enum
from time import monotonic

from upright_bolt.errors import BoltError, Denied
from upright_bolt.privileges import ROOT
from upright_bolt.service.callers import Caller
from upright_bolt.service.connection import Connection
from upright_bolt.service.names import POLKIT, Action, TooMuch

UNASKED = frozenset({ROOT})
ANSWER_S = 5.0
BEGINS_S = 20.0
"""A program takes its time to begin on a slow machine."""
PERSON_S = 120.0
"""How long a person may take to type a password."""
MAY_ASK = 1
"""polkit's flag AllowUserInteraction."""
QUESTIONS_EACH = 2
"""Open questions for a password that one user may have at a time."""
QUESTIONS_ALL = 32
DENIED_S = 1.0
"""A caller who may not watch is told so for a while without asking polkit again."""
ROUNDS = 5
"""Rules that change so often while one call asks for a right are a no."""
WORDS = {
    Action.WATCH: "read this machine through the root service",
    Action.SET: "change settings of this machine",
    Action.SET_RISKY: "change voltages and other risky settings of this machine",
    Action.PROFILES: "manage profiles for the whole machine",
}


class Verdict(Enum):
    """What polkit says."""

    YES = "yes"
    PASSWORD = "password"  # noqa: S105 - a kind of answer
    NO = "no"


@dataclass(frozen=True, slots=True)
class Grant:
    """That something may be done: in which epoch of the rules, and whether a password was given for it."""

    epoch: int
    password: bool = False


@dataclass(frozen=True, slots=True)
class _Answer:
    verdict: Verdict
    details: dict[str, str] = field(default_factory=dict)


class Rights:
    """Asks polkit.

    Args:
        bus: the service's connection.
        answer_s: how long polkit may take when nobody is asked for a password.
        person_s: how long it may take when somebody is.
        begins_s: how much longer the answer may take that polkit has to be started for.

    Attributes:
        epoch: grows whenever polkit's rules change: what was granted before has to be asked again.
        polkit_runs: whether polkit is there already; if not, the bus starts it with the first question.
    """

    def __init__(
        self, bus: Connection, answer_s: float = ANSWER_S, person_s: float = PERSON_S, begins_s: float = BEGINS_S
    ) -> None:
        self._bus = bus
        self._answer_s, self._begins_s = answer_s, begins_s
        self._person_s = person_s
        self._open: Counter[int | None] = Counter()
        self.epoch = 0
        self.polkit_runs = True

    async def need(
        self, caller: Caller, action: Action, *, interactive: bool, earlier: "Grant | None" = None
    ) -> "Grant":
        """Return that ``caller`` may do it, and when that was.

        Args:
            caller: who.
            action: what.
            interactive: a person may be asked for a password, once.
            earlier: what was granted for the same call before the rules changed: a password given for it counts.

        Raises:
            Denied: it may not, the person dismissed the question, or polkit gave no answer.
            TooMuch: too many questions are open.
        """
        password = earlier is not None and earlier.password
        for _ in range(ROUNDS):
            # polkit may change its rules while it is being asked: an answer counts only if they are the same
            # afterwards.
            epoch = self.epoch
            if caller.uid not in UNASKED and not (action is Action.WATCH and caller.may_watch):
                password = await self._asked(caller, action, interactive=interactive, password=password)
            # Its name on the bus may not be given to another, but nobody is left to answer for what it asked.
            if caller.gone:
                raise Denied("The program that asked has gone.")
            if epoch == self.epoch:
                caller.may_watch = caller.may_watch or action is Action.WATCH
                return Grant(epoch, password)
        raise Denied(_sentence(action, "the rules about it changed again and again while it was asked"))

    async def has(self, caller: Caller, action: Action) -> bool:
        """Tell whether a caller may do something without being asked for a password."""
        try:
            await self.need(caller, action, interactive=False)
        except Denied:
            return False
        return True

    async def begin_series(self, caller: Caller, action: Action, *, interactive: bool) -> None:
        """Get a right for the length of a series of trials. Raises as ``need``."""
        grant = await self.need(caller, action, interactive=interactive)
        caller.series = dict.fromkeys((action, Action.SET), grant.password)

    async def _asked(self, caller: Caller, action: Action, *, interactive: bool, password: bool) -> bool:
        """Return whether a password was given for it, now or before. Raises Denied or TooMuch."""
        if action is Action.WATCH and monotonic() < caller.denied_until_s:
            raise Denied(_sentence(action, _why(_Answer(Verdict.NO))))
        answer = await self._check(caller, action)
        if answer.verdict is Verdict.PASSWORD and (password or caller.series.get(action)):
            return True  # it was given already: for this call, or when the series began
        if answer.verdict is Verdict.PASSWORD and interactive:
            answer = await self._question(caller, action)
            # A password may be typed two minutes after the question. What counts is what the rules say then.
            if answer.verdict is Verdict.YES and (await self._check(caller, action)).verdict is Verdict.NO:
                raise Denied(_sentence(action, "the right was withdrawn while the question was open"))
            password = answer.verdict is Verdict.YES
        if answer.verdict is not Verdict.YES:
            caller.series.pop(action, None)
            if action is Action.WATCH:
                caller.denied_until_s = monotonic() + DENIED_S
            raise Denied(_sentence(action, _why(answer)))
        return password

    async def _question(self, caller: Caller, action: Action) -> _Answer:
        """Let a person be asked; at most so many questions are open at a time."""
        if self._open[caller.uid] >= QUESTIONS_EACH or self._open.total() >= QUESTIONS_ALL:
            raise TooMuch("A question for a password is open already; answer or close it first.")
        # Counted by user, not by program: a program could open as many connections as it likes.
        self._open[caller.uid] += 1
        try:
            return await self._check(caller, action, interactive=True)
        finally:
            self._open[caller.uid] -= 1

    async def _check(self, caller: Caller, action: Action, *, interactive: bool = False) -> _Answer:
        cancel = uuid.uuid4().hex
        patience_s = self._person_s if interactive else self._answer_s
        if not self.polkit_runs:
            patience_s += self._begins_s
        try:
            (answer,) = await self._bus.call(
                POLKIT, "CheckAuthorization", "(sa{sv})sa{ss}us",
                ("system-bus-name", {"name": ("s", caller.unique)}), action.value, {}, MAY_ASK if interactive else 0,
                cancel, patience_s=patience_s,
            )  # fmt: skip
            allowed, challenge, details = answer
        except TimeoutError as fault:
            # Else the dialog would stay open, and an answer to it would allow what has been given up.
            await self._withdraw(cancel)
            raise Denied(_sentence(action, "polkit gave no answer in time")) from fault
        except (BoltError, ValueError) as fault:
            raise Denied(_sentence(action, "polkit, which decides about rights, does not answer here")) from fault
        if allowed:
            return _Answer(Verdict.YES)
        return _Answer(Verdict.PASSWORD if challenge else Verdict.NO, details)

    async def _withdraw(self, cancel: str) -> None:
        with suppress(BoltError, TimeoutError):
            await self._bus.call(POLKIT, "CancelCheckAuthorization", "s", cancel, patience_s=1.0)


def _why(answer: _Answer) -> str:
    if answer.details.get("polkit.dismissed"):
        return "the password question was dismissed"
    if answer.verdict is Verdict.PASSWORD:
        return "it needs a password, and nobody could be asked for it here; run the command with sudo"
    return "the rules of this computer do not allow it; an administrator can change them, or run the command with sudo"


def _sentence(action: Action, why: str) -> str:
    kept = "" if action is Action.WATCH else " Nothing was changed."
    return f"You may not {WORDS[action]}: {why}.{kept} (polkit action {action.value})"
