"""What failed once never comes back unasked: any sequence of use, crashes, damage and restarts of a machine."""

import os
import random
import shutil
import tempfile
from contextlib import contextmanager, suppress
from datetime import datetime, timedelta
from pathlib import Path

import pytest
from hypothesis import HealthCheck, settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, initialize, invariant, rule, run_state_machine_as_test

from profile_support import PROVEN_MV, Desk
from upright_bolt.app import parse_machine
from upright_bolt.errors import BoltError, MachineFroze
from upright_bolt.service.callers import Caller
from upright_bolt.settings import timestamp

STEP_MV = 1000.0 / 1024.0
PLANES = {"core-offset": 0, "cache-offset": 2}
"""Where the simulated machine keeps its offsets."""
NOT_OURS = ("twin.json", "holder", "reserve")
"""The simulated hardware itself, words for others, and room on the disk: not records."""
NAMES = st.sampled_from(["quay", "at sea", "night watch", "stock"])
DEPTHS = st.sampled_from([-20.0, -60.0, -79.4, -80.0, -80.6, -95.0, -120.0])


class Cut(BaseException):
    """The power fails, or the program is killed."""


class Oracle:
    """What may be applied, told from the hardware and from what was requested alone.

    Attributes:
        wrong: what was applied though it must not have been.
    """

    def __init__(self) -> None:
        self.now = 0
        self.failed: list[tuple[int, dict[str, float]]] = []
        self.requests: list[tuple[int, dict[str, float]]] = []
        self.booted = 0
        self.applied = dict.fromkeys(PLANES, 0.0)
        self.wrong: list[str] = []

    def tick(self) -> int:
        self.now += 1
        return self.now

    def saw(self, values: dict[str, float]) -> None:
        """Judge values that the hardware has just been given."""
        deeper = [name for name, value in values.items() if value < self.applied[name] - 0.01]
        self.applied = values
        if not deeper:
            return
        for at, failed in self.failed:
            reached = all(values[name] <= value + STEP_MV for name, value in failed.items())
            if reached and not any(self._named(name, values, at) for name in failed):
                self.wrong.append(f"{values} after the failure {failed}")
        for name in deeper:
            if values[name] < PROVEN_MV - STEP_MV and not self._named(name, values, self.booted):
                self.wrong.append(f"{name} {values[name]} was never validated")

    def stays(self) -> None:
        """Judge what is still applied while no trial is running."""
        for at, failed in self.failed:
            reached = all(self.applied[name] <= value + STEP_MV for name, value in failed.items())
            if reached and not any(self._named(name, self.applied, at) for name in failed):
                self.wrong.append(f"{self.applied} still applied after the failure {failed}")

    def _named(self, name: str, values: dict[str, float], since: int) -> bool:
        """Tell whether a request since then has named a value."""
        return any(at > since and abs(asked.get(name, 0.0) - values[name]) <= STEP_MV for at, asked in self.requests)

    def fails(self) -> None:
        """What is applied has failed."""
        values = {name: value for name, value in self.applied.items() if value < 0.0}
        if values:
            self.failed.append((self.tick(), values))


class WatchedDesk(Desk):
    """A simulated machine whose offsets are shown to an oracle as they are set."""

    def __init__(self, folder: Path, oracle: Oracle, *, made: bool = True) -> None:
        self.oracle = oracle
        if made:
            super().__init__(folder)
        else:
            self.folder, self.word, self.deepest_mv = folder, parse_machine("twin:tern"), 0.0
            self.open()

    def open(self) -> None:
        super().open()
        self.shared.profile_act("Profiles")
        changed = self.twin.physics.settings_changed

        def watched() -> None:
            self.oracle.saw({name: self.twin.state.offsets_mv[plane] for name, plane in PLANES.items()})
            changed()

        self.twin.physics.settings_changed = watched
        watched()


class Life(RuleBasedStateMachine):
    """A machine's life: everything that its owner, its programs, its firmware and its disk may do."""

    def __init__(self) -> None:
        super().__init__()
        self.folder = Path(tempfile.mkdtemp(prefix="life-", dir="/dev/shm" if Path("/dev/shm").is_dir() else None))
        self.oracle = Oracle()
        self.desk = WatchedDesk(self.folder / "twin-tern", self.oracle)
        self.caller = Caller(":1.7", uid=1000, pid=4711)
        self.running = False

    def teardown(self) -> None:
        with suppress(BoltError):
            self.desk.close()
        timestamp.datetime = datetime
        shutil.rmtree(self.folder)

    @invariant()
    def nothing_that_failed_came_back(self) -> None:
        if self.desk.engine.trial is None:
            self.oracle.stays()
        assert not self.oracle.wrong

    @initialize(settled=st.booleans())
    def set_up(self, settled: bool) -> None:
        self.desk.profiles.set_boot(on=True)
        self.desk.profiles.set_hold(on=True)
        self._pass(320.0 if settled else 1.0)

    # what a person asks for

    @rule(name=NAMES)
    def use(self, name: str) -> None:
        with suppress(BoltError):
            self.desk.profiles.use(name)

    @rule(core=DEPTHS, cache=DEPTHS, standing=st.booleans())
    def try_offsets(self, core: float, cache: float, standing: bool) -> None:
        asked = {"core-offset": core, "cache-offset": cache}
        self.oracle.requests.append((self.oracle.tick(), asked))
        with suppress(BoltError):
            self.desk.shared.apply(self.caller, asked, standing=standing)

    @rule(watts=st.sampled_from([12.0, 15.0]))
    def try_a_limit(self, watts: float) -> None:
        with suppress(BoltError):
            self.desk.shared.apply(self.caller, {"sustained": watts}, standing=True)

    @rule()
    def keep(self) -> None:
        with suppress(BoltError):
            self.desk.shared.keep(self.caller)

    @rule()
    def revert(self) -> None:
        with suppress(BoltError):
            self.desk.shared.revert(self.caller)

    @rule()
    def reset_to_stock(self) -> None:
        with suppress(BoltError):
            self.desk.shared.reset_to_stock(self.caller, ())

    @rule(on=st.booleans())
    def enforce(self, on: bool) -> None:
        with suppress(BoltError):
            self.desk.profiles.set_hold(on=on)

    @rule(on=st.booleans())
    def apply_at_boot(self, on: bool) -> None:
        with suppress(BoltError):
            self.desk.profiles.set_boot(on=on)

    @rule()
    def edit_a_profile(self) -> None:
        path = self.desk.folder / "profiles" / "at sea.toml"
        text = path.read_text(errors="replace")
        path.write_text(text.replace("_mv = -60.0", "_mv = -120.0") if "_mv = -60.0" in text else text + "\n")

    # runs

    @rule()
    def begin_a_run(self) -> None:
        with suppress(BoltError):
            self.desk.shared.begin_run(self.caller, "steady", may_set=True)
            self.running = True

    @rule()
    def end_the_run(self) -> None:
        self.desk.shared.end_run(self.caller)
        self.running = False

    @rule()
    def the_run_goes_wrong(self) -> None:
        self.oracle.fails()
        with suppress(BoltError):
            self.desk.shared.change_profiles(self.caller, "ReportFailure")

    # the machine, and programs that end

    @rule()
    def lose_power(self) -> None:
        self._freeze()
        self.desk.cut_power()
        self._boot()

    def _freeze(self) -> None:
        trial = self.desk.engine.trial
        if self.running or (trial is not None and not PLANES.keys().isdisjoint(trial.settings)):
            self.oracle.fails()

    def _boot(self) -> None:
        self.running = False
        self.oracle.booted = self.oracle.tick()
        self.oracle.applied = dict.fromkeys(PLANES, 0.0)
        self.desk.open()

    @rule()
    def kill_the_program(self) -> None:
        self.desk.kill()
        self.running = False
        self.desk.open()

    @rule()
    def shut_down_in_order(self) -> None:
        self.desk.shared.note_shutdown()
        self.desk.close()
        self.desk.twin.physics.restart()
        self.desk.twin.save()
        self._boot()

    @rule()
    def upgrade(self) -> None:
        """The service ends in order and another one begins; the machine goes on."""
        self.desk.shared.close()
        self.running = False
        self.desk.open()

    @rule()
    def stop_the_service_then_lose_power(self) -> None:
        running = self.running
        self.desk.shared.close()
        if running:
            self.oracle.fails()
        self.desk.twin.physics.restart()
        self.desk.twin.save()
        self._boot()

    @rule(step=st.integers(1, 25), cut=st.booleans())
    def something_is_cut_off_at_a_write(self, step: int, cut: bool) -> None:
        """Choose the rules' profile or a person's, and be killed, or lose power, at any write to machine or disk."""
        trial = self.desk.engine.trial
        try:
            with cut_off_at(self.desk, step):
                self.desk.profiles.use("quay") if step % 2 else self.desk.wait(2.0)
        except Cut:
            if cut:
                if self.running or (trial is not None and not PLANES.keys().isdisjoint(trial.settings)):
                    self.oracle.fails()
                self.desk.twin.physics.restart()
            self.desk.kill()
            if cut:
                self._boot()
            else:
                self.running = False
                self.desk.open()
        except MachineFroze:
            self._freeze()
            self.desk.kill()
            self._boot()
        except BoltError:
            pass

    @rule(seconds=st.sampled_from([0.5, 5.0, 40.0, 320.0]))
    def wait(self, seconds: float) -> None:
        self._pass(seconds)

    def _pass(self, seconds: float) -> None:
        """Let time pass; a simulated machine may freeze by itself at offsets that it does not stand."""
        try:
            self.desk.wait(seconds)
        except MachineFroze:
            self._freeze()
            self.desk.kill()
            self._boot()

    @rule(charger=st.booleans())
    def plug(self, charger: bool) -> None:
        self.desk.outside.plug(charger=charger)
        self._pass(0.5)

    @rule()
    def sleep(self) -> None:
        self.desk.outside.sleep(60.0)
        self.oracle.applied = {n: self.desk.twin.state.offsets_mv[plane] for n, plane in PLANES.items()}
        self._pass(1.0)

    @rule(days=st.sampled_from([-400, -1, 400]))
    def set_the_clock(self, days: int) -> None:
        class Shifted(datetime):
            @classmethod
            def now(cls, tz=None):
                return datetime.now(tz) + timedelta(days=days)

        timestamp.datetime = Shifted

    @rule(number=st.integers(0, 1 << 30))
    def flip_a_bit(self, number: int) -> None:
        """Flip one bit of any file while no program runs."""
        self.desk.kill()
        chance = random.Random(number)
        files = sorted(p for p in self.folder.rglob("*") if p.is_file() and p.name not in NOT_OURS and p.stat().st_size)
        path = chance.choice(files)
        content = bytearray(path.read_bytes())
        bit = chance.randrange(8 * len(content))
        content[bit // 8] ^= 1 << bit % 8
        path.write_bytes(content)
        self.running = False
        self.desk.open()


@contextmanager
def cut_off_at(desk: Desk, step: int):
    """Raise Cut instead of write number ``step``, to the machine or to the disk."""
    left = step

    def counted(write):
        def counting(*arguments, **named):
            nonlocal left
            left -= 1
            if left == 0:
                raise Cut
            return write(*arguments, **named)

        return counting

    originals = desk.twin.files.write, desk.twin.registers.write, os.fsync, os.replace
    desk.twin.files.write, desk.twin.registers.write = counted(originals[0]), counted(originals[1])
    os.fsync, os.replace = counted(originals[2]), counted(originals[3])
    try:
        yield
    finally:
        desk.twin.files.write, desk.twin.registers.write, os.fsync, os.replace = originals


def test_what_failed_never_comes_back_unasked(times, record_property):
    sequences = times(200, 10_000)
    record_property("cases", sequences)
    run_state_machine_as_test(
        Life,
        settings=settings(
            max_examples=sequences, stateful_step_count=14, deadline=None, database=None, print_blob=True,
            suppress_health_check=list(HealthCheck),
        ),
    )  # fmt: skip


@pytest.mark.parametrize("forgotten", ["failures", "in-force"])
def test_the_oracle_sees_a_program_that_forgets(tmp_path, forgotten):
    """A record that is deleted, which no program could notice, is seen by the oracle: it can fail."""
    oracle = Oracle()
    desk = WatchedDesk(tmp_path / "twin-tern", oracle)
    desk.profiles.save_rules("")
    desk.profiles.use("quay")
    oracle.fails()
    desk.profiles.report_failure("a test")
    assert not oracle.wrong
    desk.kill()
    for name in (forgotten, f"{forgotten}-copy"):
        (desk.folder / name).unlink(missing_ok=True)
    desk.open()
    desk.profiles.use("quay")
    assert bool(oracle.wrong) == (forgotten == "failures")
    desk.close()
