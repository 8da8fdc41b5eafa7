"""Upgrades in the middle of a boot: records that earlier versions have left are read, or told as unreadable.

``records`` holds what released versions have written: 15 W kept, and then a trial of 25 W.
"""

import json
import shutil
from pathlib import Path

import pytest

from support import fresh_machine
from upright_bolt import checksummed_log
from upright_bolt.errors import Refused
from upright_bolt.kernel.machine_ports import MachinePorts
from upright_bolt.settings.backend import Backend
from upright_bolt.settings.engine import SettingsEngine
from upright_bolt.settings.journal import EARLIER, OLDEST, VERSION
from upright_bolt.settings.lock import MachineLock
from upright_bolt.simulator.machine import SimulatedClock
from upright_bolt.text.trials import recovered

RECORDS = Path(__file__).with_name("records")
SUSTAINED = [f"/sys/class/powercap/{zone}:0/constraint_0_power_limit_uw" for zone in ("intel-rapl", "intel-rapl-mmio")]

BOOT = "3f1a4c52-08d7-4b16-9e0d-2f5c7b6a9d10"


def boot_of(folder):
    line = (folder / "journal").read_bytes().splitlines()[0]
    return json.loads(line.split(b" ", 3)[3])["boot_id"]


class Upgraded:
    """A simulated machine in the boot in which an earlier version has set its limit to 25 W."""

    def __init__(self, folder, boot_id):
        self.folder = folder
        self.twin = fresh_machine()
        self.twin.state.boot_id = boot_id
        for path in SUSTAINED:
            self.twin.files.write(path, b"25000000")

    def start(self):
        lock = MachineLock(self.folder, "a test")
        lock.acquire()
        ports = MachinePorts("twin:tern", self.twin.files, self.twin.registers, SimulatedClock(self.twin), settle_s=0.0)
        return SettingsEngine(Backend(ports), self.folder, "a test", lock)


@pytest.mark.parametrize("version", range(OLDEST, VERSION))
def test_a_trial_goes_on_over_an_upgrade_and_ends_as_it_would_have(tmp_path, version):
    folder = tmp_path / "record"
    shutil.copytree(RECORDS / f"version-{version}", folder)
    folder.chmod(0o700)
    machine = Upgraded(folder, boot_of(folder))
    engine = machine.start()
    assert engine.recovered is None
    assert engine.trial.settings == {"sustained": 25.0}
    assert engine.kept == {"sustained": 15.0}
    assert engine.status().drift == ()
    assert engine.controls()["sustained"].stock == 18.0
    engine.revert()
    assert engine.current_values()["sustained"] == 15.0
    engine.reset_to_stock()
    assert engine.current_values()["sustained"] == 18.0
    engine.close()
    assert machine.start().kept == {}


def first_form(boot_id):
    trial = {"id": "1", "settings": {"sustained": 25.0}, "before": {SUSTAINED[0]: "18000000"}, "boot_id": boot_id}
    return json.dumps({"kind": "begin", "trial": "1", "at": "2026-11-23T15:00:00", "data": trial}).encode() + b"\n"


def sealed_form(boot_id):
    return checksummed_log.sealed(
        OLDEST - 1, b'{"kind":"kept","kept":{"sustained":25.0},"boot_id":"%s"}' % boot_id.encode()
    )


@pytest.mark.parametrize(("name", "form"), [(EARLIER, first_form), ("journal", sealed_form)])
def test_a_record_that_is_not_read_any_more_leaves_stock_unknown_until_the_next_restart(tmp_path, name, form):
    folder = tmp_path / "record"
    folder.mkdir(mode=0o700)
    machine = Upgraded(folder, BOOT)
    machine.twin.files.write("/sys/devices/system/cpu/intel_pstate/no_turbo", b"1")
    (folder / name).write_bytes(form(BOOT))
    engine = machine.start()
    said = recovered(engine.recovered)
    assert said.startswith(f"An earlier version of this program has left a record of this boot ({name})")
    assert "Stock values are unknown until the next restart" in said
    for _ in range(2):
        assert engine.status().stock_unknown
        assert engine.controls()["sustained"].stock is None
        assert engine.controls()["sustained"].current == 25.0
        with pytest.raises(Refused, match="Restart the machine to return to stock"):
            engine.reset_to_stock(("sustained",))
        with pytest.raises(Refused, match="Restart the machine to return to stock"):
            engine.reset_to_stock()
        assert engine.try_settings({"sustained": 20.0}, standing=False).ok
        assert engine.revert().before_values == {"sustained": 25.0}
        assert engine.current_values()["sustained"] == 25.0
        engine.close()
        engine = machine.start()
        assert engine.recovered is None
    assert len(list(folder.glob(f"{name}.damaged-*"))) == 1
    engine.close()
    machine.twin.physics.restart()
    engine = machine.start()
    assert not engine.status().stock_unknown
    assert engine.controls()["sustained"].stock == 18.0


@pytest.mark.parametrize(("name", "form"), [(EARLIER, first_form), ("journal", sealed_form)])
def test_a_record_of_an_earlier_boot_that_is_not_read_any_more_is_set_aside_without_a_word(tmp_path, name, form):
    folder = tmp_path / "record"
    folder.mkdir(mode=0o700)
    machine = Upgraded(folder, BOOT)
    (folder / name).write_bytes(form("another boot"))
    engine = machine.start()
    assert engine.recovered is None
    assert not engine.status().stock_unknown
    engine.close()
    assert machine.start().recovered is None
    assert (folder / f"{name}.damaged-1").read_bytes() == form("another boot")


def test_with_stock_unknown_no_limit_goes_beyond_what_is_declared_or_applied(tmp_path):
    folder = tmp_path / "record"
    folder.mkdir(mode=0o700)
    machine = Upgraded(folder, BOOT)
    engine = machine.start()
    highest = engine.controls()["sustained"].maximum
    engine.close()
    for file in folder.iterdir():
        file.unlink()
    (folder / EARLIER).write_bytes(first_form(BOOT))
    engine = machine.start()
    assert engine.status().stock_unknown
    assert engine.controls()["sustained"].maximum == highest
