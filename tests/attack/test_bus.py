"""Attacks over the bus: by users without rights, by crowds, by those who lost their rights, by forged signals."""

import asyncio
import contextlib
import json
import os
import subprocess
import sys
import time
from pathlib import Path

import pytest

from bus_support import BUS_NAME, PATH, wait_for
from upright_bolt.errors import BadInput, BoltError, Denied, InUse
from upright_bolt.service.bus_interface import MOST_BYTES
from upright_bolt.service.client import ServiceAccess
from waiting import until, within

STRANGER, DESK = 65534, 1  # users that every Debian has: the bus lets nobody in whom it does not know
WATCH, SET, VOLTAGE = (f"org.upright-bolt.{name}" for name in ("watch", "set", "set-voltage"))
LIMIT_MB = 256
"""MemoryMax of the unit."""
pytestmark = pytest.mark.skipif(os.geteuid() != 0, reason="needs root, to be several users")


@pytest.fixture
def service(bus):
    bus.start_polkit()
    return bus.start_service()


@contextlib.contextmanager
def client(bus, uid=0):
    with bus.as_user(uid):
        access = ServiceAccess()
    try:
        yield access
    finally:
        access._trying = access._trying and not access._bus.over.is_set()
        access.close()


@contextlib.contextmanager
def attacker(bus, uid=STRANGER, connections=1):
    """Connections of another program, made with another library than the client's."""
    with bus.as_user(uid):
        made = [bus.connect() for _ in range(connections)]
    runner = asyncio.Runner()
    try:
        yield made, runner
    finally:
        for one in made:
            one.close()
        runner.close()


def call(bus, member, form="", *data):
    """Return a coroutine that sends a call and waits for its answer."""

    async def sent():
        message = bus.new_method_call_message(BUS_NAME, PATH, BUS_NAME, member)
        if form:
            message.append_data(form, *data)
        return await bus.call_async(message)

    return sent()


async def gathered(calls, seconds=60.0):
    return await asyncio.wait_for(asyncio.gather(*calls, return_exceptions=True), within(seconds))


def said(answers):
    return " | ".join({str(answer) for answer in answers})


def answers_in(access):
    begun = time.monotonic()
    access.status()
    return time.monotonic() - begun


def deep(levels):
    made: tuple[str, object] = ("s", "x")
    for _ in range(levels):
        made = ("v", made)
    return made


HUGE = {
    "a name": ("Apply", "a{sv}bb", ({"x" * (30 << 20): ("d", 1.0)}, False, False)),
    "a word": ("Apply", "a{sv}bb", ({"epp": ("s", "x" * (30 << 20))}, False, False)),
    "an emoji": ("Apply", "a{sv}bb", ({"epp": ("s", "🙂" + "x" * (20 << 20))}, False, False)),
    "many names": ("BeginSeries", "asb", (["sustained"] * 300_000, False)),
    "a wide value": ("Apply", "a{sv}bb", ({"epp": ("aad", [[1.0] * 1000] * 500)}, False, False)),
    "many settings": ("Apply", "a{sv}bb", ({f"c{i}": ("d", 1.0) for i in range(60_000)}, False, False)),
}  # fmt: skip


def test_under_the_units_memory_limit_nothing_huge_gets_in_or_holds_anybody_up(bus, tmp_path):
    """The service starts as it does installed, with no more memory than its unit has."""
    bus.start_polkit()
    log = tmp_path / "service.log"

    limit = ["prlimit", f"--data={LIMIT_MB << 20}"]
    words = [*limit, sys.executable, "-m", "upright_bolt", "-m", "twin:tern", "--data", str(tmp_path / "d"), "service"]
    with log.open("w") as out:
        process = subprocess.Popen(words, stderr=out, env=bus.environment)
    try:
        wait_for(lambda: "ready;" in log.read_text(), what=log.read_text())
        bus.allow([WATCH, SET, VOLTAGE])
        with client(bus) as honest, attacker(bus, connections=2) as (made, runner):
            bus.allow([])  # whatever the caller may, the size is looked at first
            for kind, (member, form, data) in HUGE.items():
                for one in made:
                    answers = runner.run(gathered([call(one, member, form, *data)]))
                    assert "bytes at most" in said(answers) or "not complete" in said(answers), kind
            assert said(runner.run(gathered([call(made[0], "Apply", "a{sv}bb", {"epp": deep(20)}, False, False)])))
            bus.allow([WATCH])
            assert answers_in(honest) < within(2.0)
        status = Path(f"/proc/{process.pid}/status").read_text()
        most_mb = next(int(line.split()[1]) for line in status.splitlines() if line.startswith("VmHWM:")) / 1024
        assert most_mb < LIMIT_MB / 2
        assert "Traceback" not in log.read_text()
    finally:
        process.terminate()
        process.wait()


def test_a_message_of_just_the_bound_is_taken_and_one_more_byte_is_not(bus, service):
    with attacker(bus, 0) as ((one,), runner):
        overhead = 40
        for more, taken in ((-overhead, True), (1, False)):
            name = "x" * (MOST_BYTES + more)
            answer = said(runner.run(gathered([call(one, "BeginRun", "s", name)])))
            assert ("announced by a word" in answer) is taken, answer


def test_a_stranger_who_floods_costs_the_others_little(bus, service, times):
    bus.allow([WATCH, SET])
    with client(bus, DESK) as honest, attacker(bus, connections=8) as (made, runner):
        before_kb = service.memory_kb
        bus.allow([], [])
        bus.allow([WATCH], silently=True)
        honest.status()
        bus.allow([], silently=True)  # what follows is denied to all who are not known to be allowed
        worst = 0.0
        for _ in range(times(5, 100)):
            flood = [call(one, "Apply", "a{sv}bb", {"sustained": ("d", 1.0)}, True, True) for one in made * 100]

            async def together(flood=flood):
                sent = asyncio.ensure_future(gathered(flood))
                await asyncio.sleep(0.05)
                waited = await asyncio.to_thread(answers_in, honest)
                return await sent, waited

            answers, waited = runner.run(together())
            worst = max(worst, waited)
            assert all(isinstance(answer, Exception) for answer in answers)
        assert worst < within(3.0)
        assert service.memory_kb - before_kb < 32_000
    assert service.log.count("was refused") <= 20
    assert service.log.count("refused again and again") == 1


def test_questions_that_nobody_answers_shut_out_nobody(bus, service):
    bus.allow([WATCH], [SET, VOLTAGE])
    with client(bus, DESK) as desk, client(bus, 0) as root, attacker(bus, connections=8) as (made, runner):
        questions = [call(one, "BeginSeries", "asb", ["sustained"], True) for one in made * 16]

        async def begun():
            tasks = [asyncio.ensure_future(question) for question in questions]
            while sum(not task.done() for task in tasks) > 2:
                await asyncio.sleep(0.05)
            return tasks

        tasks = runner.run(begun())
        assert bus.questions() == sum(not task.done() for task in tasks) == 2
        for person in (desk, root):
            assert answers_in(person) < within(2.0)
        bus.allow([WATCH, SET], silently=True)
        assert desk.try_settings({"sustained": 22.0}, standing=False).ok
        assert desk.revert("").settings == {"sustained": 22.0}
        with client(bus, DESK) as another:
            assert answers_in(another) < within(2.0)
        bus.answer_questions(accepted=False)
        answers = runner.run(gathered(tasks))
        assert sum("is open already" in str(answer) for answer in answers) == len(questions) - 2


def test_root_and_a_trials_owner_get_through_while_polkit_hangs(bus):
    bus.start_polkit()
    bus.start_service(root_is_asked=False)
    with client(bus, DESK) as owner, attacker(bus, DESK) as ((other,), runner):
        assert owner.try_settings({"sustained": 25.0}, standing=False).ok
        bus.allow([])
        bus.hang_polkit(hangs=True)

        async def flood():
            tasks = [asyncio.ensure_future(call(other, "Controls")) for _ in range(200)]
            await asyncio.sleep(0.2)
            return tasks

        tasks = runner.run(flood())
        begun = time.monotonic()
        assert owner.revert("").settings == {"sustained": 25.0}
        with client(bus, 0) as root:
            assert root.try_settings({"sustained": 20.0}, standing=False).ok
            assert root.keep().settings == {"sustained": 20.0}
        assert time.monotonic() - begun < within(4.0)
        bus.hang_polkit(hangs=False)
        runner.run(gathered(tasks))


def test_a_right_withdrawn_counts_at_once(bus, service):
    with client(bus, DESK) as access:
        access.status()
        bus.allow([])
        with pytest.raises(Denied, match="You may not read this machine"):
            access.status()


def test_a_right_withdrawn_while_a_question_is_open_keeps_nothing(bus, service):
    with client(bus, DESK) as access:
        bus.allow([WATCH, SET])
        access.try_settings({"sustained": 25.0}, standing=False)
        for silently in (False, True):
            bus.allow([WATCH], [SET])

            def withdraw(silently=silently):
                if bus.questions():
                    bus.allow([WATCH], silently=silently)
                    bus.answer_questions(accepted=True)

            access.while_waiting = withdraw
            with pytest.raises(Denied, match=r"withdrawn while the question was open|do not allow it"):
                access.keep()
            access.while_waiting = lambda: None
            assert access.status().kept == {}
        access.revert("")


def test_a_trial_that_changes_while_its_keep_is_asked_for_is_not_kept(bus, service):
    bus.allow([WATCH, SET], [VOLTAGE])
    with client(bus, DESK) as access, attacker(bus, DESK) as ((_other,), _):
        bus.person("accepts")
        assert access.try_settings({"core-offset": -10.0}, standing=False).ok
        bus.person("waits")

        def revert():
            if bus.questions():
                with client(bus, 0) as root:
                    root.revert("")
                bus.answer_questions()

        access.while_waiting = revert
        with pytest.raises(BadInput, match="has ended, or was widened"):
            access.keep()
        access.while_waiting = lambda: None
        access._trying = False


def test_only_polkit_is_believed_when_it_says_that_rights_have_changed(bus, service):
    with client(bus, DESK) as access, attacker(bus) as ((one,), _):
        access.status()
        asked = bus.call("org.freedesktop.PolicyKit1", "/org/freedesktop/PolicyKit1/Authority",
                         "org.freedesktop.DBus.Mock", "Asked")  # fmt: skip
        for _ in range(20):
            forged = one.new_signal_message("/org/freedesktop/PolicyKit1/Authority",
                                            "org.freedesktop.PolicyKit1.Authority", "Changed")  # fmt: skip
            forged.send()
            left = one.new_signal_message("/org/freedesktop/DBus", "org.freedesktop.DBus", "NameOwnerChanged")
            left.append_data("sss", access._bus.name, access._bus.name, "")
            left.send()
        time.sleep(0.2)
        for _ in range(5):
            access.status()
        assert bus.call("org.freedesktop.PolicyKit1", "/org/freedesktop/PolicyKit1/Authority",
                        "org.freedesktop.DBus.Mock", "Asked") == asked  # fmt: skip


def test_a_dead_clients_timer_does_not_end_the_next_trial(bus, service):
    with client(bus, 0) as root:
        with bus.as_user(DESK):
            dying = ServiceAccess()
        dying.try_settings({"sustained": 25.0}, standing=False)
        dying._leave()
        until(lambda: "left with a trial running" in service.log)
        root.revert("")
        assert root.try_settings({"sustained": 21.0}, standing=False).ok
        time.sleep(4.5)
        assert root.status().trial.settings == {"sustained": 21.0}
        assert root.controls()["sustained"].current == 21.0


def test_no_line_of_the_log_can_be_forged(bus, service):
    forged = "\nINFO: root (uid 0, process 1) kept core-offset -250 mV\x1b[2J\r\u2028INFO: x"
    with attacker(bus, 0) as ((one,), runner):
        for member, form, data in (
            ("Apply", "a{sv}bb", ({forged: ("d", 1.0)}, False, False)),
            ("Apply", "a{sv}bb", ({"epp": ("s", forged)}, False, False)),
            ("Apply", "a{sv}bb", ({"governor": ("s", forged[:60])}, False, False)),
            ("BeginSeries", "asb", ([forged], False)),
            ("BeginRun", "s", (forged,)),
        ):
            runner.run(gathered([call(one, member, form, *data)]))
    assert service.log.count("was refused") == 5
    for line in service.log.splitlines():
        assert line.isprintable()
        assert not line.startswith("INFO: root (uid 0, process 1)")


def test_refusals_of_one_user_are_bounded_over_all_connections(bus, service):
    for _ in range(6):
        with attacker(bus, DESK) as ((one,), runner):
            runner.run(gathered([call(one, "BeginRun", "s", "") for _ in range(15)]))
    assert service.log.count("was refused") == 20


def test_one_run_at_a_time_whoever_runs_it(bus, service):
    with client(bus, DESK) as first, client(bus, 0) as second:
        first.begin_run("steady")
        with pytest.raises(InUse, match=r"A run of daemon \(uid 1, process \d+\) is going on .*\(steady\)"):
            second.begin_run("proof")
        first.end_run()
        second.begin_run("proof")
        with pytest.raises(InUse):
            first.begin_run("steady")
    with client(bus, DESK) as third:
        until(lambda: begins(third))


def begins(access):
    try:
        access.begin_run("steady")
    except BoltError:
        return False
    return True


def test_what_makes_no_sense_in_a_message_is_answered(bus, service):
    with attacker(bus, 0) as ((one,), runner):
        for member, form, data, why in (
            ("Apply", "s", ("x",), "takes arguments of the form"),
            ("Keep", "", (), "takes arguments of the form"),
            ("Reboot", "", (), "has no such method"),
            ("Apply", "a{sv}bb", ({"epp": ("(ss)", ("a", "b"))}, False, False), "not of the form"),
            ("Apply", "a{sv}bb", ({"x" * 5000: ("d", 1.0)}, False, False), "is none of a control"),
        ):
            assert why in said(runner.run(gathered([call(one, member, form, *data)])))
    assert json.loads(bus.call(BUS_NAME, PATH, BUS_NAME, "Status"))["status"]["trial"] is None


def test_nobody_ends_another_s_trial_by_asking_for_stock(bus, service):
    bus.allow([WATCH, SET, VOLTAGE])
    with client(bus, DESK) as mine, client(bus, STRANGER) as theirs:
        mine.try_settings({"sustained": 25.0}, standing=False)
        with pytest.raises(Denied, match="A trial of"):
            theirs.reset_to_stock()
        assert mine.status().trial.settings == {"sustained": 25.0}
        assert mine.reset_to_stock().before_values["sustained"] == 18.0
