"""The axis of a search: controls that move together from their stock value towards danger."""

from collections.abc import Mapping
from dataclasses import dataclass, field

from upright_bolt.model.catalogue import declaration_of, part_of
from upright_bolt.model.control import Value
from upright_bolt.model.quantity import Quantity


@dataclass(frozen=True, slots=True)
class Axis:
    """Positions on it are counted from 0 (stock) towards danger, in the unit of its controls.

    Attributes:
        controls: those that move, all of one kind.
        stock: their value at position 0.
        held: other settings that stand in every test, so that what was found holds with them alone.
    """

    controls: tuple[str, ...]
    stock: float = 0.0
    held: Mapping[str, Value] = field(default_factory=dict)

    @property
    def quantity(self) -> Quantity:
        """What its controls measure."""
        return declaration_of(self.controls[0]).quantity

    @property
    def towards(self) -> float:
        """On which side of stock danger lies: −1 below it, 1 above."""
        return declaration_of(self.controls[0]).unsafe_direction or -1.0

    @property
    def part(self) -> str:
        """The graphics chip that it belongs to; empty for the processor."""
        return part_of(self.controls[0])

    def value(self, position: float) -> float:
        """Return the value of a control at a position."""
        return self.stock + self.towards * position

    def position(self, value: Value | None) -> float:
        """Return where a value of a control lies; one that is not set is at stock."""
        return 0.0 if value is None or isinstance(value, str) else self.towards * (value - self.stock)

    def settings(self, positions: Mapping[str, float]) -> dict[str, Value]:
        """Return the settings at positions by control, with what is held; that alone where no position is given."""
        moved: dict[str, Value] = {name: self.value(position) for name, position in positions.items()}
        return {**moved, **self.held}

    def positions(self, settings: Mapping[str, Value]) -> dict[str, float]:
        """Return where each of its controls lies in settings."""
        return {name: self.position(settings.get(name)) for name in self.controls}

    def furthest(self, settings: Mapping[str, Value]) -> float:
        """Return how far from stock the furthest of its controls lies."""
        return max(self.positions(settings).values())

    def moved(self, settings: Mapping[str, Value]) -> dict[str, Value]:
        """Return those of the settings that are its controls'."""
        return {name: value for name, value in settings.items() if name in self.controls}

    def as_far(self, settings: Mapping[str, Value], as_others: Mapping[str, Value]) -> bool:
        """Tell whether each of its controls lies at least as far towards danger in ``settings`` as in the others."""
        mine, others = self.positions(settings), self.positions(as_others)
        return bool(settings) and all(mine[name] >= others[name] - 1e-9 for name in self.controls)
