"""Service and client killed at random moments, over applies, keeps and put-backs of standing and other trials."""

import os
import random
import re
import time
from pathlib import Path

import pytest

from bus_support import ACTIONS
from command_process import FORKS
from support import fresh_machine, write_tree
from upright_bolt.errors import BadInput, BoltError
from upright_bolt.service.client import ServiceAccess
from upright_bolt.settings.journal import Entry, EntryKind, Journal
from waiting import until

CHOICES = {"sustained": (12.0, 20.0, 30.0), "burst": (25.0, 33.0), "epp": (0.0, 96.0, 255.0), "turbo": ("on", "off")}
LONGEST_LIFE_S = 0.12
GRACE_S = 0.2


def client_storm(address: str, seed: int) -> None:
    """Do whatever a client may, one thing after another, until something ends it."""
    os.environ["DBUS_SYSTEM_BUS_ADDRESS"] = address
    dice = random.Random(seed)
    standing = dice.random() < 0.5
    try:
        access = ServiceAccess()
        while True:
            act = dice.random()
            if act < 0.5:
                asked = {name: dice.choice(CHOICES[name]) for name in dice.sample(list(CHOICES), dice.randint(1, 4))}
                access.try_settings(asked, standing=standing)
            elif access.status().trial is not None:
                access.keep() if act < 0.7 else access.revert("")
    except BoltError:
        os._exit(0)


def expected_of(stock, status):
    return {**stock, **status.kept, **(status.trial.settings if status.trial else {})}


@pytest.mark.long
def test_random_kills_of_service_and_client(bus, tmp_path, times, record_property):
    bus.start_polkit()
    root = write_tree(fresh_machine(), tmp_path / "tree")
    dice = random.Random(11)
    service = bus.start_service(on=f"tree:{root}", GRACE_S=GRACE_S)
    access = ServiceAccess()
    stock = {name: access.current_values()[name] for name in CHOICES}
    access.close()
    count, died, ends = times(12, 1000), {"service": 0, "client": 0}, set()
    for number in range(count):
        client = FORKS.Process(target=client_storm, args=(bus.address, number))
        client.start()
        asked = service.log.count("asked for")
        until(lambda service=service, asked=asked: service.log.count("asked for") > asked, what="the client to begin")
        time.sleep(dice.random() * LONGEST_LIFE_S)
        victim = dice.choice(["service", "client", "both"])
        if victim != "client":
            service.kill()
            died["service"] += 1
        client.kill()
        client.join()
        died["client"] += 1
        if victim != "client":
            service = bus.start_service(on=f"tree:{root}", GRACE_S=GRACE_S)
        access = ServiceAccess()
        until(lambda access=access: (trial := access.status().trial) is None or trial.standing)
        status = access.status()
        ends.add((status.trial is not None, bool(status.kept)))
        assert status.drift == (), (number, victim)
        now = access.current_values()
        assert {name: now[name] for name in CHOICES} == expected_of(stock, status), (number, victim)
        if status.trial is not None:
            access.revert("")
            assert access.status().drift == ()
        access.close()
        assert "Traceback" not in service.log
    assert died["service"] > count / 3
    assert len(ends) >= 2, "hardly anything was in force when it was killed"
    record_property("kills", sum(died.values()))


BLOCK = 4096
"""Of a tmpfs."""


@pytest.fixture
def small_disk(bus):
    """A file system of a few kB, on which the service keeps its record."""
    folder = bus.folder / "state"
    folder.mkdir()
    if os.geteuid() != 0 or os.system(f"mount -t tmpfs -o size=256k tmpfs {folder} 2>/dev/null"):
        pytest.skip("needs the right to mount")
    yield folder
    for service in bus.services:
        service.end()
    bus.services.clear()
    os.system(f"umount {folder}")


@pytest.mark.parametrize("how", ["full", "read-only"])
def test_a_disk_without_room_in_the_middle_of_it_all(bus, small_disk, tmp_path, how):
    """Somebody else fills it up, or it fails and can only be read from now on."""
    bus.start_polkit()
    root = write_tree(fresh_machine(), tmp_path / "tree")
    service = bus.start_service(on=f"tree:{root}")
    access = ServiceAccess()
    assert access.try_settings({"sustained": 25.0}, standing=True).ok
    if how == "full":
        fill(small_disk / "filler")
    else:
        assert os.system(f"mount -o remount,ro {small_disk}") == 0
    with pytest.raises(BoltError, match="Nothing was changed, since it cannot be written down first"):
        try_until_refused(access)
    if how == "full":
        use_up_the_last_block(small_disk)
    with pytest.raises(BoltError, match="Nothing was kept, since it cannot be written down"):
        access.keep()
    assert access.status().trial is not None
    assert access.current_values()["sustained"] != 18.0
    trial = access.revert("")
    assert (trial.unrecorded != "") == (how == "read-only")  # a full disk has a reserve for the end
    assert access.current_values()["sustained"] == 18.0
    assert access.status().trial is None
    service.kill()
    bus.start_service(on=f"tree:{root}")
    again = ServiceAccess()
    assert (again.status().trial, again.status().drift) == (None, ())
    assert again.current_values()["sustained"] == 18.0
    if how == "full":
        (small_disk / "filler").unlink()
        assert again.try_settings({"sustained": 22.0}, standing=False).ok
    again.close()
    access._trying = False
    access.close()


QUAY = """format = "upright-bolt profile"
version = 1
[settings]
sustained_w = 25
core_offset_mv = -40
"""


def test_a_disk_that_can_only_be_read_when_the_service_starts(bus, small_disk, tmp_path):
    """The machine went down with an offset just applied, and comes back with a file system in need of repair."""
    bus.start_polkit([*ACTIONS, "org.upright-bolt.manage-profiles"])
    root = write_tree(fresh_machine(), tmp_path / "tree")
    service = bus.start_service(on=f"tree:{root}")
    access = ServiceAccess()
    access.profiles.save("quay", QUAY)
    access.profiles.set_hold(on=True)
    access.profiles.set_boot(on=True)
    access.profiles.use("quay")
    service.kill()
    (root / "proc/sys/kernel/random/boot_id").write_text("another")
    assert os.system(f"mount -o remount,ro {small_disk}") == 0
    service = bus.start_service(on=f"tree:{root}")
    again = ServiceAccess()
    stands = again.profiles.status()
    assert (stands.active, stands.applied) == ("", {})
    assert re.fullmatch(r"the start of this boot cannot be written down, .*: Read-only file system\)", stands.off)
    with pytest.raises(BadInput, match="No profile is used: the start of this boot cannot be written down"):
        again.profiles.use("quay")
    assert os.system(f"mount -o remount,rw {small_disk}") == 0
    again.profiles.set_boot(on=True)
    stands = again.profiles.status()
    assert (stands.off, stands.active) == ("", "quay")
    assert stands.suspects.startswith("the machine went down uncleanly with the profile quay")
    assert "Traceback" not in service.log
    again.close()
    access.close()


def use_up_the_last_block(folder: Path) -> None:
    """Fill what is left of the journal's last block, into which a short entry might still fit."""
    journal = next(folder.rglob("journal"))
    left = BLOCK - journal.stat().st_size % BLOCK
    record = Journal(journal)
    plain = len(record.log.line(Entry(EntryKind.REFUSED, "", "")))
    if left > plain + 20:
        record.append(Entry(EntryKind.REFUSED, "", "", why="x" * (left - plain - 8)))


def try_until_refused(access: ServiceAccess) -> None:
    """Try until a trial cannot be written down first; one whose second line found no room has been put back."""
    for step in range(200):
        before = access.current_values()["sustained"]
        try:
            access.try_settings({"sustained": 25.0 + step % 3}, standing=True)
        except BoltError as fault:
            if "It was put back at once, so nothing has changed" not in str(fault):
                raise
            assert access.current_values()["sustained"] == before


def fill(path: Path) -> None:
    with path.open("wb", buffering=0) as file:
        try:
            while True:
                file.write(b"x" * 4096)
        except OSError:
            return
