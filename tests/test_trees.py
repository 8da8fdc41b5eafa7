"""Six hand-made machines: what is said of each, and every control of each with every kind of failure."""

import errno
import json

import pytest

from support import EVERY_ERRNO, FaultyFiles, contents_of
from test_twins import other_value
from trees import TREES, build_tree, ports_of
from upright_bolt.app import open_session
from upright_bolt.errors import FileFault
from upright_bolt.kernel import paths
from upright_bolt.kernel.clock import RealClock
from upright_bolt.kernel.gpu.gpus import KNOWN_ASLEEP, find_cards
from upright_bolt.kernel.machine_ports import MachinePorts
from upright_bolt.kernel.mailbox import MAILBOX
from upright_bolt.kernel.ports import COPY_STRIDE
from upright_bolt.kernel.survey import machine_files, survey
from upright_bolt.model.control import ControlState
from upright_bolt.settings import apply
from upright_bolt.settings.backend import Backend
from upright_bolt.text import notes
from upright_bolt.text.report import conflicts, machine_report
from upright_bolt.text.trials import refusal

SETTABLE = {
    "hybrid-laptop": {
        "sustained", "burst", "window", "peak", "board", "current", "clamp", "limiter", "turbo", "epp", "governor",
        "clock-min", "clock-max", "turbo-table", "idle-off", "platform-mode", "heat-ceiling", "hot-signal",
    },
    "other-vendor-laptop": {
        "sustained", "burst", "peak", "turbo", "epp", "governor", "clock-min", "clock-max", "platform-mode",
    },
    "old-desktop": {"turbo", "epp", "governor", "clock-min", "clock-max", "idle-off"},
    "locked-tablet": {"turbo", "governor", "clock-min", "clock-max"},
    "odd-supplies-pc": {"sustained", "burst", "turbo", "governor", "clock-min", "clock-max"},
    "virtual-machine": set(),
}  # fmt: skip
SAID = {
    "hybrid-laptop": ("its copies differ (35 W, 45 W); the lowest counts, that of intel-rapl-mmio:0.",
                      "Kinds of cores: P-cores 0-3, E-cores 4-7", "told by a processor alone: none answers here.",
                      "processor.max_cstate=9: it limits what processors may do"),
    "other-vendor-laptop": ("No interface in the kernel offers voltage offsets on this vendor's processors.",),
    "old-desktop": ("intel_pstate=disable: it keeps the intel_pstate driver away", "processors 3: they are offline"),
    "locked-tablet": ("The kernel lets it be read only, by root too", "intel_pstate is passive"),
    "odd-supplies-pc": ("gpu0d: asleep; separate, drives no screen, driver amdgpu, 1d7e:0310 at 0000:0d:00.0",),
    "virtual-machine": ("Nothing can be set on this machine.", "power limits belong to the machine it runs on"),
}  # fmt: skip
MACHINES = [name for name in TREES if SETTABLE[name]]


@pytest.fixture
def opened(tmp_path):
    """Open a hand-made machine as a session; closed in the end."""
    made = []

    def open_tree(name):
        root = build_tree(name, tmp_path / name)
        session = open_session(f"tree:{root}", tmp_path / "data", "a test", exclusive=True)
        made.append(session)
        return session, root

    yield open_tree
    for session in made:
        session.close()


def test_there_are_six_and_each_is_expected():
    assert set(TREES) == set(SETTABLE) == set(SAID)


@pytest.mark.parametrize("name", TREES)
def test_each_says_what_can_be_set_and_who_forbids_the_rest(opened, name):
    session, _ = opened(name)
    controls = session.controls()
    assert {word for word, control in controls.items() if control.settable} == SETTABLE[name]
    assert all(notes.sentence(control.note).endswith(".") for control in controls.values() if not control.settable)
    told = machine_report(session.about, controls, session.status())
    for sentence in SAID[name]:
        assert sentence in told
    assert not any(
        control.note and notes.sentence(control.note) not in told
        for control in controls.values()
        if not control.settable
    )


def test_what_a_locked_tablet_shows_is_read_only_not_a_matter_of_rights(opened):
    controls = opened("locked-tablet")[0].controls()
    assert controls["sustained"].state is ControlState.READ_ONLY
    assert controls["sustained"].current == 5.0
    assert "sudo" not in notes.sentence(controls["sustained"].note)


def test_kinds_of_cores_have_ranges_and_numbers_of_their_own(opened):
    session, root = opened("hybrid-laptop")
    reason = notes.sentence(session.controls()["clock-max"].note)
    assert "P-cores 400 MHz to 5.00 GHz, now 5.00 GHz; E-cores 400 MHz to 3.80 GHz, now 3.80 GHz." in reason
    session.tick()
    for cpu, row in enumerate((10, 10, 10, 10, 18, 18, 18, 18)):
        stat = (root / "proc/stat").read_text().replace(f"cpu{cpu} 1 0 0 9 ", f"cpu{cpu} 9 0 0 {row} ")
        (root / "proc/stat").chmod(0o644)
        (root / "proc/stat").write_text(stat)
    sample = session.tick().sample
    assert sample.values[session.index["clock.p-cores"]] == 1200.0
    assert sample.values[session.index["clock.e-cores"]] == 900.0
    assert session.try_settings({"clock-max": 4000.0}, standing=False).ok
    held = [(root / f"sys/devices/system/cpu/cpufreq/policy{n}/scaling_max_freq").read_text().strip() for n in (0, 7)]
    assert held == ["4000000", "3800000"]


@pytest.mark.parametrize(
    ("name", "expected"),
    [
        (
            "other-vendor-laptop",
            {"charger": 0.0, "battery.drain": 13.3515, "battery.charge": 64.05, "battery.hours": 2.696},
        ),
        ("odd-supplies-pc", {"charger": 1.0, "battery.drain": 15.0, "battery.charge": 55.0, "battery.hours": 1.467}),
        ("locked-tablet", {"charger": 1.0, "battery.drain": 0.0, "battery.charge": 55.56, "battery.hours": None}),
        ("hybrid-laptop", {"charger": 1.0, "battery.drain": 0.0, "battery.charge": 80.0, "battery.hours": None}),
    ],
)
def test_batteries_and_chargers_are_told_as_one_source(opened, name, expected):
    session, _ = opened(name)
    values = session.tick().sample.values
    for sensor, value in expected.items():
        got = values[session.index[sensor]]
        assert got == (None if value is None else pytest.approx(value, abs=0.01))


def test_nothing_below_a_sleeping_chip_is_read(tmp_path):
    """Survey, sensor chips, capture and a sample: any reading of what its driver answers fails the test."""
    from upright_bolt.captures.archive import collect, write
    from upright_bolt.kernel.clock import RealClock
    from upright_bolt.kernel.sensors.sample_reader import SampleReader

    files, registers = ports_of(build_tree("odd-supplies-pc", tmp_path / "t"))
    sleeping = f"{paths.DRM}/card1/device/"

    class Wary(FaultyFiles):
        def _mind(self, path):
            assert not path.startswith(sleeping) or path.removeprefix(sleeping) in KNOWN_ASLEEP, path

        def read(self, path):
            self._mind(path)
            return super().read(path)

        def opener(self, path, size=4096):
            """Opening a file reaches no driver; reading it does."""
            read = super().opener(path, size)

            def minded():
                self._mind(path)
                return read()

            return minded

    wary = Wary(files)
    found = survey(wary, registers, "x")
    SampleReader(wary, registers, found, RealClock()).read()
    write(collect(wary, registers, RealClock()), tmp_path / "c.tar.gz")
    reader = SampleReader(wary, registers, found, RealClock())
    told = dict(zip((s.name for s in reader.sensors), reader.read()[1], strict=True))
    assert {value for name, value in told.items() if name.startswith("gpu0d")} == {None}
    wary.close()


def texts(root):
    """Return every file's text; without the mailbox, to which a question is written in order to read."""
    found = {path: content.strip() for path, content in contents_of(root).items()}
    device = "/dev/cpu/0/msr"
    if device in found:
        index = MAILBOX * COPY_STRIDE
        found[device] = found[device][:index] + found[device][index + COPY_STRIDE :]
    return found


def put_contents_back(root, contents):
    """Make a folder of files what it was, writing only what differs: trees have hundreds of files."""
    now = contents_of(root)
    assert now.keys() == contents.keys()
    for path, content in contents.items():
        if now[path] != content:
            (root / path[1:]).write_bytes(content)


def attempt(root, name, order):
    """Set one control to another value while ``order(files)`` disturbs; return driver, asked, report, files."""
    files, registers = ports_of(root)
    faulty = FaultyFiles(machine_files(files, registers, find_cards(files)))
    backend = Backend(MachinePorts("tree", faulty, registers, RealClock(), settle_s=0.0))
    drivers = backend.drivers
    asked = {name: other_value(drivers[name])}
    before = backend.snapshot([name])
    faulty.reads = faulty.writes = 0
    order(faulty)
    report = apply.apply_settings(asked, backend, before)
    faulty.on_read = faulty.on_write = lambda _n, _p: None
    files.close()
    registers.close()
    return drivers[name], asked[name], report, faulty


def failing_at(n, what, *, once):
    """Let the n-th access fail, alone or with all that follow until the putting back."""

    def order(i, _path):
        return what if i == n or (not once and i > n) else None

    return order


CASES = [(machine, name) for machine in MACHINES for name in sorted(SETTABLE[machine])]


@pytest.mark.parametrize(("machine", "name"), CASES)
def test_whatever_fails_at_any_access_the_machine_is_as_asked_or_as_before(tmp_path, machine, name):
    root = build_tree(machine, tmp_path / machine)
    before, contents = texts(root), contents_of(root)
    *_, untouched = attempt(root, name, lambda _files: None)
    writes, reads = untouched.writes, untouched.reads
    assert texts(root) != before
    put_contents_back(root, contents)
    tried = 0
    for kind, count in (("on_write", writes), ("on_read", reads)):
        faults = [*EVERY_ERRNO, "ignore"] if kind == "on_write" else [errno.EIO, errno.ENODEV, b"", b"4"]
        for n in range(1, count + 1):
            for fault in faults if n <= 3 or n > count - 2 else faults[:1]:
                driver, asked, report, _ = attempt(
                    root, name, lambda f, kind=kind, n=n, fault=fault: setattr(f, kind, failing_at(n, fault, once=True))
                )
                tried += 1
                index = f"{kind} {n} of {count}: {fault}"
                assert report.left_changed == (), index
                if report.ok:
                    assert driver.same(asked, driver.read()), index
                    put_contents_back(root, contents)
                else:
                    assert texts(root) == before, index
                    assert refusal(report), index
    assert tried >= 5


def test_a_value_that_changes_back_a_second_later_is_told_as_a_conflict(opened):
    for machine in MACHINES:
        session, root = opened(machine)
        name = "sustained" if "sustained" in SETTABLE[machine] else "clock-max"
        driver = survey(session.machine.files, session.machine.registers, "tree").controls[name]
        stock = {path: session.machine.files.read(path) for path in driver.files}
        assert session.try_settings({name: other_value(driver)}, standing=False).ok
        assert session.status().drift == ()
        for path, text in stock.items():
            (root / path.lstrip("/")).write_bytes(text)
        (drift,) = session.status().drift
        assert drift.name == name
        assert any("Firmware or another program has changed it" in s for s in
                   conflicts(session.about, session.controls(), session.status()))  # fmt: skip


def test_a_register_that_is_written_keeps_its_other_bits(tmp_path):
    root = build_tree("hybrid-laptop", tmp_path / "t")
    _, registers = ports_of(root)
    limit = registers.read(0, 0x610)
    attempt(root, "clamp", lambda _files: None)
    assert registers.read(0, 0x610) == limit & ~(1 << 16)
    attempt(root, "current", lambda _files: None)
    assert registers.read(0, 0x601) >> 13 == 0
    registers.close()


def test_the_machine_command_tells_which_limit_counts_and_what_is_at_odds(bolt, tmp_path):
    root = build_tree("hybrid-laptop", tmp_path / "t")
    told = json.loads(bolt("machine", "--json", on=f"tree:{root}").stdout)
    assert told["effective_limits"] == {
        "average_w": 35.0,
        "average_by": "sustained",
        "moment_w": 95.0,
        "moment_by": "burst",
    }
    assert told["kinds"] == {"P-cores": [0, 1, 2, 3], "E-cores": [4, 5, 6, 7]}
    assert len(told["conflicts"]) == 2


def test_a_lock_bit_that_is_set_while_the_program_runs_is_seen_at_once(opened):
    session, _ = opened("hybrid-laptop")
    assert session.controls()["sustained"].settable
    registers = session.machine.registers
    registers.write(0, 0x610, registers.read(0, 0x610) | 1 << 63)
    for name in ("sustained", "burst", "window", "peak", "limiter", "clamp"):
        control = session.controls()[name]
        assert control.state is ControlState.LOCKED
        assert "locked by the firmware" in notes.sentence(control.note)
    report = session.try_settings({"sustained": 30.0}, standing=False)
    assert "locked" in refusal(report)


def test_a_closed_register_device_is_told_apart_from_a_missing_one():
    from support import fresh_machine

    for number, said in (
        (errno.ENOENT, "modprobe msr"), (errno.EACCES, "for root only"), (errno.EPERM, "CAP_SYS_RAWIO"),
    ):  # fmt: skip
        twin = fresh_machine()

        def refuse(_cpu, register, number=number):
            raise FileFault(f"register {register:#x}", number)

        twin.registers.read = refuse
        why = notes.sentence(survey(twin.files, twin.registers, "x").absent["current"])
        assert said in why or ("right to use registers" in why and number == errno.EPERM)


def test_a_declared_range_that_cannot_be_true_says_nothing(opened):
    """Chips declare their rated watts as the maximum, and sometimes a minimum above what is in force."""
    session, _ = opened("hybrid-laptop")
    registers = session.machine.registers
    registers.write(0, 0x614, 0x0000_0000_0200_0168)  # lowest 64 W, rated 45 W
    control = session.controls()["sustained"]
    assert (control.minimum, control.maximum) == (3.0, 95.0)
    assert session.try_settings({"sustained": 60.0}, standing=False).ok


@pytest.mark.parametrize("machine", [*TREES, "twin:tern", "twin:skerry", "twin:plover"])
def test_what_is_in_force_lies_within_what_is_allowed(opened, tmp_path, machine):
    if machine.startswith("twin:"):
        session = open_session(machine, tmp_path / "data", "a test", exclusive=True)
        controls = session.controls()
        session.close()
    else:
        controls = opened(machine)[0].controls()
    for control in controls.values():
        if isinstance(control.current, float) and control.settable:
            assert control.minimum <= control.current <= control.maximum, control.name
