"""Searches for the edge of graphics chips, whole sessions on many individuals, against what their twins hide."""

import tempfile
from concurrent.futures import ProcessPoolExecutor
from functools import cache, partial
from math import exp
from pathlib import Path
from statistics import fmean

from bench.measures import Measured
from search_support import SearchScene
from upright_bolt.errors import MachineFroze
from upright_bolt.model.search import AfterFreeze, Outcome
from upright_bolt.presentation.searches import begin_search
from upright_bolt.session.search_request import RawArguments, asked_from
from upright_bolt.session.session import SAMPLE_S
from upright_bolt.simulator.graphics_state import GraphicsDemand

VOLTAGE, MEMORY = "gpu03.voltage-offset", "gpu03.memory-clock"
MANY = 24
EIGHT_HOURS_S = 8 * 3600.0
Row = tuple[float, float, float]


def voltage_fails(_folder: Path) -> Measured:
    """Eight-hour loads of the heavy scene that fail with the voltage kept, on average over individuals, in %."""
    return _told(VOLTAGE)


def memory_fails(_folder: Path) -> Measured:
    """The same of the memory clock kept."""
    return _told(MEMORY)


def _told(axis: str) -> Measured:
    rows = _searched(axis)
    failing, minutes, freezes = (fmean(row[i] for row in rows) for i in range(3))
    worst = max(row[0] for row in rows)
    detail = f"{len(rows)} individuals, the worst {worst:.2f} %; {minutes:.1f} min without soak, {freezes:.2f} freezes"
    return failing, detail


@cache
def _searched(axis: str) -> list[Row]:
    with ProcessPoolExecutor() as pool:
        return list(pool.map(partial(_one, axis), range(1, MANY + 1)))


def _one(axis: str, number: int) -> Row:
    """Search on one individual; return the % of loads that fail with what is kept, the minutes, and the freezes."""
    with tempfile.TemporaryDirectory() as folder:
        scene = SearchScene(Path(folder), f"twin:tern#{number}")
        asked = asked_from(RawArguments(axis=axis, soak="0", after_freeze=AfterFreeze.GO_ON.value))
        while True:
            try:
                active = begin_search(scene.session, scene.log, scene.twin.store, asked)
                while scene.session.working:
                    scene.session.tick()
                    scene.session.end_run()
                    scene.twin.pass_time(SAMPLE_S)
                break
            except MachineFroze:
                scene.kill()
                asked = None
        search = active.search
        chip = scene.session.machine.clock._twin.physics.graphics.chips[1]
        chip.state.clock_mhz = chip.spec.clock_max_mhz
        if axis == VOLTAGE:
            chip.state.offset_mv = -search.kept_at
        else:
            chip.state.memory_mhz = chip.spec.memory_mhz[0] + search.kept_at
        failing = 100.0 * (1.0 - exp(-chip.hazards(GraphicsDemand())[0] * EIGHT_HOURS_S))
        froze = float(sum(end.outcome is Outcome.FROZE for end in search.ends.values()))
        scene.twin.close()
        return failing, search.minutes, froze
