"""Run all measurements and print one line each."""

import sys
import tempfile
from pathlib import Path

from bench import belief, chip_edge, cooling, drag, edge, graphics, hold, measures, service

GOALS = (
    (measures.event_loop, "worst block of the event loop, live run, 24 h loaded (ms)", "below", 50.0),
    (measures.compare_opened, "opening Compare with 1,000 runs of ten minutes (ms of event loop)", "below", 300.0),
    (measures.compare_switched, "switching there (ms of event loop)", "below", 300.0),
    (measures.compare_stall, "worst block of the event loop meanwhile (ms)", "below", 50.0),
    (drag.drag_calls, "one drag step of a strip (Python calls)", "below", 100.0),
    (measures.sampling, "sampling / bare pread of the files that it reads", "at most", 1.5),
    (measures.sampling_moving, "the same, half of the files changed before each sample", "at most", 1.5),
    (measures.twin_speed, "twin of 12 threads / real time", "at least", 1000.0),
    (measures.twin_run_speed, "a whole run on the twin, sampled and kept / real time", "at least", 200.0),
    (measures.workload, "workload loops / the same loops bare", "at least", 0.98),
    (graphics.checked, "graphics frames, every one checked / the same unchecked", "at least", 0.95),
    (graphics.checker_share, "comparing them, the heavy scene (% of one processor)", "at most", 5.0),
    (service.sample_ratio, "a sample through the root service / in the same process", "at most", 40.0),
    (service.share_looking, "window and service, a sample a second (% of one processor)", "at most", 5.0),
    (service.share_minimised, "window and service, minimised (% of one processor)", "at most", 1.0),
    (belief.false_alarms_single, "false alarms, single runs of one setting on restless twins (%)", "at most", 5.0),
    (belief.false_alarms_repeats, "the same, four runs against four in turn (%)", "at most", 5.0),
    (belief.false_alarms_looks, "the same, repeats until decided, over all looks (%)", "at most", 5.0),
    (belief.false_alarms_here, "the same on this computer's own cores, four against four (%)", "at most", 5.0),
    (belief.hits, "hits at a true 2 % and 1 % spread, repeats until decided (%)", "at least", 95.0),
    (belief.runs_needed, "runs of each setting that takes on average", "at most", 6.0),
    (cooling.hold, "what the hold run tells of half an hour, within 1 W (% of twins)", "at least", 95.0),
    (cooling.hold_sure, "the same, six minutes of holding", "at least", 98.0),
    (cooling.least_covered, "truth within its interval, on the model with least (%)", "at least", 93.0),
    (cooling.most_covered, "truth within its interval, on the model with most (%)", "at most", 98.0),
    (cooling.harder, "the hold run on twins twice as varied, within 1 W (%)", "at least", 83.0),
    (edge.minutes, "minutes of a search for the edge / of steps by hand", "at most", edge.GOAL_MINUTES),
    (edge.freezes, "freezes of a search / of steps by hand", "at most", 1.0),
    (edge.fails, "eight-hour loads that fail with what a search keeps (%)", "below", 1.0),
    (edge.fails_flatter, "the same, the slope far from the edge 1.4 × flatter than near it (%)", "below", 1.0),
    (edge.given_away, "given away against the ideal (mV)", "at most", 12.0),
    (edge.agreement, "whole sessions against the stand-in that the many went through (mV)", "at most", 5.0),
    (chip_edge.voltage_fails, "the same of a graphics chip's voltage, whole sessions (%)", "below", 1.0),
    (chip_edge.memory_fails, "the same of its memory clock (%)", "below", 1.0),
    (hold.share, "holding ten settings with nothing happening (% of a core)", "at most", 0.02),
    (hold.wake_ups, "the same, wake-ups a second", "at most", 0.2),
    (hold.undoing, "from a foreign write to its undoing, slowest of all settings, median (ms)", "at most", 100.0),
    (hold.resisting, "a program that writes a setting 20 times a second, resisted (% of a core)", "at most", 3.0),
    (hold.suspended, "the same, once suspended (% of a core)", "at most", 0.5),
    (hold.panel, "the window hidden behind its icon in the panel (% of a core)", "at most", 0.3),
    (measures.status, "“status” / starting Python (s / s)", "at most", 20.0),
    (measures.status_of_twin, "the same on a twin", "at most", 20.0),
    (measures.help_text, "“--help” / starting Python (s / s)", "at most", 20.0),
)


def main() -> int:
    """Print every measurement beside its goal; the exit code is 0 if all are met."""
    missed = 0
    for measure, words, relation, goal in GOALS:
        with tempfile.TemporaryDirectory() as folder:
            value, detail = measure(Path(folder))
        met = value >= goal if relation == "at least" else value <= goal
        missed += not met
        print(f"{words}: {value:,.2f} ({relation} {goal:g}: {'met' if met else 'MISSED'}); {detail}", flush=True)
    return 1 if missed else 0


if __name__ == "__main__":
    sys.exit(main())
