"""Attacks on the record of a machine: flipped bits, lost and planted lines, a disk without room, kills."""

import errno
import itertools
import os
import random
from pathlib import Path

import pytest

from support import FaultyFiles, fresh_machine, recorded, recorded_kinds
from upright_bolt import checksummed_log as seals
from upright_bolt.errors import BoltError, CorruptData, Refused
from upright_bolt.kernel.machine_ports import MachinePorts
from upright_bolt.model.trial import RecoveryOutcome, Trial
from upright_bolt.settings import journal as journals
from upright_bolt.settings import journal_replay as pasts
from upright_bolt.settings.backend import Backend
from upright_bolt.settings.engine import SettingsEngine
from upright_bolt.settings.journal import COMPACT_BYTES, Entry, EntryKind, Journal, Stock
from upright_bolt.settings.lock import MachineLock
from upright_bolt.simulator.machine import SimulatedClock
from upright_bolt.text.trials import recovered

ASKED = {"sustained": 25.0, "burst": 30.0, "epp": 96.0}
KEPT = {"sustained": 21.0}
STOCK = {"sustained": 18.0, "burst": 45.0, "epp": 128.0}


class Scene:
    """One twin whose processes come and go; its record lies in a folder."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.twin = fresh_machine()
        self.files = FaultyFiles(self.twin.files)
        self.engine: SettingsEngine | None = None

    def start(self) -> SettingsEngine:
        lock = MachineLock(self.folder, "a test")
        lock.acquire()
        ports = MachinePorts("twin:tern", self.files, self.twin.registers, SimulatedClock(self.twin), settle_s=0.0)
        try:
            self.engine = SettingsEngine(Backend(ports), self.folder, "a test", lock)
        except BaseException:
            lock.release()
            raise
        return self.engine

    def die(self) -> None:
        """Let the machine go without any cleaning up, as a killed process does."""
        self.engine._lock.release()
        self.engine._lock = None

    def values(self) -> dict[str, object]:
        found = self.engine.current_values()
        return {name: found[name] for name in STOCK}


@pytest.fixture
def scene(tmp_path):
    return Scene(tmp_path / "record")


@pytest.mark.parametrize("victim", ["journal", "stock"])
@pytest.mark.parametrize("standing", [True, False])
def test_a_flipped_bit_never_leaves_anything_in_force_that_is_not_on_record(tmp_path, times, victim, standing):
    dice = random.Random(7)
    for number in range(times(40, 500)):
        scene = Scene(tmp_path / str(number))
        engine = scene.start()
        if dice.random() < 0.5:
            engine.try_settings(KEPT, standing=False)
            engine.keep()
        before = scene.values()
        engine.try_settings(ASKED, standing=standing)
        scene.die()
        path = scene.folder / victim
        content = bytearray(path.read_bytes())
        bit = dice.randrange(len(content) * 8)
        content[bit // 8] ^= 1 << (bit % 8)
        path.write_bytes(content)
        engine = scene.start()
        status, now = engine.status(), scene.values()
        assert status.drift == ()
        if status.trial is not None:
            assert standing
            assert now == {**before, **ASKED}, "the record still told of the trial"
        elif now != before:
            assert now == STOCK, f"bit {bit} of {victim}"
            assert status.kept == {}
            assert engine.recovered.outcome is RecoveryOutcome.STOCK
        assert engine.recovered is not None or (standing and status.trial is not None)
        scene.die()
        engine = scene.start()  # and no later start falls over it
        assert engine.recovered is None
        assert scene.values() == now
        engine.close()


def test_a_damaged_record_is_set_aside_and_told(scene):
    engine = scene.start()
    engine.try_settings(KEPT, standing=False)
    engine.keep()
    engine.try_settings(ASKED, standing=True)
    scene.die()
    path = scene.folder / "journal"
    damaged = path.read_bytes().replace(b'"begin"', b'"bogin"', 1)
    path.write_bytes(damaged)
    engine = scene.start()
    told = recovered(engine.recovered)
    assert "was damaged. It is kept as" in told
    assert "was put back to stock: sustained 18 W, burst 45 W" in told
    assert (scene.folder / "journal.damaged-1").read_bytes() == damaged
    assert scene.values() == STOCK
    assert engine.status().kept == {}
    assert engine.try_settings(ASKED, standing=False).ok
    engine.close()


def test_with_both_copies_damaged_no_voltage_offset_stays(scene):
    engine = scene.start()
    engine.try_settings({"core-offset": -40.0}, standing=False)
    engine.keep()
    scene.die()
    for name in ("journal", "stock"):
        (scene.folder / name).write_bytes(b"\0rubbish\n")
    engine = scene.start()
    assert engine.current_values()["core-offset"] == 0.0
    assert "to be certain, restart the machine" in recovered(engine.recovered)
    assert engine.try_settings({"core-offset": -20.0}, standing=False).ok
    engine.close()


def test_a_damaged_record_of_an_earlier_boot_leaves_the_firmwares_values(scene):
    scene.twin.state.offsets_mv[0] = -30.0  # as its firmware has it
    engine = scene.start()
    engine.try_settings({"core-offset": -60.0}, standing=True)
    scene.die()
    scene.twin.state.boot_id = "11111111-2222-3333-4444-555555555555"
    scene.twin.state.offsets_mv[0] = -30.0
    (scene.folder / "journal").write_bytes(b"rubbish\n")
    engine = scene.start()
    assert engine.recovered.outcome is RecoveryOutcome.STOCK
    assert "nothing had been changed since the last restart" in recovered(engine.recovered)
    assert engine.current_values()["core-offset"] == pytest.approx(-30.0, abs=1.0)
    engine.close()


def test_a_second_copy_that_lags_behind_catches_up_at_the_next_start(scene, monkeypatch):
    engine = scene.start()
    with FullDisk(monkeypatch) as disk:
        disk.room = 2  # reserve and journal, but not the copy
        with pytest.raises(Refused, match="Nothing was changed"):
            engine.try_settings(ASKED, standing=False)
    assert not (scene.folder / "stock").exists()
    scene.die()
    engine = scene.start()
    assert engine.recovered is None
    assert (scene.folder / "stock").exists()
    engine.close()


def test_lost_lines_are_noticed_by_the_second_copy(scene):
    engine = scene.start()
    engine.try_settings(ASKED, standing=True)
    scene.die()
    (scene.folder / "journal").unlink()
    engine = scene.start()
    assert engine.recovered.outcome is RecoveryOutcome.STOCK
    assert scene.values() == STOCK
    engine.close()


RUBBISH = {
    "of nothing": b"\n\n",
    "deep": b"3 200001 x " + b"[" * 100_000 + b"]" * 100_000 + b"\n",
    "long": b"x" * (journals.MOST_BYTES + 1),
    "zeros": bytes(5000),
    "odd version": b"999999999999999999999 2 00 {}\n",
    "old form": b'{"format": "upright-bolt journal", "version": 2}\n',
}


@pytest.mark.parametrize("kind", RUBBISH)
def test_rubbish_never_ends_a_start(scene, kind):
    scene.folder.mkdir(mode=0o700)
    (scene.folder / "journal").write_bytes(RUBBISH[kind])
    engine = scene.start()
    assert scene.values() == STOCK
    assert engine.try_settings(ASKED, standing=False).ok
    engine.close()
    assert scene.start().recovered is None
    scene.die()


def sealed(kind, **fields) -> bytes:
    """Return a line with a right checksum, whatever it holds."""
    payload = journals._ENTRY.text(Entry(kind, fields.pop("trial", "t"), "now", **fields)).encode()
    return seals.sealed(journals.VERSION, payload)


def planted_trial(before, values=None, **more):
    return Trial("t", more.get("settings", {}), before, values or {}, "now", "mallory", False, more["boot"])


def test_a_planted_record_cannot_write_to_any_file_but_those_of_controls(scene, tmp_path):
    victim = "/sys/kernel/planted"
    engine = scene.start()
    boot = engine._memory.boot_id
    scene.die()
    written = []
    scene.files.on_write = lambda _n, path: written.append(path)
    trial = planted_trial({victim: "1", "/etc/passwd": "root::0:0::/:/bin/sh", "../x": "1"}, boot=boot)
    (scene.folder / "journal").write_bytes(sealed(EntryKind.BEGIN, data=trial))
    engine = scene.start()
    assert written == []
    assert set(engine.recovered.left) == {victim, "/etc/passwd", "../x"}
    engine.close()


@pytest.mark.parametrize(
    ("control", "text"),
    [("sustained", "900000000"), ("sustained", "-1"), ("sustained", "x"), ("core-offset", "-600"),
     ("core-offset", "300"), ("turbo", "x"), ("clock-max", "99000000"), ("epp", "\x1b[31m"), ("epp", "9" * 2000)],
)  # fmt: skip
def test_a_planted_value_outside_a_controls_range_is_not_written(scene, control, text):
    engine = scene.start()
    driver = engine._backend.drivers[control]
    before, boot = scene.engine.current_values(), engine._memory.boot_id
    texts = dict.fromkeys(driver.files, text)
    scene.die()
    wrote = []
    scene.files.on_write = lambda _n, path: wrote.append(path)
    stock = Entry(EntryKind.STOCK, "", "now", boot_id=boot, stock=Stock({control: before[control]}, texts))
    trial = planted_trial(texts, {control: before[control]}, boot=boot)
    lines = sealed(EntryKind.BEGIN, data=trial)
    (scene.folder / "stock").write_bytes(sealed(EntryKind.STOCK, trial="", boot_id=boot, stock=stock.stock))
    (scene.folder / "journal").write_bytes(sealed(EntryKind.STOCK, trial="", boot_id=boot, stock=stock.stock) + lines)
    engine = scene.start()
    assert not set(wrote) & set(driver.files), engine.recovered
    assert engine.current_values() == before
    engine.close()


def test_a_torn_last_line_costs_only_itself(scene):
    engine = scene.start()
    engine.try_settings(ASKED, standing=True)
    scene.die()
    path = scene.folder / "journal"
    whole = path.read_bytes()
    line = Journal(Path("journal")).log.line(Entry(EntryKind.PUT_BACK, engine.trial.id, "now"))
    for length in range(len(line) - 1):
        path.write_bytes(whole + line[:length])
        engine = scene.start()
        assert engine.recovered is None
        assert engine.status().trial.settings == ASKED
        assert path.read_bytes() == whole
        scene.die()


def test_an_entry_whose_line_end_alone_is_damaged_counts(scene):
    engine = scene.start()
    engine.try_settings(ASKED, standing=True)
    engine.keep()
    scene.die()
    path = scene.folder / "journal"
    path.write_bytes(path.read_bytes()[:-1] + b"\x0b")
    engine = scene.start()
    assert engine.status().kept == ASKED
    assert engine.recovered is None
    engine.try_settings({"turbo": "off"}, standing=False)
    engine.close()
    assert Journal(path).read().unreadable == 0


def test_a_journal_of_a_newer_version_is_left_alone(scene):
    scene.folder.mkdir(mode=0o700)
    payload = b'{"news": 1}'
    line = seals.sealed(9, payload)
    (scene.folder / "journal").write_bytes(line)
    with pytest.raises(CorruptData, match="newer version"):
        scene.start()
    assert (scene.folder / "journal").read_bytes() == line


def test_the_journal_does_not_grow(scene, times):
    engine = scene.start()
    sizes = []
    for number in range(times(400, 5000)):
        engine.try_settings({"sustained": 15.0 + number % 10, "epp": float(number % 200)}, standing=number % 3 == 0)
        if number % 7 == 0:
            engine.keep()
        if number % 20 == 0:
            sizes.append((scene.folder / "journal").stat().st_size)
    assert max(sizes) < 2 * COMPACT_BYTES
    status = engine.status()
    scene.die()
    kinds = recorded_kinds(scene.folder)
    assert kinds.count("stock") <= 3
    engine = scene.start()
    assert engine.status().kept == status.kept
    engine.close()


def test_compaction_keeps_what_is_needed_at_every_length(scene, monkeypatch):
    monkeypatch.setattr(journals, "COMPACT_BYTES", 1)
    monkeypatch.setattr(journals, "KEPT_ENTRIES", 3)
    engine = scene.start()
    engine._trials._journal._compact_at = 1
    acts = [
        lambda e: e.try_settings(KEPT, standing=False), lambda e: e.keep(),
        lambda e: e.try_settings(ASKED, standing=True), lambda e: e.try_settings({"turbo": "off"}, standing=True),
        lambda e: e.revert(), lambda e: e.try_settings({"epp": 10.0}, standing=True), lambda e: e.keep(),
        lambda e: e.try_settings({"burst": 33.0}, standing=True),
    ]  # fmt: skip
    for act in acts:
        act(engine)
        status, values = engine.status(), scene.values()
        scene.die()
        engine = scene.start()
        engine._trials._journal._compact_at = 1
        after = engine.status()
        assert (after.kept, after.drift) == (status.kept, status.drift)
        assert after.trial == status.trial or (status.trial is not None and not status.trial.standing)
        if status.trial is None or status.trial.standing:
            assert scene.values() == values
        elif not status.trial.standing:
            engine.try_settings(KEPT, standing=False)
    engine.close()


class FullDisk:
    """A disk without room: what is appended or written anew fails, what is there can be read."""

    def __init__(self, monkeypatch, number=errno.ENOSPC):
        self._monkeypatch, self._number = monkeypatch, number
        self.room = 10**9
        """Writes to the record that still fit."""

    def __enter__(self):
        append, replace = seals._write_whole, journals.write_atomically

        def appending(*given):
            self._take()
            append(*given)

        def replacing(path, *given, **named):
            try:
                self._take()
            except OSError as fault:
                raise BoltError(f"{path} cannot be written: {fault.strerror}.") from fault
            replace(path, *given, **named)

        for place, name, new in (
            (seals, "_write_whole", appending),
            (journals, "write_atomically", replacing),
            (pasts, "write_atomically", replacing),
        ):
            self._monkeypatch.setattr(place, name, new)
        return self

    def __exit__(self, *_):
        self._monkeypatch.undo()

    def _take(self):
        if self.room <= 0:
            raise OSError(self._number, os.strerror(self._number))
        self.room -= 1


@pytest.mark.parametrize("number", [errno.ENOSPC, errno.EROFS])
def test_put_back_works_with_no_byte_free_and_says_what_is(scene, monkeypatch, number):
    engine = scene.start()
    engine.try_settings(ASKED, standing=True)
    with FullDisk(monkeypatch, number) as disk:
        disk.room = 0
        with pytest.raises(Refused, match="Nothing was kept, since it cannot be written down; the trial goes on"):
            engine.keep()
        with pytest.raises(Refused, match="Nothing was changed, since it cannot be written down first"):
            engine.try_settings({"turbo": "off"}, standing=True)
        assert scene.values() == ASKED
        assert engine.current_values()["turbo"] == "on"
        trial = engine.revert()
        assert os.strerror(number) in trial.unrecorded
        assert scene.values() == STOCK
        assert engine.status().trial is None
        scene.die()
        engine = scene.start()  # it may not have been written down, but a start works all the same
        assert scene.values() == STOCK
        assert engine.status().trial is None
        engine.close()
    engine = scene.start()
    assert scene.values() == STOCK
    engine.close()


@pytest.mark.parametrize("standing", [True, False])
def test_whatever_fits_last_the_answer_tells_what_is(tmp_path, monkeypatch, standing):
    """For every number of writes that still fit: what is said is what is in force, now and after the next start."""
    for room in range(12):
        scene = Scene(tmp_path / f"{standing}{room}")
        engine = scene.start()
        with FullDisk(monkeypatch) as disk:
            disk.room = room
            said = []
            for act in (
                lambda e: e.try_settings(ASKED, standing=standing),
                lambda e: e.keep(),
                lambda e: e.try_settings({"sustained": 30.0}, standing=standing),
                lambda e: e.revert(),
            ):
                before = scene.values()
                try:
                    act(engine)
                    said.append("")
                except BoltError as fault:
                    said.append(str(fault))
                    assert scene.values() == before or "put back" in str(fault)
            kept, values = engine.status().kept, scene.values()
            assert values == {**STOCK, **kept}
            scene.die()
        engine = scene.start()
        assert scene.values() == values
        assert engine.status().kept == kept
        assert engine.status().drift == ()
        engine.close()
    assert not any(said), "the largest room is enough for all"


def killed_at(step, monkeypatch):
    """Let the process die after its ``step``-th write to a file of the machine or of the record."""
    counter = itertools.count(1)

    class Killed(BaseException):
        pass

    def counted(act):
        def stepped(*given, **named):
            done = act(*given, **named)
            if next(counter) == step:
                raise Killed
            return done

        return stepped

    for place, name in (
        (seals, "_write_whole"), (journals, "write_atomically"), (pasts, "write_atomically"), (FaultyFiles, "write"),
    ):  # fmt: skip
        monkeypatch.setattr(place, name, counted(getattr(place, name)))
    return Killed


ENDINGS = {
    "put back": lambda e: e.revert(),
    "keep": lambda e: e.keep(),
    "close": lambda e: e.close(),
    "widen": lambda e: e.try_settings({"burst": 40.0, "turbo": "off"}, standing=True),
    "widen, refused": lambda e: e.try_settings({"turbo": "off", "gpu-offset": -1e9}, standing=True),
}


@pytest.mark.parametrize("standing", [True, False])
@pytest.mark.parametrize("ending", ENDINGS)
def test_every_step_of_every_ending_killed(tmp_path, monkeypatch, ending, standing):
    for step in range(1, 40):
        scene = Scene(tmp_path / str(step))
        engine = scene.start()
        engine.try_settings(KEPT, standing=False)
        engine.keep()
        before = scene.values()
        engine.try_settings(ASKED, standing=standing)
        killed = killed_at(step, monkeypatch)
        try:
            ENDINGS[ending](engine)
            ended = True
        except killed:
            ended = False
        monkeypatch.undo()
        if engine._lock is not None:
            scene.die()
        engine = scene.start()
        status, values = engine.status(), scene.values()
        assert status.drift == ()
        if status.trial is not None:
            assert standing
            assert values == {**before, **{n: v for n, v in status.trial.settings.items() if n in STOCK}}
        else:
            assert values == {**STOCK, **status.kept}
            assert status.kept in (KEPT, {**KEPT, **ASKED})
            assert status.kept == KEPT or ending == "keep"
        engine.close()
        if ended:
            break
    assert ended
    assert step > 1 or ending in ("widen, refused",) or (ending == "close" and standing)


def test_a_recovery_killed_at_any_step_is_finished_by_the_next_start(tmp_path, monkeypatch):
    for damaged, step in itertools.product((False, True), range(1, 20)):
        scene = Scene(tmp_path / f"{damaged}{step}")
        engine = scene.start()
        engine.try_settings(ASKED, standing=False)
        scene.die()
        if damaged:
            path = scene.folder / "journal"
            path.write_bytes(path.read_bytes().replace(b"applied", b"opplied"))
        killed = killed_at(step, monkeypatch)
        try:
            scene.start()
            ended = True
        except killed:
            ended = False
        monkeypatch.undo()
        if ended:
            scene.die()
        scene.start()
        assert scene.values() == STOCK
        assert recorded(scene.folder).trial is None
        scene.engine.close()
        if ended:
            assert step > 5
