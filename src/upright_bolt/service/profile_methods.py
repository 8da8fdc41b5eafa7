"""Methods about profiles, rules and hold. Changing what everybody on this machine gets needs a right of its own."""

from typing import TYPE_CHECKING, Any

from upright_bolt.errors import BadInput
from upright_bolt.service.callers import Caller
from upright_bolt.service.methods import method
from upright_bolt.service.names import Action
from upright_bolt.settings.access import PROFILES

if TYPE_CHECKING:
    from upright_bolt.service.bus_interface import BusInterface

Result = tuple[Any, ...]
MOST_NAME = 200


def _name(text: str) -> str:
    """Return the name of a profile as called. Raises BadInput."""
    if not 0 < len(text) <= MOST_NAME or not text.isprintable():
        raise BadInput(f"A profile's name has 1 to {MOST_NAME} printable characters.")
    return text


async def _ask(interface: "BusInterface", name: str, *arguments: object) -> Result:
    return (await interface.do(lambda: interface.machine.profile_act(name, *arguments)),)


async def _change(
    interface: "BusInterface", caller: Caller, action: Action, name: str, *arguments: object, may_ask: bool
) -> Result:
    await interface.with_right(
        caller, action, lambda: interface.machine.change_profiles(caller, name, *arguments), interactive=may_ask
    )
    interface.tell(PROFILES, caller)
    return ()


@method("Profiles", gives=("s", "status"))
async def profiles(interface: "BusInterface", _caller: Caller) -> Result:
    """Return how profiles, rules, hold and boot stand, as JSON."""
    return await _ask(interface, "Profiles")


@method("HoldLog", ("u", "most"), ("s", "log"))
async def hold_log(interface: "BusInterface", _caller: Caller, most: int) -> Result:
    """Return the latest entries of the hold's log as JSON, oldest first."""
    return await _ask(interface, "HoldLog", most)


@method("ProfileText", ("s", "name"), ("s", "text"))
async def profile_text(interface: "BusInterface", _caller: Caller, name: str) -> Result:
    """Return the text of a profile's file. Raises NotHere or BadInput."""
    return await _ask(interface, "ProfileText", _name(name))


@method("SaveProfile", ("ssb", "name text may_ask"))
async def save_profile(interface: "BusInterface", caller: Caller, name: str, text: str, ask: bool) -> Result:  # noqa: FBT001
    """Make a text the profile of that name. Raises BadInput; every fault of the text is named."""
    return await _change(interface, caller, Action.PROFILES, "SaveProfile", _name(name), text, may_ask=ask)


@method("DeleteProfile", ("sb", "name may_ask"))
async def delete_profile(interface: "BusInterface", caller: Caller, name: str, ask: bool) -> Result:  # noqa: FBT001
    """Delete a profile that is neither in force nor named by a rule. Raises NotHere or BadInput."""
    return await _change(interface, caller, Action.PROFILES, "DeleteProfile", _name(name), may_ask=ask)


@method("SaveRules", ("sb", "text may_ask"))
async def save_rules(interface: "BusInterface", caller: Caller, text: str, ask: bool) -> Result:  # noqa: FBT001
    """Make a text the rules. Raises BadInput; every fault of the text is named."""
    return await _change(interface, caller, Action.PROFILES, "SaveRules", text, may_ask=ask)


@method("UseProfile", ("sb", "name may_ask"))
async def use_profile(interface: "BusInterface", caller: Caller, name: str, ask: bool) -> Result:  # noqa: FBT001
    """Put a profile in force and hold it. Raises BadInput, InUse or Refused.

    What was under suspicion after a crash is trusted again, which needs the right to set voltages.
    """
    suspected = await interface.do(lambda: interface.machine.suspects)
    action = Action.SET_RISKY if suspected else Action.SET
    return await _change(interface, caller, action, "UseProfile", _name(name), may_ask=ask)


@method("SetHold", ("bb", "on may_ask"))
async def set_hold(interface: "BusInterface", caller: Caller, on: bool, ask: bool) -> Result:  # noqa: FBT001
    """Keep profiles in force and follow rules from now on, or leave everything as it is."""
    return await _change(interface, caller, Action.PROFILES, "SetHold", on, may_ask=ask)


@method("SetBoot", ("bb", "on may_ask"))
async def set_boot(interface: "BusInterface", caller: Caller, on: bool, ask: bool) -> Result:  # noqa: FBT001
    """Begin by itself at the next boot, or not."""
    return await _change(interface, caller, Action.PROFILES, "SetBoot", on, may_ask=ask)


@method("ReportFailure")
async def report_failure(interface: "BusInterface", caller: Caller) -> Result:
    """Report that what is applied now has failed in a run. No profile applies it any more, and it goes to stock.

    What failed is read from the machine, so nobody can invent a failure. Whoever may try settings may report one,
    without being asked. Raises BadInput if nothing is applied that could have failed.
    """
    return await _change(interface, caller, Action.SET, "ReportFailure", may_ask=False)


@method("ClearFailures", ("b", "may_ask"))
async def clear_failures(interface: "BusInterface", caller: Caller, ask: bool) -> Result:  # noqa: FBT001
    """Forget what has failed on this processor, so that profiles may apply it again."""
    return await _change(interface, caller, Action.SET_RISKY, "ClearFailures", may_ask=ask)
