"""The decoders again, with input that coverage leads (atheris): ``python coverage_guided.py RUNS``.

Each decoder is a process of its own, since the fuzzer ends its process. Without atheris it says so and ends well.
"""

import importlib.util
import os
import subprocess
import sys
import tempfile
from contextlib import suppress
from pathlib import Path

TESTS = Path(__file__).resolve().parents[1]


def journal(folder: Path, data: bytes) -> None:
    from upright_bolt.errors import CorruptData
    from upright_bolt.settings.journal import Journal

    with suppress(CorruptData):
        Journal(Path("journal")).log.entry(data)
    (folder / "journal").write_bytes(data)
    with suppress(CorruptData):
        Journal(folder / "journal").read()


def capture(folder: Path, data: bytes) -> None:
    import gzip

    from upright_bolt.captures.reader import members
    from upright_bolt.errors import BoltError

    path = folder / "c.tar.gz"
    path.write_bytes(data if data[:1] == b"\x1f" else gzip.compress(data, 1))
    with suppress(BoltError):
        for _ in members(path):
            pass


def runs(folder: Path, data: bytes) -> None:
    from upright_bolt.errors import BoltError
    from upright_bolt.store.exchange import _check, _read

    path = folder / "runs.json"
    path.write_bytes(data)
    with suppress(BoltError):
        for run in _read(path):
            _check(run, "run")


def answers(folder: Path, data: bytes) -> None:
    from upright_bolt.errors import BoltError
    from upright_bolt.service import wire

    text = data.decode("utf-8", "replace")
    for read in (wire.read_description, wire.read_controls, wire.read_status, wire.read_trial, wire.read_report):
        with suppress(BoltError):
            read(text)


def bus(folder: Path, data: bytes) -> None:
    import asyncio

    sys.path.insert(0, str(TESTS / "attack"))
    from hammering import fed

    asyncio.run(fed(data))


TARGETS = {made.__name__: made for made in (journal, capture, runs, answers, bus)}


def seeds(folder: Path) -> None:
    """Write good input for each decoder, made by running, to start from."""
    sys.path.insert(0, str(TESTS))
    from support import SimulatedSession, fresh_machine
    from upright_bolt.captures.archive import collect, write
    from upright_bolt.service import wire
    from upright_bolt.simulator.machine import SimulatedClock
    from upright_bolt.store.exchange import export_json

    session = SimulatedSession(folder / "data")
    access = session.session.access
    session.session.try_settings({"epp": 96.0}, standing=True)
    session.run(20.0)
    for name in TARGETS:
        (folder / name).mkdir()
    export_json(session.store, [1], folder / "runs/good")
    for number, text in enumerate((wire.describe(access.about, None), wire.controls(access.controls()),
                                   wire.status(access.status(), 0), wire.trial(access.status().trial))):  # fmt: skip
        (folder / f"answers/{number}").write_text(text)
    lines = (folder / "data/machines/twin-tern/journal").read_bytes().splitlines()
    for number, line in enumerate(lines):
        (folder / f"journal/{number}").write_bytes(line)
    twin = fresh_machine()
    write(collect(twin.files, twin.registers, SimulatedClock(twin)), folder / "capture/good")
    session.session.revert()
    session.close()


def fuzz(name: str, count: int, corpus: str) -> None:
    """Let the fuzzer have one decoder; the process ends with it."""
    import atheris

    folder = Path(tempfile.mkdtemp())
    with atheris.instrument_imports(include=["upright_bolt"]):
        TARGETS[name](folder, b"")
    words = [sys.argv[0], f"-atheris_runs={count}", "-timeout=10", "-rss_limit_mb=1024", "-max_len=8192",
             "-verbosity=0", f"-artifact_prefix={folder}/", corpus]  # fmt: skip
    atheris.Setup(words, lambda data: TARGETS[name](folder, data))
    atheris.Fuzz()


def main() -> int:
    """Fuzz each decoder for so many runs; return how many failed."""
    count = int(sys.argv[1])
    if importlib.util.find_spec("atheris") is None:
        print("atheris is not installed here: the coverage-guided part is left out.")
        return 0
    failed = 0
    corpus = Path(tempfile.mkdtemp())
    seeds(corpus)
    for name in TARGETS:
        done = subprocess.run([sys.executable, __file__, str(count), name, str(corpus / name)], check=False)
        print(f"{name}: {count} coverage-guided inputs, {'no fault' if done.returncode == 0 else 'FAILED'}", flush=True)
        failed += done.returncode != 0
    return failed


if __name__ == "__main__":
    os.environ.setdefault("PYTHONPATH", str(TESTS))
    if len(sys.argv) > 2:
        fuzz(sys.argv[2], int(sys.argv[1]), sys.argv[3])
    else:
        sys.exit(main())
