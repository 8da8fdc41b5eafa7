"""The command as a process of its own, forked from one that has everything imported.

Starting Python and importing takes longer than most commands do. Tests of the start itself (what is imported, the
installed launcher, killed programs, windows) start a new interpreter instead.
"""

import multiprocessing
import os
import subprocess
import sys
import tempfile
from collections.abc import Mapping

_FORKS = multiprocessing.get_context("forkserver")
_FORKS.set_forkserver_preload(
    [
        "upright_bolt.cli.main",
        "upright_bolt.cli.output",
        "upright_bolt.cli.runs",
        "upright_bolt.cli.series",
        "upright_bolt.reports.export",
        "upright_bolt.reports.report",
        "upright_bolt.service.daemon",
        "upright_bolt.session.session",
        "upright_bolt.store.exchange",
        "upright_bolt.store.runs",
        "upright_bolt.twin.machine",
        "scipy.optimize",
        "sqlalchemy.dialects.sqlite",
    ]
)


def _run(words: list[str], environment: dict[str, str], out: str, err: str) -> None:
    for path, number in ((out, 1), (err, 2)):
        handle = os.open(path, os.O_WRONLY)
        os.dup2(handle, number)
        os.close(handle)
    os.environ.clear()
    os.environ.update(environment)
    sys.argv = ["upright-bolt", *words]
    from upright_bolt.cli import run

    sys.exit(run(words))


def run_command(words: list[str], timeout: float, environment: Mapping[str, str] | None = None):
    """Run the command to its end and return what came of it, as ``subprocess.run`` does with text captured."""
    with tempfile.NamedTemporaryFile("r") as out, tempfile.NamedTemporaryFile("r") as err:
        process = _FORKS.Process(target=_run, args=(words, dict(environment or os.environ), out.name, err.name))
        process.start()
        process.join(timeout)
        if process.exitcode is None:
            process.kill()
            process.join()
            raise subprocess.TimeoutExpired(words, timeout)
        return subprocess.CompletedProcess(words, process.exitcode, out.read(), err.read())
