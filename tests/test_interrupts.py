"""An interrupt ends a command in order wherever it comes, and waits while a module is loaded."""

import importlib
import signal
import sys
import time
from contextlib import suppress

import pytest

from upright_bolt.cli.interrupts import ending_in_order

LOADED = """
import signal
class Descriptor:
    def __set_name__(self, owner, name):
        signal.raise_signal(signal.SIGINT)
class Owner:
    field = Descriptor()  # an exception in here would become a RuntimeError
whole = True
"""


@pytest.fixture
def interrupted_module(tmp_path, monkeypatch):
    (tmp_path / "interrupted_while_loaded.py").write_text(LOADED)
    monkeypatch.syspath_prepend(tmp_path)
    yield "interrupted_while_loaded"
    sys.modules.pop("interrupted_while_loaded", None)


def loading(name, waiting_s):
    with ending_in_order():
        importlib.import_module(name)
        time.sleep(waiting_s)


def test_an_interrupt_waits_until_a_module_is_loaded(interrupted_module):
    with pytest.raises(KeyboardInterrupt):
        loading(interrupted_module, waiting_s=60.0)
    assert sys.modules[interrupted_module].whole


@pytest.mark.parametrize("number", [signal.SIGINT, signal.SIGTERM, signal.SIGHUP])
def test_signals_end_what_goes_on_and_do_afterwards_what_they_did(number):
    before = signal.getsignal(number)
    with pytest.raises(KeyboardInterrupt), ending_in_order():
        signal.raise_signal(number)
    assert signal.getsignal(number) is before


@pytest.mark.parametrize("number", [signal.SIGINT, signal.SIGTERM, signal.SIGHUP])
def test_a_signal_that_was_ignored_stays_so(number):
    before = signal.signal(number, signal.SIG_IGN)
    try:
        with ending_in_order():
            signal.raise_signal(number)
    finally:
        signal.signal(number, before)


def test_an_interrupt_that_waited_does_not_come_when_all_is_over(interrupted_module):
    with suppress(KeyboardInterrupt):
        loading(interrupted_module, waiting_s=0.0)
    time.sleep(0.05)
    assert signal.getitimer(signal.ITIMER_REAL) == (0.0, 0.0)
