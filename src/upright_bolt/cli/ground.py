"""What keeps a command off voltage offsets and memory clocks that have failed on this chip."""

from collections.abc import Iterable
from typing import TYPE_CHECKING

from upright_bolt.app import data_folder, parse_machine
from upright_bolt.cli.context import MachineChoice, store_at
from upright_bolt.errors import BadInput
from upright_bolt.model.settings import Settings

if TYPE_CHECKING:
    from upright_bolt.settings.access import MachineAccess
    from upright_bolt.store.search_log import SearchLog

NOT_RUN = "No run was made. --allow-known-bad makes it anyway, as a trial."
OVER = "Allow values at, beyond or close to known failures on this chip."


def search_log(choice: MachineChoice) -> "SearchLog":
    """Return the record of a machine's searches."""
    from upright_bolt.store.search_log import SearchLog

    spec = parse_machine(choice.machine)
    return SearchLog(data_folder(choice.given) / "machines" / spec.folder, spec.text)


def check_ground(
    choice: MachineChoice,
    access: "MachineAccess",
    asked: Iterable[Settings],
    *,
    what_to_do: str,
    beyond_only: bool = False,
) -> None:
    """Raise BadInput if one of several settings is known to fail on this chip, or comes close to what does.

    Args:
        choice: the machine.
        access: the way to it.
        asked: the settings.
        what_to_do: the sentence on how it is done all the same.
        beyond_only: what only comes close to a failure passes.
    """
    from upright_bolt.model.failure import at_risk

    risky = [one for one in asked if at_risk(one)]
    if not risky:
        return
    from upright_bolt.analysis.validation.known_failures import near_failure
    from upright_bolt.model.failure import reaches
    from upright_bolt.presentation.past_failures import all_failures
    from upright_bolt.text.failures import known_failure

    with store_at(choice) as store:
        known = all_failures(access, parse_machine(choice.machine).text, store.all(), search_log(choice).all())
    current = access.current_values() if known else {}
    for settings in risky:
        found = near_failure(known, settings, current)
        if found is not None and (not beyond_only or reaches({**current, **settings}, found)):
            raise BadInput(f"{known_failure(found, {**current, **settings})} {what_to_do}")
