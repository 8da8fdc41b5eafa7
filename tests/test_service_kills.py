"""The service killed with SIGKILL at every step of an apply, a keep and a putting back; the next one makes it whole."""

import signal
from pathlib import Path

import pytest

from support import contents_of, fresh_machine, write_tree
from upright_bolt.errors import BoltError
from upright_bolt.service.client import ServiceAccess

ASKED = {"sustained": 25.0, "burst": 30.0, "window": 10.0, "turbo": "off"}


def texts(root: Path) -> dict[str, bytes]:
    return {path: content.strip() for path, content in contents_of(root).items()}


def killed_after(bus, root, step, act) -> bool:
    """Let a service die after ``step`` of ``act``; return whether it did."""
    service = bus.start_service(on=f"tree:{root}", killed_at=step)
    access = ServiceAccess()
    died = False
    try:
        act(access)
    except BoltError:
        died = service.process.wait(10) == -signal.SIGKILL
    access._trying = False
    access.close()
    service.kill()
    return died


def settled(bus, root):
    """Start the next service and return what it reports: settings in force, status."""
    service = bus.start_service(on=f"tree:{root}")
    access = ServiceAccess()
    told = access.current_values(), access.status()
    access.close()
    service.end()
    return told


@pytest.mark.parametrize("standing", [False, True])
def test_an_apply_killed_at_any_step_leaves_the_machine_as_before_or_as_asked_and_reported(bus, tmp_path, standing):
    bus.start_polkit()
    root = write_tree(fresh_machine(), tmp_path / "tree")
    before = texts(root)
    for step in range(1, 40):
        if not killed_after(bus, root, step, lambda access: access.try_settings(ASKED, standing=standing)):
            break
        in_force, status = settled(bus, root)
        if status.trial is None:
            assert texts(root) == before, f"killed after step {step}"
            continue
        assert standing, f"a dead client's trial was left, killed after step {step}"
        assert {name: in_force[name] for name in ASKED} == ASKED == status.trial.settings
        revert(bus, root)
        assert texts(root) == before
    assert step >= 8, "too few steps to be an apply"
    revert(bus, root)
    assert texts(root) == before


def revert(bus, root):
    service = bus.start_service(on=f"tree:{root}")
    access = ServiceAccess()
    if access.status().trial is not None:
        access.revert("")
    access.close()
    service.end()


@pytest.mark.long
@pytest.mark.parametrize("standing", [False, True])
@pytest.mark.parametrize("ending", ["put back", "keep"])
def test_an_ending_killed_at_any_step_is_finished_by_the_next(bus, tmp_path, ending, standing):
    bus.start_polkit()
    root = write_tree(fresh_machine(), tmp_path / "tree")
    before = texts(root)

    asked = {"sustained": 25.0, "burst": 30.0}

    def act(access):
        access.try_settings(asked, standing=standing)
        access.keep() if ending == "keep" else access.revert("")

    for step in range(5, 60):
        if not killed_after(bus, root, step, act):
            break
        in_force, status = settled(bus, root)
        assert status.drift == ()
        if status.kept:
            assert ending == "keep"
            assert {name: in_force[name] for name in asked} == asked
            break
        if status.trial is None:
            assert texts(root) == before, f"killed after step {step}"
        else:
            assert standing
            assert status.trial.settings == asked
            revert(bus, root)
    assert step >= 6, "too few steps to be an apply and its end"
