"""Under sudo: the settings engine in a process of its own that stays root, while the program becomes its caller's.

The two talk over a pair of sockets, a line of JSON each way, in the same words as over the bus. The helper does what
the root service does for one caller, and no more; it ends, and puts back a trial that does not outlive the program, as
soon as the program has gone.
"""

import json
import os
import signal
import socket
import sys
from collections.abc import Callable, Sequence
from contextlib import suppress
from typing import Any, TextIO

from upright_bolt.errors import BoltError, Refused
from upright_bolt.model.machine import About
from upright_bolt.service.names import ERRORS, name_of
from upright_bolt.service.remote_access import RemoteAccess, profiles_through
from upright_bolt.service.verbs import BEGIN_RUN, BY_METHOD, BY_NAME, DESCRIBE, END_RUN, Verb
from upright_bolt.settings.access import Change, ProfileAccess, nothing
from upright_bolt.settings.engine import SettingsEngine
from upright_bolt.settings.lock import MachineLock

LONGEST_LINE = 64 << 10
"""Of what the program asks; an answer may be longer."""


def start(open_engine: Callable[[], SettingsEngine]) -> "tuple[socket.socket, int]":
    """Start the helper; this process goes on beside it.

    Args:
        open_engine: opens the machine, in the helper.

    Returns:
        The socket to it, and its process id.
    """
    mine, its = socket.socketpair()
    # What is buffered would be printed by both processes after the fork.
    sys.stdout.flush()
    sys.stderr.flush()
    pid = os.fork()
    if pid:
        its.close()
        return mine, pid
    code = 1
    try:
        mine.close()
        signal.signal(signal.SIGINT, signal.SIG_IGN)  # the program itself takes up what the terminal sends
        signal.signal(signal.SIGTERM, signal.SIG_IGN)  # and tells by its end that this one has to end
        with its:
            _live(open_engine, its)
        code = 0
    finally:
        # Not sys.exit: the parent's exit handlers and open files are not this process's to end.
        os._exit(code)


def _live(open_engine: Callable[[], SettingsEngine], its: socket.socket) -> None:
    stream = its.makefile("rw", encoding="utf-8", newline="\n")
    try:
        engine = open_engine()
    except BoltError as fault:
        _say(stream, {"error": name_of(fault), "text": str(fault)})
        return
    try:
        _say(stream, {"answer": engine.closed})
        # A line that is cut off there is no JSON, and is answered as no question.
        while line := stream.readline(LONGEST_LINE):
            _say(stream, _answer(engine, line))
    except (OSError, ValueError):
        pass  # the program has gone
    finally:
        engine.close()


def _say(stream: TextIO, what: object) -> None:
    stream.write(json.dumps(what) + "\n")
    stream.flush()


def _answer(engine: SettingsEngine, line: str) -> dict[str, Any]:
    try:
        name, *data = json.loads(line)
        verb = BY_NAME[name]
    except (ValueError, KeyError, TypeError, RecursionError):
        return {"error": "", "text": "This is no question that the helper knows."}
    try:
        return {"answer": verb.gives.pack(verb.act(engine, verb.unpacked(data)))}
    except BoltError as fault:
        return {"error": name_of(fault), "text": str(fault)}
    except Exception as fault:  # noqa: BLE001 - whatever it is, the machine stays in good hands
        return {"error": "", "text": f"The helper failed at {name}: {type(fault).__name__}."}


class HelperAccess(RemoteAccess):
    """``MachineAccess`` through the helper.

    Args:
        channel: the socket to it.
        pid: its process.
        run_lock: what a run takes, so that there is one at a time.

    Raises:
        BoltError: the machine could not be opened.
    """

    fastest_s = SettingsEngine.fastest_s

    def __init__(self, channel: socket.socket, pid: int, run_lock: MachineLock) -> None:
        self._channel = channel
        self._stream = channel.makefile("rw", encoding="utf-8", newline="\n")
        self._pid = pid
        self._run_lock = run_lock
        self.trouble = ""
        self.while_waiting: Callable[[], None] = nothing
        try:
            self.closed: str = self._read()
            about, self.recovered = self._ask(DESCRIBE)
        except BoltError:
            self._leave()
            raise
        self.about: About = about
        self.profiles: ProfileAccess | None = profiles_through(self._ask, tends=True)

    def _carry(self, verb: Verb, data: Sequence[Any]) -> Any:  # noqa: ANN401 - what JSON can hold
        try:
            _say(self._stream, [verb.name, *data])
        except (OSError, ValueError) as fault:
            raise Refused("The part of this program that has root's rights has ended.") from fault
        return self._read()

    def _read(self) -> Any:  # noqa: ANN401 - what JSON can hold
        try:
            said = json.loads(self._stream.readline())
        except (OSError, ValueError) as fault:
            raise Refused("The part of this program that has root's rights has ended.") from fault
        if "answer" in said:
            return said["answer"]
        raise ERRORS.get(said["error"], Refused)(said["text"])

    def changes_by_others(self) -> tuple[Change, ...]:
        """Return nothing: nobody else can change a machine that the helper holds."""
        return ()

    def begin_run(self, what: str) -> None:
        """Let no other run begin on this machine. Raises InUse or Refused."""
        self._run_lock.acquire_if_possible()
        self._ask(BEGIN_RUN, what)

    def end_run(self) -> None:
        """The run is over."""
        self._run_lock.release()
        with suppress(BoltError):
            self._ask(END_RUN)

    def close(self) -> str:
        """Put back a trial that does not outlive this process, and let the machine go; return what went wrong."""
        if self._pid == 0:
            return ""
        self.end_run()
        try:
            trouble: str = self._ask(BY_METHOD["close"])
        except BoltError as fault:
            trouble = str(fault)
        self._leave()
        return trouble

    def _leave(self) -> None:
        with suppress(OSError):
            self._stream.close()
        self._channel.close()
        with suppress(ChildProcessError):
            # Waited for, so that the machine is free when the next command looks for it.
            os.waitpid(self._pid, 0)
        self._pid = 0
