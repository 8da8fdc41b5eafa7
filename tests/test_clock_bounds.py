"""Clock bounds as real drivers keep them: in steps, under a cap of the firmware or of heat, with processors offline."""

import errno
from pathlib import Path

import pytest

from test_odd_machines import CPU, build, policy
from upright_bolt.errors import FileFault, Refused
from upright_bolt.kernel.clock import RealClock
from upright_bolt.kernel.machine_ports import MachinePorts
from upright_bolt.kernel.ports import DeviceRegisters, RealFiles
from upright_bolt.model.note import DiagnosticCode
from upright_bolt.model.trial import RecoveryOutcome
from upright_bolt.settings.backend import Backend
from upright_bolt.settings.engine import SettingsEngine
from upright_bolt.settings.lock import MachineLock
from upright_bolt.text.notes import sentence
from upright_bolt.text.report import scope
from upright_bolt.text.trials import drift, row_sentence

TABLE = "2400000 2000000 1600000 1200000 800000"
STEPS = (800, 1200, 1600, 2000, 2400)


class SteppedFiles(RealFiles):
    """Files of acpi-cpufreq on a board: what was chosen is kept apart from what is shown.

    Attributes:
        cap_khz: what the firmware allows.
        heat: state of the processor's cooling device.
        offline: policies whose processors are gone.
        coming: whether they are on their way back: online already, and their clocks not there yet.
        back_after: after so many reads they are on their way back, and ``whole_after`` more they are there.
    """

    def __init__(self, root):
        super().__init__(root)
        self.chosen = {(n, end): khz for n in (0, 1) for end, khz in (("max", 2400000), ("min", 800000))}
        self.cap_khz, self.heat = 2400000, 0
        self.offline = set()
        self.coming = False
        self.back_after = self.whole_after = 0

    def _parts(self, path):
        name = Path(path).name
        number = int(path.split("/policy")[1].split("/")[0]) if "/policy" in path else None
        return number, {"scaling_max_freq": "max", "scaling_min_freq": "min"}.get(name), name

    def _come_back(self):
        if self.back_after > 0:
            self.back_after -= 1
            self.coming = not self.back_after
        elif self.coming and self.whole_after > 0:
            self.whole_after -= 1
        if self.coming and not self.whole_after:
            self.offline, self.coming = set(), False

    def read(self, path):
        if self.back_after or self.whole_after:
            self._come_back()
        number, end, name = self._parts(path)
        if number in self.offline:
            raise FileFault(path, errno.EBUSY)
        if path == f"/{CPU}/online":
            return b"0\n" if self.offline and not self.coming else b"0-1\n"
        if name == "bios_limit":
            return b"%d\n" % self.cap_khz
        if name == "cur_state":
            return b"%d\n" % self.heat
        if end is None:
            return super().read(path)
        return b"%d\n" % self._shown(number, end)

    def _shown(self, number, end):
        khz = min(self.chosen[number, end], self.cap_khz, 2400000 * (5 - self.heat) // 5)
        steps = [step * 1000 for step in STEPS]
        if end == "max":
            return max((step for step in steps if step <= khz), default=steps[0])
        return min(self._shown(number, "max"), min((step for step in steps if step >= khz), default=steps[-1]))

    def write(self, path, data):
        number, end, _ = self._parts(path)
        if number in self.offline:
            raise FileFault(path, errno.EBUSY)
        if end is None:
            super().write(path, data)
        else:
            self.chosen[number, end] = int(data)


@pytest.fixture
def board(tmp_path):
    root = tmp_path / "board"
    files = policy(0, 800000, 2400000) | policy(1, 800000, 2400000) | {f"{CPU}/online": "0-1"}
    for n in (0, 1):
        more = {"scaling_available_frequencies": TABLE, "bios_limit": "2400000", "affected_cpus": str(n)}
        files |= {f"{CPU}/cpufreq/policy{n}/{name}": text for name, text in more.items()}
    files |= {"sys/class/thermal/cooling_device0/type": "Processor", "sys/class/thermal/cooling_device0/cur_state": "0",
              "proc/sys/kernel/random/boot_id": "0f0e"}  # fmt: skip
    build(root, files)
    return SteppedFiles(root)


@pytest.fixture
def engine(board, tmp_path):
    opened = []

    def open_engine():
        ports = MachinePorts("tree", board, DeviceRegisters(tmp_path), RealClock(), settle_s=0.0)
        folder = tmp_path / "state"
        made = SettingsEngine(Backend(ports), folder, "a test", MachineLock(folder / "lock", "a test"))
        opened.append(made)
        return made

    yield open_engine
    for made in opened:
        made.close()


def why(report, name):
    (row,) = [row for row in report.rows if row.name == name]
    return row_sentence(row)


@pytest.mark.parametrize(("name", "asked", "got"), [("clock-max", 1500.0, 1200.0), ("clock-min", 900.0, 1200.0)])
def test_between_two_steps_the_kernel_s_is_told_and_the_steps_are_offered(engine, name, asked, got):
    settings = engine()
    control = settings.controls()[name]
    assert control.steps == STEPS
    report = settings.try_settings({name: asked}, standing=True)
    assert report.ok
    assert report.rows[0].got == got
    said = why(report, name)
    assert "steps of 800 MHz, 1.20 GHz" in said
    assert "firmware" not in said
    assert settings.status().drift == ()


def test_a_clock_just_beyond_the_range_is_shown_with_the_digits_that_tell(engine):
    with pytest.raises(Exception, match=r"2401 MHz is outside what this machine allows, 800 MHz to 2\.40 GHz"):
        engine().controls()["clock-max"].check(2401.0)


@pytest.mark.parametrize("by", ["firmware", "heat"])
def test_a_cap_during_a_trial_is_named_and_does_not_stay(engine, board, by):
    settings = engine()
    assert settings.try_settings({"clock-max": 2000.0}, standing=True).ok
    board.cap_khz, board.heat = (1200000, 0) if by == "firmware" else (2400000, 2)
    status = settings.status()
    assert status.drift == ()
    assert by in sentence(status.capped["clock-max"])
    settings.revert()
    board.cap_khz, board.heat = 2400000, 0
    assert board.read(f"/{CPU}/cpufreq/policy0/scaling_max_freq") == b"2400000\n"


@pytest.mark.parametrize("by", ["firmware", "heat"])
def test_a_trial_begun_under_a_cap_does_not_make_it_the_owner_s_choice(engine, board, by):
    board.cap_khz, board.heat = (1200000, 0) if by == "firmware" else (2400000, 2)
    settings = engine()
    control = settings.controls()["clock-max"]
    assert (control.current, control.stock, control.maximum) == (1200.0, 2400.0, 2400.0)
    report = settings.try_settings({"clock-max": 2000.0}, standing=True)
    assert report.ok
    assert by in why(report, "clock-max")
    assert settings.trial.before_values == {"clock-max": 2400.0}
    settings.revert()
    board.cap_khz, board.heat = 2400000, 0
    assert {board.chosen[n, "max"] for n in (0, 1)} == {2400000}


def test_what_was_kept_comes_back_and_not_the_machine_s_highest(engine, board):
    settings = engine()
    settings.try_settings({"clock-max": 2000.0}, standing=True)
    settings.keep()
    board.cap_khz = 1200000
    assert settings.try_settings({"clock-max": 800.0}, standing=True).ok
    settings.revert()
    assert settings.try_settings({"clock-max": 1600.0}, standing=True).ok
    settings.revert()
    assert {board.chosen[n, "max"] for n in (0, 1)} == {2000000}


def test_a_cap_above_what_was_chosen_says_nothing(engine, board):
    settings = engine()
    assert settings.try_settings({"clock-max": 1200.0}, standing=True).ok
    board.cap_khz = 2000000
    assert settings.status().capped == {}
    assert settings.controls()["clock-max"].note is None


def test_a_processor_that_goes_and_comes_is_followed(engine, board):
    settings = engine()
    assert settings.try_settings({"clock-max": 1600.0}, standing=True).ok
    board.offline = {1}
    assert settings.status().drift == ()
    assert settings.controls()["clock-max"].settable
    assert settings.try_settings({"clock-max": 1200.0}, standing=True).ok
    assert settings.has_pending_restores
    board.offline = set()
    assert settings.status().drift == ()
    assert not settings.has_pending_restores
    assert board.chosen[1, "max"] == 1200000
    board.chosen[1, "max"] = 1600000
    (entry,) = settings.status().drift
    assert entry.why.code is DiagnosticCode.PROCESSORS_DIFFER
    assert "0 1.20 GHz, 1 1.60 GHz" in drift(entry, settings.status())
    settings.revert()
    assert {board.chosen[n, "max"] for n in (0, 1)} == {2400000}


@pytest.mark.parametrize("killed", [False, True])
@pytest.mark.parametrize("kept", [False, True])
def test_what_is_set_while_a_processor_is_away_is_applied_to_it_and_can_be_reverted(engine, board, kept, killed):
    settings = engine()
    board.offline = {1}
    assert settings.try_settings({"clock-max": 1200.0, "governor": "performance"}, standing=True).ok
    if kept:
        settings.keep()
    if killed:
        settings._lock.release()
        board.offline = set()
        settings = engine()
    board.offline = set()
    settings.look_at_processors()
    assert not settings.has_pending_restores
    assert board.chosen[1, "max"] == 1200000
    assert board.read(f"/{CPU}/cpufreq/policy1/scaling_governor") == b"performance"
    assert settings.status().drift == ()
    if kept:
        settings.reset_to_stock()
    else:
        settings.revert()
    assert {board.chosen[n, "max"] for n in (0, 1)} == {2400000}
    assert board.read(f"/{CPU}/cpufreq/policy1/scaling_governor").strip() == b"ondemand"


@pytest.mark.parametrize("restarted", [False, True])
def test_stock_reaches_a_processor_that_is_away_once_it_is_back(engine, board, restarted):
    settings = engine()
    assert settings.try_settings({"clock-max": 1200.0, "governor": "performance"}, standing=True).ok
    settings.keep()
    board.offline = {1}
    settings.reset_to_stock()
    assert settings.kept == {}
    assert settings.has_pending_restores
    assert (board.chosen[0, "max"], board.chosen[1, "max"]) == (2400000, 1200000)
    if restarted:
        settings.close()
        settings = engine()
    board.offline = set()
    settings.look_at_processors()
    assert not settings.has_pending_restores
    assert board.chosen[1, "max"] == 2400000
    assert board.read(f"/{CPU}/cpufreq/policy1/scaling_governor").strip() == b"ondemand"


def test_stock_forgets_what_was_kept_of_controls_that_are_gone(engine, board):
    settings = engine()
    assert settings.try_settings({"clock-max": 1200.0}, standing=True).ok
    settings.keep()
    board.offline = {0, 1}
    settings.reset_to_stock(("clock-max",))
    assert settings.kept == {}
    board.offline = set()
    settings.look_at_processors()
    assert settings.status().drift == ()


def test_what_no_longer_holds_is_not_kept(engine, board):
    settings = engine()
    assert settings.try_settings({"clock-max": 1600.0}, standing=True).ok
    board.chosen[0, "max"] = board.chosen[1, "max"] = 2000000
    with pytest.raises(Refused, match=r"clock-max reads 2\.00 GHz instead of 1\.60 GHz"):
        settings.keep()
    assert settings.trial is not None
    assert settings.try_settings({"clock-max": 1600.0}, standing=True).ok
    assert settings.keep().settings == {"clock-max": 1600.0}


@pytest.mark.parametrize("restarted", [False, True])
def test_what_is_owed_to_a_processor_is_put_back_once_it_is_there_again(engine, board, restarted):
    settings = engine()
    assert settings.try_settings({"clock-max": 1600.0, "governor": "performance"}, standing=True).ok
    board.offline = {1}
    settings.revert()
    assert settings.has_pending_restores
    assert board.chosen[1, "max"] == 1600000
    board.offline = set()
    if restarted:
        settings.close()
        settings = engine()
    else:
        assert settings.status().trial is None
    assert not settings.has_pending_restores
    assert board.chosen[1, "max"] == 2400000
    assert board.read(f"/{CPU}/cpufreq/policy1/scaling_governor") == b"ondemand"


def test_a_processor_that_is_seen_on_its_way_back_is_put_back_and_followed_all_the_same(engine, board):
    settings = engine()
    assert settings.try_settings({"clock-max": 1600.0, "governor": "performance"}, standing=True).ok
    board.offline = {1}
    settings.revert()
    board.coming = True
    settings.look_at_processors()
    assert settings.has_pending_restores
    board.offline, board.coming = set(), False
    settings.look_at_processors()
    assert not settings.has_pending_restores
    assert board.chosen[1, "max"] == 2400000
    assert settings.try_settings({"clock-max": 1200.0}, standing=True).ok
    assert board.chosen[1, "max"] == 1200000


@pytest.mark.parametrize("whole_after", [0, 1, 2, 5, 20])
def test_a_processor_that_comes_back_at_any_moment_of_a_look_is_put_back(engine, board, whole_after):
    settings = engine()
    for back_after in range(1, 120):
        assert settings.try_settings({"clock-max": 1600.0, "governor": "performance"}, standing=True).ok
        board.offline = {1}
        settings.revert()
        assert settings.has_pending_restores
        board.back_after, board.whole_after = back_after, whole_after
        settings.look_at_processors()
        board.back_after = board.whole_after = 0
        board.offline, board.coming = set(), False
        settings.look_at_processors()  # as the kernel's event has it
        assert not settings.has_pending_restores
        assert board.chosen[1, "max"] == 2400000, back_after
        assert board.read(f"/{CPU}/cpufreq/policy1/scaling_governor") == b"ondemand"


def test_a_trial_of_a_program_that_died_is_put_back_while_a_processor_is_offline(engine, board):
    settings = engine()
    assert settings.try_settings({"clock-max": 1600.0}, standing=False).ok
    board.offline = {1}
    settings._lock.release()  # it was killed
    again = engine()
    assert again.trial is None
    assert again.recovered.outcome is RecoveryOutcome.PUT_BACK
    assert (board.chosen[0, "max"], board.chosen[1, "max"]) == (2400000, 1600000)
    assert again.has_pending_restores
    board.offline = set()
    assert again.status().trial is None
    assert not again.has_pending_restores
    assert board.chosen[1, "max"] == 2400000


def test_what_is_owed_does_not_outlast_a_restart_of_the_machine(engine, board, tmp_path):
    settings = engine()
    assert settings.try_settings({"clock-max": 1600.0}, standing=True).ok
    board.offline = {1}
    settings.revert()
    settings.close()
    (tmp_path / "board/proc/sys/kernel/random/boot_id").write_text("another\n")
    board.offline = set()
    assert not engine().has_pending_restores
    assert board.chosen[1, "max"] == 1600000


def test_the_steps_are_named_where_they_are_few(engine):
    assert scope(engine().controls()["clock-max"]) == "800 MHz, 1.20 GHz, 1.60 GHz, 2.00 GHz or 2.40 GHz"


def test_a_revert_that_is_refused_says_why_and_never_asks_root_for_rights(engine, board, monkeypatch):
    settings = engine()
    assert settings.try_settings({"clock-max": 1600.0}, standing=True).ok

    def closed(path, _data):
        raise FileFault(path, errno.EPERM)

    monkeypatch.setattr(board, "write", closed)
    with pytest.raises(Refused) as refused:
        settings.revert()
    assert str(refused.value).endswith("The trial stays on record; restart the machine.")
    monkeypatch.setattr(board, "writable", lambda _path: False)
    monkeypatch.setattr(board, "closed_to_all", lambda _path: True)
    with pytest.raises(Refused, match="did not take the earlier value, since the kernel lets it be read only"):
        settings.revert()
    monkeypatch.undo()
    settings.revert()


def test_controls_whose_driver_was_unloaded_are_not_said_to_need_root(engine, board, monkeypatch):
    settings = engine()
    assert settings.controls()["clock-max"].settable
    there = board.exists
    monkeypatch.setattr(board, "exists", lambda path: "cpufreq" not in path and there(path))
    monkeypatch.setattr(board, "writable", lambda path: "cpufreq" not in path)
    assert settings._backend.drivers["governor"].facts().note.code is DiagnosticCode.FILE_GONE
    monkeypatch.setattr(board, "names", lambda path: [] if path.endswith("/cpufreq") else RealFiles.names(board, path))
    assert settings.controls()["governor"].note.code is DiagnosticCode.NO_SCALING_DRIVER
    monkeypatch.undo()
    assert settings.controls()["governor"].settable
