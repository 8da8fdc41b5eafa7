"""How hard the attacks are: a short form with all other tests, a long one with ``make attack``."""

from pathlib import Path

import pytest

HERE = Path(__file__).parent


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    for item in items:
        if HERE in item.path.parents:
            item.add_marker(pytest.mark.attack)


def pytest_terminal_summary(terminalreporter) -> None:
    """Say how many inputs were tried."""
    cases = sum(
        value
        for report in terminalreporter.stats.get("passed", ())
        for name, value in getattr(report, "user_properties", ())
        if name == "cases"
    )
    if cases:
        terminalreporter.write_line(f"{cases} generated and mutated inputs")


@pytest.fixture
def times(request: pytest.FixtureRequest):
    """Choose how often an attack is repeated: ``times(short, long)``."""

    def choose(short: int, long: int) -> int:
        return long if request.config.getoption("--long") else short

    return choose
