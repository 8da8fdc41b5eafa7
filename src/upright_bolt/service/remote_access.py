"""What every way to an engine in another process has in common: answers that come in the words of the wire."""

from typing import Any

from upright_bolt.model.control import Control, Value
from upright_bolt.model.machine import About
from upright_bolt.model.trial import Status
from upright_bolt.service import wire


class RemoteAccess:
    """Reading through an engine elsewhere; whoever extends it says how a question gets there.

    Attributes:
        about: what does not change; another object once graphics chips have come or gone, as ``status`` has told.
    """

    about: About

    def _call(self, member: str) -> Any:  # noqa: ANN401 - whatever the member answers
        raise NotImplementedError

    def controls(self) -> dict[str, Control]:
        """Return every control as it stands. Raises BoltError if there is no answer."""
        return wire.read_controls(self._call("Controls"))

    def in_force(self) -> dict[str, Value]:
        """Return every control that can be read, with its value. Raises BoltError if there is no answer."""
        return {name: c.in_force for name, c in self.controls().items() if c.in_force is not None}

    def status(self) -> Status:
        """Return the trial, what was kept, and what no longer holds. Raises BoltError if there is no answer."""
        status, survey = wire.read_status(self._call("Status"))
        if survey != self.about.survey:  # a graphics chip has come or gone
            self.about, _ = wire.read_description(self._call("Describe"))
        return status
