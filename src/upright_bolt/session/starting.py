"""Starting a run in a session, whoever asks for it: a person, a series or a search."""

from contextlib import suppress
from dataclasses import replace
from functools import partial
from typing import TYPE_CHECKING

from upright_bolt.analysis.limits.gpu_limits import cap_of
from upright_bolt.errors import BadInput, BoltError
from upright_bolt.model.run import RunRole
from upright_bolt.model.sample import Sample, value_of
from upright_bolt.model.settings import Settings
from upright_bolt.model.start import Start
from upright_bolt.model.trial import ApplyReport
from upright_bolt.model.work import Work, check_options, length_of
from upright_bolt.model.workloads import Mode, workload
from upright_bolt.session.active_run import ActiveRun, Beginning
from upright_bolt.session.chip_wake import on_chip, wake_for
from upright_bolt.session.other_processes import OtherProcesses
from upright_bolt.session.run_head import head_of
from upright_bolt.session.run_progress import RunSink
from upright_bolt.session.session import Session
from upright_bolt.session.start import Goal, StartCondition
from upright_bolt.session.temperature_controller import TemperatureController, limits_of
from upright_bolt.text.trials import as_error
from upright_bolt.workload.hold_load import HoldLoad
from upright_bolt.workload.load import Load, Task, choose_cpus

if TYPE_CHECKING:
    from upright_bolt.analysis.cooling.model import Prior

LONGEST_RUN_S = 24 * 3600.0
SHORTEST_RUN_S = 5.0
UNPLUG = "; pull its plug, then start the run"


def start_run(
    session: Session,
    work: Work,
    label: str,
    sink: RunSink,
    series: str = "",
    role: RunRole = RunRole.COUNTED,
    gate: StartCondition | None = None,
    thermal_prior: "Prior | None" = None,
) -> ActiveRun:
    """Begin a run; the session's ticks carry it on.

    Args:
        session: whose machine works.
        work: what it executes, and for how long under load.
        label: a name for the run.
        sink: where it is kept.
        series: shared by runs that are repeats of each other.
        role: what it is for in its series.
        gate: what it has waited for already; None lets it wait as its work's start says.
        thermal_prior: for ``cooling``: what earlier runs of the machine tell of it; None for nothing.

    Raises:
        BadInput: nothing can run here, or not this; no such workload, length, number of threads or kind of core.
        InUse: another process holds the machine, or another run goes on there.
    """
    session.check_free()
    if not SHORTEST_RUN_S <= work.duration_s <= LONGEST_RUN_S:
        raise BadInput(f"A run lasts from {SHORTEST_RUN_S:.0f} s to 24 h; {work.duration_s:g} s is outside that.")
    check_options(work.workload, work.options)
    work = replace(work, duration_s=length_of(work.workload, work.options, work.duration_s))
    cpus = choose_cpus(session.about.topology, work.workload, work.threads, work.kind)
    holds = (known := workload(work.workload)).mode is Mode.HOLD
    limits = limits_of(session, work.options.below_c) if holds else {}
    work, chip = on_chip(session, work)
    load: Load = session.machine.load(Task("steady" if holds else work.workload, cpus, work.options, chip))
    load = HoldLoad(load) if holds else load
    if known.on_battery and (why := why_no_drain(session)):
        raise BadInput(why)
    head = replace(head_of(session, work, label, len(cpus) if load.scores else None), series=series, role=role)
    beginning = _beginning(session, work, gate)
    others = OtherProcesses(session.machine.files, session.about.topology)
    hindered = (lambda sample: plugged_in(session, sample)) if known.on_battery else lambda _: ""
    session.access.begin_run(work.workload)
    try:
        cap = cap_of(session.controls() if chip is not None else {}, work.options.chip)
        run = ActiveRun(head, load, sink, session.index, session.now_s, beginning, others, hindered, cap)
        if isinstance(load, HoldLoad):
            session.begin(
                TemperatureController(session, run, load, limits, partial(try_or_raise, session), thermal_prior)
            )
    except BaseException:
        with suppress(BoltError):
            session.access.end_run()
        raise
    session.begin(run)
    return run


def _beginning(session: Session, work: Work, gate: StartCondition | None) -> Beginning:
    """Return how a run begins. Raises BadInput if it cannot begin so."""
    start = work.begins
    rested = start is Start.RESTED
    warm = None
    if start is Start.WARM:
        warm = session.machine.load(Task("steady", choose_cpus(session.about.topology, "steady", None, "")))
    return Beginning(gate or StartCondition(Goal(settles=rested, whole=rested), session.rest), warm, session.rest)


def why_no_drain(session: Session) -> str:
    """Return why the battery's drain cannot be measured now, as a sentence; empty if it can."""
    if "battery.drain" not in session.index:
        return "This machine has no battery whose drain could be measured."
    return plugged_in(session, session.tick().sample, UNPLUG)


def plugged_in(session: Session, sample: Sample, advice: str = "") -> str:
    """Return that the charger keeps the battery from draining, as a sentence; empty if it does not."""
    plugged = value_of(sample, session.index, "charger")
    return f"The charger is plugged in, so the battery does not drain{advice}." if plugged else ""


def woken_and_tried(session: Session, settings: Settings) -> ApplyReport:
    """Put settings in force as a trial of this process, after the graphics chips that they are of have been woken.

    Raises BadInput, InUse or Refused; a machine's no is in the report.
    """
    wake_for(session, settings)
    return session.try_settings(settings, standing=False)  # closing the session puts it back


def try_or_raise(session: Session, settings: Settings) -> None:
    """The same; raises BadInput or Refused if they are not in force."""
    report = woken_and_tried(session, settings)
    if not report.ok:
        raise as_error(report)
