"""Ten thousand hostile and malformed calls: the service goes on answering, grows no fatter, and writes nothing else."""

import asyncio
import math
import os
import random
import signal
import socket
import subprocess
import sys
import textwrap
import threading
import time

from sdbus import SdBus

from bus_support import BUS_NAME, PATH
from support import contents_of, fresh_machine, write_tree
from upright_bolt.kernel.ports import COPY_STRIDE, DeviceRegisters, RealFiles
from upright_bolt.kernel.survey import survey
from upright_bolt.model.catalogue import CATALOGUE
from upright_bolt.service.client import ServiceAccess
from waiting import until, within

CALLS = 10_000
TOGETHER = (1, 12, 12, 12, 12, 12, 12, 12, 12, 200)
"""Calls under way at once: mostly as many as are let in, so that they get to the bottom, now and then a flood."""
WORST_ANSWER_S = 3.0
MOST_GROWTH_KB = 16_000
MEMBERS = (
    "Describe",
    "Controls",
    "Sample",
    "Status",
    "Apply",
    "Keep",
    "PutBack",
    "ToStock",
    "Changed",
    "Shutdown",
    "_settings",
)
NAMES = (*CATALOGUE, "", "../../etc/passwd", "sustained\n", "x" * 3000, "/sys/class/powercap", "SUSTAINED", "epp ")
NUMBERS = (0.0, -0.0, 1e308, -1e308, math.nan, math.inf, -math.inf, 25.0, -50.0, 255.5, 1e-320, 4000.0)
WORDS = ("", "on", "off", "../..", "performance", "\x01", "25W", "x" * 70_000, "🙂" * 50, "$(reboot)", "-1")


def value(dice: random.Random, depth: int = 0):
    forms = ["d", "s", "i", "x", "t", "b", "as", "ad", "a{sv}", "(ds)", "v", "y"]
    form = dice.choice(forms)
    made = {
        "d": lambda: dice.choice(NUMBERS), "s": lambda: dice.choice(WORDS), "i": lambda: -(2**31),
        "x": lambda: -(2**63), "t": lambda: 2**64 - 1, "b": lambda: True, "as": lambda: ["a"] * dice.randint(0, 500),
        "ad": lambda: [math.nan] * dice.randint(0, 500), "a{sv}": lambda: {"a": ("s", "b")}, "(ds)": lambda: (1.0, "x"),
        "v": lambda: value(dice, depth + 1) if depth < 5 else ("s", "deep"), "y": lambda: 255,
    }  # fmt: skip
    return form, made[form]()


def hostile_call(bus: SdBus, dice: random.Random):
    member = dice.choice(MEMBERS)
    interface = BUS_NAME if dice.random() < 0.9 else "org.freedesktop.DBus.Properties"
    path = PATH if dice.random() < 0.95 else "/org/upright_bolt"
    message = bus.new_method_call_message(BUS_NAME, path, interface, member)
    kind = dice.random()
    if member == "Apply" and kind < 0.3:
        message.append_data("a{sv}bb", {"sustained": ("d", dice.uniform(1.0, 70.0))}, False, False)
    elif member == "Apply" and kind < 0.9:
        count = 1 if kind < 0.7 else dice.randint(0, 40)
        asked = {dice.choice(NAMES): value(dice) for _ in range(count)}
        message.append_data("a{sv}bb", asked, dice.random() < 0.5, dice.random() < 0.1)
    elif kind < 0.5:
        form, data = value(dice)
        message.append_data(form, data)
    return message


async def storm(bus: SdBus, dice: random.Random, calls: int) -> int:
    """Send hostile calls, a few or a flood together; return how many were answered, with whatever answer."""
    answered = begun = 0
    while begun < calls:
        together = min(dice.choice(TOGETHER), calls - begun)
        begun += together
        sent = [bus.call_async(hostile_call(bus, dice)) for _ in range(together)]
        done = await asyncio.wait_for(asyncio.gather(*sent, return_exceptions=True), 60.0)
        answered += sum(not isinstance(answer, TimeoutError) for answer in done)
    return answered


def answer_time(access: ServiceAccess) -> float:
    begun = time.monotonic()
    access.sample()
    assert not access.trouble
    return time.monotonic() - begun


class Bystander:
    """An honest client that samples all the while, and the longest it had to wait."""

    def __init__(self) -> None:
        self.worst_s = 0.0
        self.answers = 0
        self._end = threading.Event()
        self._thread = threading.Thread(target=self._live)

    def __enter__(self) -> "Bystander":
        self._thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._end.set()
        self._thread.join()

    def _live(self) -> None:
        access = ServiceAccess()
        while not self._end.wait(0.02):
            self.worst_s = max(self.worst_s, answer_time(access))
            self.answers += 1
        access.close()


def test_ten_thousand_hostile_calls(bus, tmp_path):
    bus.start_polkit()
    root = write_tree(fresh_machine(), tmp_path / "tree")
    found = survey(RealFiles(root), DeviceRegisters(root, COPY_STRIDE), "tree")
    declared = {path for driver in found.controls.values() for path in driver.files}
    before = contents_of(root)
    service = bus.start_service(on=f"tree:{root}")
    honest = ServiceAccess()
    attacker = bus.connect()
    runner = asyncio.Runner()
    dice = random.Random(20)
    weights, answered = [], 0
    with Bystander() as bystander:
        for _ in range(5):
            answered += runner.run(storm(attacker, dice, CALLS // 5))
            weights.append(service.memory_kb)
    assert answered == CALLS
    assert service.process.poll() is None
    assert bystander.answers > 10
    assert bystander.worst_s < WORST_ANSWER_S
    assert service.log.count("; in force") > 50, "the storm hardly got to the bottom"
    assert max(weights[1:]) - weights[0] < MOST_GROWTH_KB, weights
    changed = {path for path, text in contents_of(root).items() if before.get(path) != text}
    assert changed <= declared
    for control in honest.controls().values():
        if control.settable and control.current is not None:
            control.check(control.current)
    assert "failed" not in service.log.replace("Authentication failed", "")
    attacker.close()
    runner.close()
    honest.close()


VANISHING = """
    import asyncio, os, signal, sys
    from sdbus import sd_bus_open_system
    kind, name, path = sys.argv[1:]
    bus = sd_bus_open_system()
    def call(member):
        message = bus.new_method_call_message(name, path, name, member)
        if member == "Apply":
            message.append_data("a{sv}bb", {"sustained": ("d", 25.0)}, False, False)
        return bus.call_async(message)
    async def main():
        if kind == "vanish":
            call("Apply")
            await asyncio.sleep(0)
            os.kill(os.getpid(), signal.SIGKILL)
        waiting = [call("Describe") for _ in range(2000)]
        await asyncio.sleep(0.05)
        print("sent", flush=True)
        os.kill(os.getpid(), signal.SIGSTOP)
    asyncio.run(main())
"""


def start_hostile(bus, kind):
    command = [sys.executable, "-c", textwrap.dedent(VANISHING), kind, BUS_NAME, PATH]
    return subprocess.Popen(command, env=bus.environment, stdout=subprocess.PIPE)


def test_clients_that_vanish_in_a_call_leave_nothing_behind(bus):
    bus.start_polkit()
    service = bus.start_service()
    honest = ServiceAccess()
    for _ in range(10):
        process = start_hostile(bus, "vanish")
        process.wait()
        process.stdout.close()
    until(lambda: honest.status().trial is None, what="a vanished client's trial to be put back")
    assert honest.controls()["sustained"].current == 18.0
    assert service.process.poll() is None
    honest.close()


def test_clients_that_stop_reading_do_not_hold_up_the_others(bus):
    bus.start_polkit()
    service = bus.start_service()
    honest = ServiceAccess()
    stopped = [start_hostile(bus, "stop") for _ in range(3)]
    try:
        for process in stopped:
            assert process.stdout.readline() == b"sent\n"
        light = service.memory_kb
        for _ in range(20):
            assert answer_time(honest) < within(WORST_ANSWER_S)
            time.sleep(0.25)
        assert service.memory_kb - light < MOST_GROWTH_KB
        assert honest.try_settings({"sustained": 25.0}, standing=False).ok
    finally:
        for process in stopped:
            os.kill(process.pid, signal.SIGKILL)
            process.wait()
            process.stdout.close()
        honest.close()


def test_rubbish_on_the_socket_disturbs_nobody(bus):
    bus.start_polkit()
    bus.start_service()
    honest = ServiceAccess()
    dice = random.Random(3)
    for _ in range(50):
        with socket.socket(socket.AF_UNIX) as raw:
            raw.connect(str(bus.folder / "bus"))
            raw.sendall(b"\0AUTH EXTERNAL 30\r\nNEGOTIATE_UNIX_FD\r\nBEGIN\r\n" + dice.randbytes(4000))
    assert answer_time(honest) < within(WORST_ANSWER_S)
    honest.close()
