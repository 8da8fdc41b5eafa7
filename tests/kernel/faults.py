"""Plants faults in the program, one at a time, and looks whether the short form of the checks notices each.

``python faults.py [NAME …]``. A fault is a text of one file and what takes its place; one that does not apply any more
is an error. Each is planted in a copy of the project, so nothing here changes. Ends with 1 if one was not noticed.
"""

import os
import shutil
import subprocess
import sys
import tempfile
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path

from run import folder

PROJECT = Path(__file__).resolve().parents[2]
AT_ONCE = 2
PACKAGE = "src/upright_bolt"


@dataclass(frozen=True, slots=True)
class Fault:
    """One fault.

    Attributes:
        name: what is wrong then.
        scenario: the scenario that has to notice it.
        check: the function in it that does, after those that it needs.
        file: where, below the package.
        right: the text there.
        wrong: what takes its place.
    """

    name: str
    scenario: str
    check: str
    file: str
    right: str
    wrong: str


FAULTS = (
    Fault("paths with a colon are not watched", "enforce", "every_control", "kernel/changes/real.py",
          "if not paths.is_register(path)}", "if ':' not in path}"),
    Fault("registers are not watched", "enforce", "every_control", "kernel/changes/real.py",
          "wanted.update(self._register_devices())", "pass"),
    Fault("writers are not named", "enforce", "every_control", "profiles/drift_restorer.py",
          "return Cause.PROGRAM, next((who for who in writers if who), \"\")", "return Cause.PROGRAM, \"\""),
    Fault("every change is blamed on the firmware", "enforce", "every_control", "profiles/drift_restorer.py",
          "        if writers:\n            return Cause", "        if not files:\n            return Cause"),
    Fault("enforcement never gives up", "enforce", "fight", "profiles/drift_restorer.py",
          "return len(self.times_s) >= MOST", "return False"),
    Fault("what is suspended is still watched", "enforce", "fight", "profiles/reconciler.py",
          "if not self.restorer.is_suspended(name)]", "]"),
    Fault("drivers that come and go are not followed", "enforce", "driver_loaded_anew", "profiles/reconciler.py",
          "        self._see_what_moved()\n", ""),
    Fault("uevents of drivers are not listened to", "enforce", "driver_loaded_anew", "kernel/changes/real.py",
          "\"module\": ChangeKind.DRIVERS,", ""),
    Fault("uevents of power zones are not listened to", "enforce", "power_driver_bound_anew", "kernel/changes/real.py",
          "\"platform\": ChangeKind.DRIVERS, \"powercap\": ChangeKind.DRIVERS,", ""),
    Fault("stock forgets processors that are offline", "enforce", "stock_while_offline", "settings/stock_plan.py",
          "*backend.offline_files(name, known)", ""),
    Fault("processors that missed a setting are forgotten", "enforce", "set_while_offline", "settings/pending.py",
          "self._missed |= self._backend.offline()", "pass"),
    Fault("waking is ignored", "enforce", "waking", "profiles/reconciler.py",
          "elif change.kind is ChangeKind.WAKE:\n                self._woken = True",
          "elif change.kind is ChangeKind.WAKE:\n                continue"),
    Fault("what no longer holds is kept", "enforce", "slept", "settings/engine.py",
          "gone = () if just_applied else self.drift(self.trial.settings)", "gone = ()"),
    Fault("an unclean boot raises no suspicion", "enforce", "unclean", "profiles/start.py",
          "settling is not None and settling.boot_id not in (boot_id, clean)", "settling is None and boot_id == clean"),
    Fault("the boot word is ignored", "enforce", "boot_word", "profiles/reconciler.py",
          "            if OFF_WORD in self._ports", "            if OFF_WORDS in self._ports"),
    Fault("a profile is said to be applied under the boot word", "enforce", "boot_word", "profiles/engine.py",
          "now.wanted if now.active and not reconciler.off else", "now.wanted if now.active else"),
    Fault("offsets are applied without validation", "enforce", "unclean", "profiles/plan.py",
          "    if declared.risky and doubts.suspects:\n        return doubts.suspects\n", ""),
    Fault("what is owed to a processor is never reverted", "clocks", "put_back_offline", "settings/pending.py",
          "left = backend.restore(sound)", "left = ()"),
    Fault("a cap of the firmware is frozen in", "clocks", "trial_under_a_cap", "settings/backend.py",
          "        return texts | hidden\n", "        return texts\n"),
    Fault("clock bounds are written the wrong way round", "clocks", "every_order", "settings/apply.py",
          "if isinstance(top, float) and float(settings[low]) > top:",
          "if isinstance(top, float) and float(settings[low]) <= top:"),
    Fault("reverting leaves the last file", "clocks", "governor", "settings/backend.py",
          "for path in left:\n                try", "for path in left[:-1]:\n                try"),
    Fault("uevents do not wake the service", "platform", "held_by_events", "kernel/changes/real.py",
          "epoll.register(self._monitor.fileno(), select.EPOLLIN)", "pass"),
    Fault("the limiter's other bits are not reverted", "power", "module_loaded,limiter_coupled", "kernel/paths.py",
          "LIMIT_SWITCHES[1]: (0x610, 48, 47),", "LIMIT_SWITCHES[1]: (0x610, 47, 47),"),
    Fault("lockdown is not recognised", "power", "module_loaded,lockdown", "kernel/registers.py",
          "if lockdown and \"[none]\" not in lockdown:", "if lockdown == \"none\":"),
)  # fmt: skip


def planted(fault: Fault, into: Path) -> None:
    """Copy the project with a fault in it. Raises SystemExit if it does not apply."""
    shutil.copytree(PROJECT, into, ignore=shutil.ignore_patterns(".git", ".venv", "__pycache__", "dist", "build"))
    file = into / PACKAGE / fault.file
    text = file.read_text()
    if fault.right not in text:
        raise SystemExit(f"“{fault.name}” does not apply any more: {fault.file} has no\n{fault.right}")
    file.write_text(text.replace(fault.right, fault.wrong))


def rig_beside(into: Path) -> None:
    """Let another rig use what the present one has made already."""
    into.mkdir()
    for path in folder().iterdir():
        if path.name.startswith(("kernel-", "root-", "registers-", "first-", "laptop-", "platform-")):
            (into / path.name).symlink_to(path)


def noticed(fault: Fault) -> tuple[Fault, str]:
    """Return the fault, and which checks have failed with it; nothing if none has."""
    with tempfile.TemporaryDirectory(prefix="planted-") as name:
        place = Path(name)
        planted(fault, place / "project")
        rig_beside(place / "rig")
        done = subprocess.run(
            [sys.executable, str(place / "project/tests/kernel/run.py"), fault.scenario, "--only", fault.check],
            env={**os.environ, "UPRIGHT_BOLT_RIG": str(place / "rig")}, capture_output=True, text=True, check=False,
        )  # fmt: skip
    failed = [line.split(" s  ", 1)[-1] for line in done.stdout.splitlines() if " FAILED " in line]
    if done.returncode and not failed:
        return fault, f"(the run itself failed: {done.stderr[-300:]})"
    return fault, "; ".join(failed)


def main(names: list[str]) -> int:
    """Plant what is asked for, and return the exit code."""
    asked = [fault for fault in FAULTS if not names or any(name in fault.name for name in names)]
    missed = 0
    with ThreadPoolExecutor(AT_ONCE) as pool:
        for fault, by in pool.map(noticed, asked):
            missed += not by
            print(f"{'noticed' if by else 'MISSED':8} {fault.name}\n         {by}", flush=True)
    print(f"\n{len(asked) - missed} of {len(asked)} noticed.")
    return 1 if missed else 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
