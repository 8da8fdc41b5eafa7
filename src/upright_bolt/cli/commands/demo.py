"""The demonstration: a twin with a little history made by running, in the window or played offscreen."""

import os
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from upright_bolt.app import open_session
from upright_bolt.cli import output
from upright_bolt.cli.commands import runs, stability, window
from upright_bolt.cli.context import HOLDER, MachineChoice, session_at, store_at
from upright_bolt.cli.ground import search_log
from upright_bolt.model.run import RunRole, RunState
from upright_bolt.model.settings import parse_assignments
from upright_bolt.model.start import Start
from upright_bolt.model.work import Options, Work
from upright_bolt.model.workloads import workload as workload_called
from upright_bolt.session.search_request import RawArguments, asked_from
from upright_bolt.session.starting import start_run

if TYPE_CHECKING:
    from upright_bolt.model.control import Value
    from upright_bolt.session.session import Session
    from upright_bolt.store.runs import RunStore

MACHINE = "twin:tern"
COOL_S = 330.0
SETTLE_S = 180.0
SEARCHES = (
    RawArguments(plain="-45mV", soak="0", after_freeze="go-on", together=True),
    RawArguments(bold="thorough", soak="10min", after_freeze="go-on"),
)
LONG_S, SHORT_S, HEAT_S = 600.0, 180.0, 60.0
CHIP = "gpu03"
SHARED_W = (10, 18, 25, 32, 38, 45)
"""Watts of the processor at which both chips worked at once: who gets the heat."""
FLAT = ("sustained=25W", "burst=25W")
HISTORY = (
    ("First evening, stock", "steady", LONG_S, ()),
    ("15 W flat", "steady", LONG_S, ("sustained=15W", "burst=15W")),
    ("35 W flat", "steady", LONG_S, ("sustained=35W", "burst=35W")),
    ("All out, 60 W", "steady", LONG_S, ("sustained=60W", "burst=60W")),
    ("Turbo off, 60 W", "steady", LONG_S, ("sustained=60W", "burst=60W", "turbo=off")),
    ("Light use, eager", "bursts", SHORT_S, ("epp=32",)),
    ("Light use, thrifty", "bursts", SHORT_S, ("epp=192",)),
    *(
        (f"25 W, −{mv} mV" if mv else "25 W, no offset", "steady", SHORT_S,
         (*FLAT, f"core-offset=-{mv}mV", f"cache-offset=-{mv}mV") if mv else FLAT)
        for mv in (*range(0, 91, 10), 96)
    ),
)  # fmt: skip
"""What the crew has run so far: label, workload, length, settings. A baseline, limits, preferences, turbo, offsets."""


PROFILE_S = 300.0
PROFILES = (
    ("quay", "Alongside, on shore power: the charts are drawn here.", ("sustained=28W", "burst=45W", "epp=64")),
    ("at sea", "On the inverter: quiet, and warm rather than hot.", ("sustained=15W", "burst=25W", "epp=160")),
    ("night watch", "On battery until morning.", ("sustained=8W", "burst=12W", "turbo=off", "epp=255")),
)
"""What the crew uses: name, note, settings; the voltage offsets are those that the search has found."""
RULES = (
    "When on battery and battery below 30 %, use night watch.\nWhen on battery, use at sea.\n"
    "When program seabed-map is running, use quay.\nOtherwise, use quay.\n"
)


def demo(
    context: typer.Context,
    play: Annotated[
        bool, typer.Option("--play", help="Play the example offscreen even where there is a display.")
    ] = False,
    pictures: Annotated[Path, typer.Option("--pictures", help="Folder for the pictures of a played example.")] = Path(
        "demo-output/pictures"
    ),
    first_steps: Annotated[
        bool, typer.Option("--first-steps", help="Play a newcomer's first ten minutes instead; implies --play.")
    ] = False,
    real_seconds: Annotated[
        int, typer.Option("--real-seconds", help="Length of the run on this computer, 0 for none.")
    ] = 20,
) -> int:
    """Show the simulated laptop tern: in the window, or played offscreen where there is no display."""
    choice = MachineChoice(MACHINE, context.obj.given)
    play = play or first_steps
    if not first_steps:
        make_searches(choice)
        make_history(choice)
        make_profiles(choice)
    if not play and (os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY")):
        return window.show(choice)
    os.environ["QT_QPA_PLATFORM"] = "offscreen"
    from upright_bolt.desktop.first_walk import FirstWalk
    from upright_bolt.desktop.walkthrough import Walkthrough

    stock, tried = (FirstWalk if first_steps else Walkthrough)(
        open_session(MACHINE, choice.given, HOLDER, exclusive=True), choice.data, pictures, print
    ).play()
    print()
    output.compare_runs(choice, [stock, tried], None, as_json=False)
    print(f"\nPictures are in {pictures}.")
    if real_seconds:
        print(f"\nThe same load for {real_seconds} s on this computer's own cores:\n")
        runs.run_once(
            MachineChoice("host", choice.given), Work("steady", float(real_seconds)), "This computer", {}, as_json=False
        )
    return 0


def make_history(choice: MachineChoice) -> None:
    """Make the earlier runs, each from a cool machine, unless there are runs already."""
    with session_at(choice, exclusive=True) as session, store_at(choice) as store:
        if any(run.end.state is RunState.FINISHED and run.head.role is not RunRole.RUNG for run in store.all()):
            return
        print("Making a little history by running on the twin …")
        _share_heat(session, store)
        for label, workload, length_s, words in HISTORY:
            clock = session.machine.clock
            clock.wait_until(clock.now_s() + COOL_S)
            settings = parse_assignments(words)
            if settings:
                session.try_settings(settings, standing=False)
            runs.to_end(session, start_run(session, Work(workload, length_s), label, store))
            if settings:
                session.revert("the history's next run")


def _share_heat(session: "Session", store: "RunStore") -> None:
    """Let processor and graphics chip work at once, at several limits of the processor."""
    for watts in SHARED_W:
        session.try_settings(parse_assignments((f"sustained={watts}W", f"burst={watts}W")), standing=False)
        work = Work("both", HEAT_S, options=Options(chip=CHIP), start=Start.WARM)
        runs.to_end(session, start_run(session, work, f"Charts and contours at once, {watts} W", store))
        session.revert("the next run")


def make_profiles(choice: MachineChoice) -> None:
    """Measure three settings and save each as a profile, with rules that choose between them, unless that was done."""
    log = search_log(choice).all()
    with session_at(choice, exclusive=True) as session, store_at(choice) as store:
        from upright_bolt.presentation.profile_desk import Past, ProfileDesk

        desk = ProfileDesk(session.access, MACHINE, lambda: Past(store.all(), log))
        if desk.status().profiles:
            return
        print("Measuring three profiles: quay, at sea, night watch …")
        offsets = log[-1].end.settings if log and log[-1].end is not None else {}
        for name, note, words in PROFILES:
            settings = {**parse_assignments(words), **offsets}
            for workload, length_s in (("steady", PROFILE_S), ("idle", PROFILE_S / 2), ("battery", PROFILE_S)):
                _measured(session, store, settings, name, Work(workload, length_s))
            desk.save(name, settings, note)
        desk.profiles.save_rules(RULES)


def _measured(session: "Session", store: "RunStore", settings: "dict[str, Value]", name: str, work: Work) -> None:
    """Measure settings by one workload, as a trial that is put back."""
    on_battery = workload_called(work.workload).on_battery
    clock = session.machine.clock
    if on_battery:
        session.plug(charger=False)
    clock.wait_until(clock.now_s() + COOL_S / 2)
    session.try_settings(settings, standing=False)
    runs.to_end(session, start_run(session, work, f"{name}: {work.workload}", store))
    session.revert("the next run")
    if on_battery:
        session.plug(charger=True)


def make_searches(choice: MachineChoice) -> None:
    """Search twice for how far the voltage can fall, unless that was done: in a hurry, then thoroughly."""
    if search_log(choice).all():
        return
    print("Searching for how far its voltage can fall: in a hurry until it freezes, then thoroughly …")
    with session_at(choice, exclusive=True) as session:
        clock = session.machine.clock
        clock.wait_until(clock.now_s() + SETTLE_S)
    for typed in SEARCHES:
        stability.carried_on(choice, asked_from(typed), quiet=True)


def add_to(app: typer.Typer) -> None:
    """Add the command."""
    app.command("demo")(demo)
