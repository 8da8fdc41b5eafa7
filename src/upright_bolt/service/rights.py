"""Rights: polkit decides, asked for the caller that the bus names. No answer in time is a no."""

import asyncio
import uuid
from contextlib import suppress

from sdbus import SdBus

from upright_bolt.errors import Denied
from upright_bolt.service.callers import Caller
from upright_bolt.service.names import Action

POLKIT = ("org.freedesktop.PolicyKit1", "/org/freedesktop/PolicyKit1/Authority",
          "org.freedesktop.PolicyKit1.Authority")  # fmt: skip
ANSWER_S = 5.0
PERSON_S = 120.0
"""How long a person may take to type a password."""
MAY_ASK = 1
"""polkit's flag AllowUserInteraction."""
WORDS = {
    Action.WATCH: "read this machine through the root service",
    Action.SET: "change settings of this machine",
    Action.SET_RISKY: "change voltages and other risky settings of this machine",
    Action.PROFILES: "manage profiles for the whole machine",
}


class Rights:
    """Asks polkit.

    Args:
        bus: the service's connection.
        answer_s: how long polkit may take when nobody is asked for a password.
        person_s: how long it may take when somebody is.
    """

    def __init__(self, bus: SdBus, answer_s: float = ANSWER_S, person_s: float = PERSON_S) -> None:
        self._bus = bus
        self._answer_s = answer_s
        self._person_s = person_s

    async def need(self, caller: Caller, action: Action, *, interactive: bool) -> None:
        """Return if ``caller`` may do it.

        Raises:
            Denied: it may not, the person dismissed the question, or polkit gave no answer.
        """
        if action in caller.series or (action is Action.WATCH and action in caller.granted):
            return
        cancel = uuid.uuid4().hex
        ask = self._bus.new_method_call_message(*POLKIT, "CheckAuthorization")
        ask.append_data(
            "(sa{sv})sa{ss}us", ("system-bus-name", {"name": ("s", caller.unique)}), action.value, {},
            MAY_ASK if interactive else 0, cancel,
        )  # fmt: skip
        try:
            reply = await asyncio.wait_for(self._bus.call_async(ask), self._person_s if interactive else self._answer_s)
            answer: tuple[bool, bool, dict[str, str]] = reply.get_contents()  # type: ignore[assignment]
        except TimeoutError as fault:
            await self._withdraw(cancel)
            raise Denied(_sentence(action, "polkit gave no answer in time")) from fault
        except Exception as fault:
            raise Denied(_sentence(action, "polkit, which decides about rights, does not answer here")) from fault
        allowed, challenge, details = answer
        if not allowed:
            raise Denied(_sentence(action, _why(challenge, details)))
        if caller.gone:
            raise Denied("The program that asked has gone.")
        caller.granted.add(action)

    async def _withdraw(self, cancel: str) -> None:
        take_back = self._bus.new_method_call_message(*POLKIT, "CancelCheckAuthorization")
        take_back.append_data("s", cancel)
        with suppress(Exception):
            await asyncio.wait_for(self._bus.call_async(take_back), 1.0)


def _why(challenge: bool, details: dict[str, str]) -> str:  # noqa: FBT001 - polkit's own answer
    if details.get("polkit.dismissed"):
        return "the password question was dismissed"
    if challenge:
        return "it needs a password, and nobody could be asked for it here; run the command with sudo"
    return "the rules of this computer do not allow it; an administrator can change them, or run the command with sudo"


def _sentence(action: Action, why: str) -> str:
    kept = "" if action is Action.WATCH else " Nothing was changed."
    return f"You may not {WORDS[action]}: {why}.{kept} (polkit action {action.value})"
