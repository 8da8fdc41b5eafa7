"""The journal: what is about to happen to a machine, on disk before it happens.

Append-only, one JSON object a line, flushed to the disk (fsync) before ``append`` returns. A crash can tear the
last line only; reading skips a torn line. An entry of kind ``begin`` opens a trial; ``kept``, ``put back`` and
``ended by restart`` close it.
"""

import json
import os
from dataclasses import asdict
from pathlib import Path
from typing import Any

from upright_bolt.model.trial import Trial

BEGIN, APPLIED, REFUSED, KEPT, PUT_BACK, RESTARTED, LEFT = (
    "begin", "applied", "refused", "kept", "put back", "ended by restart", "could not put back",
)  # fmt: skip
CLOSING = frozenset({REFUSED, KEPT, PUT_BACK, RESTARTED})


class Journal:
    """The journal of one machine."""

    def __init__(self, path: Path) -> None:
        self._path = path

    def append(self, kind: str, trial_id: str, at: str, **more: Any) -> None:  # noqa: ANN401 - JSON values
        """Write one entry and wait until it is on the disk."""
        new = not self._path.exists()
        self._path.parent.mkdir(parents=True, exist_ok=True)
        line = json.dumps({"kind": kind, "trial": trial_id, "at": at, **more}, ensure_ascii=False)
        with self._path.open("ab") as file:
            torn = file.tell() > 0 and not self._ends_whole()
            file.write((b"\n" if torn else b"") + line.encode() + b"\n")
            file.flush()
            os.fsync(file.fileno())
        if new:
            _sync_folder(self._path.parent)

    def _ends_whole(self) -> bool:
        with self._path.open("rb") as file:
            file.seek(-1, os.SEEK_END)
            return file.read(1) == b"\n"

    def begin(self, trial: Trial, at: str) -> None:
        """Open a trial, or widen the open one, before its first write."""
        self.append(BEGIN, trial.id, at, data=asdict(trial))

    def entries(self) -> list[dict[str, Any]]:
        """Return every readable entry, oldest first."""
        try:
            lines = self._path.read_bytes().splitlines()
        except FileNotFoundError:
            return []
        found = []
        for line in lines:
            try:
                entry = json.loads(line)
            except ValueError:
                continue
            if isinstance(entry, dict) and {"kind", "trial"} <= entry.keys():
                found.append(entry)
        return found

    def open_trial(self) -> Trial | None:
        """Return the trial that was begun and not ended, or None."""
        return self._open()[0]

    def half_done(self) -> bool:
        """Tell whether the program died between beginning the open trial, or widening it, and having it in force."""
        trial, applied = self._open()
        return trial is not None and not applied

    def _open(self) -> tuple[Trial | None, bool]:
        current: Trial | None = None
        applied = False
        for entry in self.entries():
            if entry["kind"] == BEGIN:
                current, applied = Trial(**entry["data"]), False
            elif entry["kind"] == APPLIED:
                applied = True
            elif current is not None and entry["trial"] == current.id and entry["kind"] in CLOSING:
                current = None
        return current, applied


def _sync_folder(folder: Path) -> None:
    fd = os.open(folder, os.O_RDONLY)
    try:
        os.fsync(fd)
    finally:
        os.close(fd)
