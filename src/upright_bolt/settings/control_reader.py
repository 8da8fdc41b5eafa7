"""Controls of a machine as they stand now: what drivers say, and what is remembered of stock."""

from collections.abc import Iterable
from dataclasses import replace

from upright_bolt.kernel.driver import Facts, why_unreadable
from upright_bolt.model.catalogue import beside, declaration_of
from upright_bolt.model.control import Control, ControlState, Value, parts_of
from upright_bolt.model.note import CAPPED, Diagnostic, DiagnosticCode, note
from upright_bolt.settings.backend import Backend
from upright_bolt.settings.journal_replay import BootMemory


class ControlReader:
    """Reads controls, all or some.

    Args:
        backend: the machine.
        memory: what is remembered of this boot.
    """

    def __init__(self, backend: Backend, memory: BootMemory) -> None:
        self._backend = backend
        self._memory = memory

    def read_all(self) -> dict[str, Control]:
        """Return every control of the catalogue, and those of parts that are there."""
        return {name: self.read(name) for name in self._backend.names()}

    def read_for(self, names: Iterable[str]) -> dict[str, Control]:
        """Return the named controls and those that they are checked with."""
        wanted: dict[str, None] = {}
        for name in names:
            wanted[name] = None
            wanted.update(dict.fromkeys(beside(name, other) for other in declaration_of(name).checked_with))
        return {name: self.read(name) for name in wanted}

    def read(self, name: str) -> Control:
        """Return one control. Raises NotFound if there is no such control."""
        declared = declaration_of(name)
        driver = self._backend.drivers.get(name)
        if driver is None:
            why = self._backend.absent.get(name, note(declared.absent))
            return Control(name, declared, None, None, declared.step, (), None, None, ControlState.ABSENT, why)
        facts = driver.facts()
        current = driver.read()
        state, why_not = facts.state, facts.note
        if current is None and state is ControlState.SETTABLE:
            state, why_not = ControlState.READ_ONLY, why_unreadable(driver)
        if why_not is not None and why_not.code is DiagnosticCode.NEEDS_ROOT:
            why_not = self._said_by_service(name) or why_not
        known = self._memory.stock.get(name)
        if known is None:
            known = current if facts.note is None or facts.note.code not in CAPPED else self._backend.chosen(name)
        low, high = self._lowest(facts, known), self._highest(facts, known)
        stock = None if self._memory.unsure and name not in self._memory.stock else known
        return Control(
            name, declared, low, high, declared.step, facts.choices, stock, current, state, why_not, facts.steps
        )

    def _said_by_service(self, name: str) -> Diagnostic | None:
        """Return why a service that is there does not do it, where it has said so."""
        beyond = self._backend.beyond
        return (
            replace(beyond, about=name)
            if beyond is not None and beyond.code is DiagnosticCode.SERVICE_REFUSES
            else None
        )

    def _lowest(self, facts: Facts, stock: Value | None) -> float | None:
        if facts.minimum is None or not facts.spans or not isinstance(stock, float):
            return facts.minimum
        return min(facts.minimum, stock)

    def _highest(self, facts: Facts, stock: Value | None) -> float | None:
        if facts.minimum is None or (facts.maximum is not None and not facts.spans):
            return facts.maximum
        if isinstance(stock, str):
            return max((float(part) for part in parts_of(stock)), default=None)
        known: list[Value | None] = [facts.maximum, stock]
        for other in facts.spans[1:]:
            known.append(self._stock(other))
        return max((value for value in known if isinstance(value, float)), default=None)

    def _stock(self, name: str) -> Value | None:
        remembered = self._memory.stock.get(name)
        driver = self._backend.drivers.get(name)
        return remembered if remembered is not None or driver is None else driver.read()
