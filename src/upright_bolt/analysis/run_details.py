"""What a run's telemetry shows beyond its numbers: phases, whether it had settled, what its cooling carries."""

from dataclasses import dataclass, field

from upright_bolt.analysis.cooling import fit
from upright_bolt.analysis.phases import Phase


@dataclass(frozen=True, slots=True)
class RunDetails:
    """What was found.

    Attributes:
        phases: in their order.
        cooling: None if the run does not show it.
        below_c: the temperature asked for, below which the cooling is to carry a limit; None if none was.
        beside_w: graphics chips that heated the same sink meanwhile, with their mean watts.
    """

    phases: tuple[Phase, ...]
    cooling: fit.Cooling | None
    below_c: float | None
    beside_w: dict[str, float] = field(default_factory=dict)

    @property
    def carried(self) -> fit.Interval | None:
        """The watts that the cooling carries below the temperature asked for; None if not asked or not known."""
        return None if self.cooling is None or self.below_c is None else self.cooling.carries(self.below_c)
