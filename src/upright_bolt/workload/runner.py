"""Runs a command of the user's own and times it: ``python -m upright_bolt.workload.runner TIMES WORD…``.

It waits for a line on standard input, then runs the command so many times, one after another, without a shell, and
prints a line per time::

    r START END CODE OUTPUT

with times of the system's monotonic clock in s, the exit code (below zero: minus the signal), and the end of what the
command said, on standard output and error together, as one word of base64. The command has a process group of its
own, which is ended when this process is ended or when its parent is gone.
"""

import base64
import os
import signal
import subprocess
import sys
import tempfile
import threading
import time
from contextlib import suppress
from types import FrameType
from typing import IO

OUTPUT_BYTES = 64 << 10
"""So much of the end of a command's output is kept; a number to be found there stands near the end."""


class Runner:
    """Runs the command, and ends it with everything it has started."""

    def __init__(self) -> None:
        self._process: subprocess.Popen[bytes] | None = None
        self._starting = self._ending = False

    def end(self) -> None:
        """End the command and this process; only in the main thread, in a signal's handler or between commands.

        A command that is being started has a process already, but not one that is known here: ``once`` ends it.
        """
        self._ending = True
        if self._starting:
            return
        process = self._process
        if process is not None:
            with suppress(ProcessLookupError):
                # The group, not the process: a shell script's children are to end with it.
                os.killpg(process.pid, signal.SIGTERM)
                time.sleep(0.2)
                os.killpg(process.pid, signal.SIGKILL)
        os._exit(0)

    def once(self, command: list[str]) -> None:
        """Run the command once and print its line."""
        # A pipe would fill up and stop a command that nobody reads.
        with tempfile.TemporaryFile() as output:
            begun = time.monotonic()
            try:
                code = self._started(command, output).wait()
            except OSError as fault:
                output.write(f"{command[0]}: {fault.strerror}".encode())
                code = 127
            ended = time.monotonic()
            size = output.seek(0, os.SEEK_END)
            output.seek(max(0, size - OUTPUT_BYTES))
            said = base64.b64encode(output.read()).decode() or "-"
        print(f"r {begun:.6f} {ended:.6f} {code} {said}", flush=True)

    def _started(self, command: list[str], output: IO[bytes]) -> subprocess.Popen[bytes]:
        self._starting = True
        try:
            self._process = subprocess.Popen(
                command, stdin=subprocess.DEVNULL, stdout=output, stderr=output, start_new_session=True
            )
        finally:
            self._starting = False
            if self._ending:
                self.end()
        return self._process


def watch_parent() -> None:
    """Ask this process to end once standard input is closed: the parent is gone."""
    while os.read(0, 64):
        pass
    os.kill(os.getpid(), signal.SIGTERM)


def main(times: int, command: list[str]) -> None:
    """Say that it is ready, wait for the word, run."""
    runner = Runner()

    def ended(_number: int, _frame: FrameType | None) -> None:
        runner.end()

    # Before “ready”: whoever ends this process may do so as soon as it has spoken.
    signal.signal(signal.SIGTERM, ended)
    print("ready", flush=True)
    if not os.read(0, 64):
        return
    threading.Thread(target=watch_parent, daemon=True).start()
    for _ in range(times):
        runner.once(command)


if __name__ == "__main__":
    try:
        main(int(sys.argv[1]), sys.argv[2:])
    except BrokenPipeError:
        os._exit(0)
