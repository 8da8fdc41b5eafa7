"""A search on a twin, driven by hand, and cut off at any step."""

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

from support import SimulatedSession
from upright_bolt.analysis.chip import chip_of
from upright_bolt.analysis.stability.history import known
from upright_bolt.model.catalogue import TOGETHER
from upright_bolt.model.search import Asked, Search
from upright_bolt.session.session import SAMPLE_S
from upright_bolt.session.stability_search import start_search
from upright_bolt.simulator.machine import open_simulated
from upright_bolt.store.search_log import SearchLog, recover

BOTH = TOGETHER
NEAR_FREEZING = ("twin:tern#63", "twin:tern#201", "twin:tern#22", "twin:tern#339", "twin:tern#404")
"""Individuals that freeze almost as soon as they err."""


class SearchScene:
    """A machine with its record of searches, in a data folder."""

    def __init__(self, data: Path, machine: str = "twin:tern") -> None:
        self.data = data
        self.machine = machine
        self.folder = data / "machines" / machine.replace(":", "-")
        self.log = SearchLog(self.folder, machine)
        self.twin = SimulatedSession(data, machine)

    @property
    def session(self):
        return self.twin.session

    def ask(self, **more) -> Search:
        """Keep a new search."""
        asked = Asked(0, more.pop("controls", BOTH), "2026-04-09T08:00:00+00:00", chip_of(self.session.about.identity))
        search = self.log.numbered(replace(asked, **more))
        self.log.begin(search)
        return search

    def carry_on(
        self,
        search: Search | None = None,
        *,
        stop_at: int | None = None,
        stop_when: Callable[[Search], bool] | None = None,
    ) -> Search:
        """Go on until the search has ended, so many rungs have ended, or ``stop_when`` holds."""
        found = search or recover(self.log, self.session.boot_id)
        assert found is not None
        before = known(self.twin.store.all(), self.log.all(), self.machine, found.asked)
        active = start_search(self.session, found, before, self.log, self.twin.store)
        while self.session.working:
            enough = stop_at is not None and len(active.search.ends) >= stop_at
            if enough or (stop_when is not None and stop_when(active.search)):
                active.stop()
            self.session.tick()
            self.session.end_run()
            self.twin.pass_time(SAMPLE_S)
        if active.fault is not None:
            raise active.fault
        return self.log.get(found.asked.id)

    def tick(self, times: int) -> None:
        """Let the session go on for so many samples."""
        for _ in range(times):
            self.session.tick()
            self.session.end_run()
            self.twin.pass_time(SAMPLE_S)

    def kill(self) -> None:
        """Let the program die without cleaning up, and start it anew: the machine goes on as it is."""
        self.twin.die()
        self.twin.store.close()
        self.twin = SimulatedSession(self.data, self.machine)

    def cut_power(self) -> None:
        """Let the machine lose its power in the middle, and start the program anew after its restart."""
        self.twin.die()
        self.twin.store.close()
        twin = open_simulated(self.machine.removeprefix("twin:"), self.folder / "twin.json")
        twin.physics.restart()
        twin.save()
        self.twin = SimulatedSession(self.data, self.machine)

    def offsets(self) -> set:
        return {self.twin.current_values(name) for name in BOTH}
