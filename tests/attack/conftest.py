"""How hard the attacks are: a short form with all other tests, a long one with ``make attack``."""

import pytest


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    for item in items:
        if "/attack/" in str(item.path):
            item.add_marker(pytest.mark.attack)


@pytest.fixture
def times(request: pytest.FixtureRequest):
    """Choose how often an attack is repeated: ``times(short, long)``."""

    def choose(short: int, long: int) -> int:
        return long if request.config.getoption("--long") else short

    return choose
