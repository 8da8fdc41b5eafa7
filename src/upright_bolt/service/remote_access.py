"""The machine through an engine in another process: every verb of the table is a method, without being spelled here."""

from collections.abc import Callable, Sequence
from functools import partial
from math import inf
from typing import Any, cast

from upright_bolt.model.control import Control, Value
from upright_bolt.model.machine import About
from upright_bolt.model.trial import Status, Trial
from upright_bolt.service.verbs import BY_METHOD, DESCRIBE, PUT_BACK, Verb
from upright_bolt.settings.access import ProfileAccess

TEND, STATUS = BY_METHOD["profiles.reconcile"], BY_METHOD["status"]
Ask = Callable[..., Any]


def _asking(ask: Ask, method: str) -> Ask:
    """Return what asks for a method of the engine. Raises AttributeError if no verb stands for it."""
    verb = BY_METHOD.get(method)
    if verb is None:
        raise AttributeError(f"no verb stands for {method}")
    return partial(ask, verb)


class RemoteAccess:
    """``MachineAccess`` through an engine elsewhere; whoever extends it says how a question gets there.

    Every verb raises BoltError if there is no answer, and what the engine's own method raises.

    Attributes:
        about: what does not change; another object once GPUs have come or gone, as ``status`` has told.
    """

    about: About

    def _carry(self, verb: Verb, data: Sequence[Any]) -> Sequence[Any]:
        """Return what a verb answers, as plain data."""
        raise NotImplementedError

    def _ask(self, verb: Verb, *given: Any, **named: Any) -> Any:  # noqa: ANN401 - whatever the verb answers
        return verb.gives.unpack(*self._carry(verb, verb.packed(given, named)))

    def __getattr__(self, method: str) -> Ask:
        return _asking(self._ask, method)

    def current_values(self) -> dict[str, Value]:
        """Return every control that can be read, with its value."""
        controls: dict[str, Control] = self.controls()
        return {name: c.current for name, c in controls.items() if c.current is not None}

    def status(self) -> Status:
        """Return the trial, what was kept, and what no longer holds."""
        status, survey = self._ask(STATUS)
        if survey != self.about.survey:  # a GPU has come or gone
            self.about, _ = self._ask(DESCRIBE)
        return cast("Status", status)

    def revert(self, why: str) -> Trial:  # noqa: ARG002 - the other process records a reason of its own
        """End the trial and put back what was before it."""
        return cast("Trial", self._ask(PUT_BACK))


class RemoteProfiles:
    """``ProfileAccess`` through another process.

    Args:
        ask: asks for a verb.
        tends: whether this process has to drive it.
    """

    near = False

    def __init__(self, ask: Ask, *, tends: bool) -> None:
        self._ask = ask
        self._tends = tends

    def __getattr__(self, method: str) -> Ask:
        return _asking(self._ask, f"profiles.{method}")

    def reconcile(self) -> float:
        """Drive it, where this process has to; return in how many seconds again."""
        return cast("float", self._ask(TEND)) if self._tends else inf

    def close(self) -> None:
        """Nothing is held open."""


def profiles_through(ask: Ask, *, tends: bool) -> ProfileAccess:
    """Return the profiles of an engine elsewhere; arguments as of ``RemoteProfiles``."""
    return cast("ProfileAccess", RemoteProfiles(ask, tends=tends))
