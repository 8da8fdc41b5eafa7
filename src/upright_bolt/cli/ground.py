"""What keeps a command off voltage offsets that have failed on this chip."""

from collections.abc import Iterable
from typing import TYPE_CHECKING

from upright_bolt.app import data_folder, parse_machine
from upright_bolt.cli.context import MachineChoice, store_at
from upright_bolt.errors import BadInput
from upright_bolt.model.settings import Settings

if TYPE_CHECKING:
    from upright_bolt.settings.access import MachineAccess
    from upright_bolt.store.search_log import SearchLog

NOT_RUN = "No run was made. --over-broken-ground makes it all the same, as a trial."
OVER = "Allow voltage offsets at or beyond those that have failed on this chip."


def search_log(choice: MachineChoice) -> "SearchLog":
    """Return the record of a machine's searches."""
    from upright_bolt.store.search_log import SearchLog

    word = parse_machine(choice.machine)
    return SearchLog(data_folder(choice.given) / "machines" / word.folder)


def check_ground(choice: MachineChoice, access: "MachineAccess", asked: Iterable[Settings], *, what_to_do: str) -> None:
    """Raise BadInput if one of several settings is at or beyond what has failed on this chip.

    Args:
        choice: the machine.
        access: the way to it.
        asked: the settings.
        what_to_do: the sentence on how it is done all the same.
    """
    from upright_bolt.analysis.evidence import offsets_of

    risky = [one for one in asked if offsets_of(one)]
    if not risky:
        return
    from upright_bolt.analysis.broken_ground import broken, over
    from upright_bolt.analysis.chip import chip_of
    from upright_bolt.wording.search import over_ground

    with store_at(choice) as store:
        chip = chip_of(access.about.identity)
        known = broken(store.all(), search_log(choice).all(), parse_machine(choice.machine).word, chip)
    in_force = access.in_force() if known else {}
    for settings in risky:
        found = over(known, settings, in_force)
        if found is not None:
            raise BadInput(f"{over_ground(found, settings)} {what_to_do}")
