"""Whatever happens in whatever order ends as the rules ask, with no unproven voltage in force at any moment."""

import random
from contextlib import suppress

import pytest

from profile_support import PREFERENCE, PROVEN_MV, Desk
from upright_bolt.errors import BoltError
from upright_bolt.model.hold import LogKind
from upright_bolt.service.callers import Caller

SEQUENCES, LONG = 20, 100
"""So many for each of ten starting numbers; in the long form a thousand altogether."""
STEPS = 9
STEP_MV = 1.0
"""The mailbox keeps 1/1024 V: what is asked for is rounded to that."""


class Storm:
    """Random happenings to one machine."""

    def __init__(self, desk: Desk, chance: random.Random) -> None:
        self.desk, self.chance = desk, chance
        self.window = Caller(":1.7", uid=1000, pid=4712)
        self.trials = 0
        self.happenings = [
            self.plug, self.mode, self.sleep, self.kill, self.cut_power, self.restart, self.edit, self.foreign,
            self.pass_time, self.processor, self.window_tries, self.window_dies,
        ]  # fmt: skip

    def one(self) -> None:
        self.chance.choice(self.happenings)()

    def plug(self) -> None:
        for _ in range(self.chance.choice((1, 1, 2, 20))):
            self.desk.outside.plug(charger=self.chance.random() < 0.5)
            self.desk.wait(self.chance.choice((0.0, 0.1, 0.5)))

    def mode(self) -> None:
        self.desk.outside.press_mode(self.chance.choice(("quiet", "balanced", "performance")))
        self.desk.profiles.reconcile()

    def sleep(self) -> None:
        self.desk.outside.sleep(self.chance.choice((5.0, 3600.0)))
        self.desk.profiles.reconcile()

    def kill(self) -> None:
        self.desk.kill()
        self.desk.open()

    def cut_power(self) -> None:
        self.desk.cut_power()
        self.desk.open()

    def restart(self) -> None:
        self.desk.restart()

    def edit(self) -> None:
        path = self.desk.folder / "profiles" / "at sea.toml"
        text = path.read_text()
        path.write_text(text.replace("20.0", "19.0") if "20.0" in text else text.replace("19.0", "20.0"))
        if self.chance.random() < 0.3:
            path.write_text(path.read_text().replace("_mv = -60.0", "_mv = -120.0"))

    def foreign(self) -> None:
        self.desk.outside.write(PREFERENCE, str(self.chance.randrange(256)), "meddler (process 4711)")
        self.desk.profiles.reconcile()

    def processor(self) -> None:
        cpu = self.chance.randrange(1, 12)
        self.desk.outside.processor(cpu, online=cpu in self.desk.twin.state.offline)
        if self.chance.random() < 0.5:
            self.desk.profiles.reconcile()

    def window_tries(self) -> None:
        settings = self.chance.choice(({"sustained": 12.0}, {"turbo": "off", "epp": 10.0}, {"core-offset": -40.0}))
        with suppress(BoltError):  # a processor that is offline, or the one before has died with its trial
            self.trials += self.desk.shared.apply(self.window, settings, standing=False).ok

    def window_dies(self) -> None:
        self.desk.shared.left(self.window)
        self.window = Caller(f":1.{self.chance.randrange(8, 1000)}", uid=1000, pid=4713)

    def pass_time(self) -> None:
        self.desk.wait(self.chance.choice((0.3, 3.0, 40.0, 320.0)))


def wanted(desk: Desk) -> str:
    """Return what the rules of the storm ask for, told from the twin itself."""
    if not desk.twin.state.charger:
        return "night watch"
    return "at sea" if desk.twin.state.mode == "quiet" else "quay"


@pytest.mark.parametrize("number", range(10))
def test_a_storm_ends_as_the_rules_ask(tmp_path, request, number):
    sequences = LONG if request.config.getoption("--long") else SEQUENCES
    chance, trials = random.Random(number), 0
    for sequence in range(sequences):
        folder, where = tmp_path / f"{sequence}", f"storm {number}, sequence {sequence}"
        desk = Desk(folder)
        desk.profiles.set_boot(on=True)
        desk.profiles.set_hold(on=True)
        storm = Storm(desk, chance)
        for _ in range(STEPS):
            storm.one()
        storm.window_dies()
        desk.wait(45.0)
        assert desk.engine.trial is None, where
        status = desk.status
        assert status.hold, where
        assert status.active == wanted(desk), where
        assert desk.deepest_mv >= PROVEN_MV - STEP_MV, where
        values, asked = desk.values(), desk.profiles.files.found().profiles[wanted(desk)].settings
        resting = {one.control for one in status.resting}
        held = {one.name for one in status.held_back}
        for name, value in asked.items():
            if name not in resting and name not in held:
                assert desk.engine._backend.drivers[name].same(value, values[name]), f"{where}: {name} {values[name]}"
        assert_log_tells_all(desk, where)
        trials += storm.trials
        desk.close()
    assert trials > sequences / 4, "hardly a trial was in the way"


def assert_log_tells_all(desk: Desk, where: str) -> None:
    """The last profile that the log tells of is in force, and every entry has its cause."""
    entries = desk.profiles.log()
    used = [entry for entry in entries if entry.kind is LogKind.USED]
    assert used[-1].profile == desk.status.active, where
    assert all(entry.cause and entry.at for entry in entries), where
    assert not [entry for entry in entries if entry.kind is LogKind.NOT_USED], where
