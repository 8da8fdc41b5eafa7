"""The command as a process of its own, forked from one that has everything imported.

Starting Python and importing takes longer than most commands do. Tests of the start itself (what is imported, the
installed launcher, windows) start a new interpreter instead.
"""

import importlib
import multiprocessing
import os
import subprocess
import sys
import tempfile
from collections.abc import Mapping
from pathlib import Path
from typing import Any

FORKS: Any = multiprocessing.get_context("forkserver")
FORKS.set_forkserver_preload(
    [
        "upright_bolt.cli.main",
        "upright_bolt.cli.output",
        "upright_bolt.cli.commands.runs",
        "upright_bolt.cli.commands.series",
        "upright_bolt.reports.export",
        "upright_bolt.reports.report",
        "upright_bolt.service.client",
        "upright_bolt.service.daemon",
        "upright_bolt.session.session",
        "upright_bolt.store.exchange",
        "upright_bolt.store.runs",
        "upright_bolt.simulator.machine",
        "scipy.optimize",
        "sqlalchemy.dialects.sqlite",
        "killed_service",
    ]
)


def _run(
    words: list[str],
    environment: dict[str, str],
    out: str,
    err: str,
    killed_at: int | None,
    replaced: Mapping[str, Any],
) -> None:
    for path, number in ((out, 1), (err, 2)):
        handle = os.open(path, os.O_WRONLY | os.O_APPEND)
        os.dup2(handle, number)
        os.close(handle)
    os.environ.clear()
    os.environ.update(environment)
    sys.argv = ["upright-bolt", *words]
    if killed_at is not None:
        from killed_service import die_after

        die_after(killed_at)
    for name, value in replaced.items():
        module, _, constant = name.rpartition(".")
        assert hasattr(importlib.import_module(module), constant)
        setattr(importlib.import_module(module), constant, value)
    from upright_bolt.cli import run

    sys.exit(run(words))


class CommandProcess:
    """A command that runs, written to as little as ``subprocess.Popen`` of one would be.

    Args:
        words: the command's words, without the program's name.
        out: an existing file that its standard output is appended to.
        err: the same for its errors.
        environment: all of its environment; this process' own by default.
        replaced: other values for constants, by their full names.
        killed_at: the step (a write to a kernel file or to the journal) after which it kills itself, if any.
    """

    def __init__(
        self,
        words: list[str],
        out: Path,
        err: Path,
        environment: Mapping[str, str] | None = None,
        killed_at: int | None = None,
        replaced: Mapping[str, Any] | None = None,
    ) -> None:
        self._words = words
        given = (words, dict(environment or os.environ), str(out), str(err), killed_at, dict(replaced or {}))
        self._process = FORKS.Process(target=_run, args=given)
        self._process.start()
        self.pid: int = self._process.pid

    def poll(self) -> int | None:
        """Return how it ended (a signal as a negative number), ``None`` while it runs."""
        return self._process.exitcode

    def wait(self, timeout: float | None = None) -> int:
        """Wait for its end and return how it ended.

        Raises:
            subprocess.TimeoutExpired: it still runs after ``timeout`` seconds.
        """
        self._process.join(timeout)
        if self._process.exitcode is None:
            raise subprocess.TimeoutExpired(self._words, timeout or 0.0)
        return self._process.exitcode

    def send_signal(self, number: int) -> None:
        """Send it a signal, unless it has ended."""
        if self.poll() is None:
            os.kill(self.pid, number)

    def kill(self) -> None:
        """End it without its doing."""
        self._process.kill()


def run_command(words: list[str], timeout: float, environment: Mapping[str, str] | None = None):
    """Run the command to its end and return what came of it, as ``subprocess.run`` does with text captured."""
    with tempfile.NamedTemporaryFile("r") as out, tempfile.NamedTemporaryFile("r") as err:
        process = CommandProcess(words, Path(out.name), Path(err.name), environment)
        try:
            code = process.wait(timeout)
        except subprocess.TimeoutExpired:
            process.kill()
            process.wait()
            raise
        return subprocess.CompletedProcess(words, code, out.read(), err.read())
