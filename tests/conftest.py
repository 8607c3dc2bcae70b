from __future__ import annotations

import pytest
from hypothesis import HealthCheck, settings

# Time is measured in bench/, never in a test: a loaded machine is no failure.
settings.register_profile("default", deadline=None, max_examples=60, suppress_health_check=[HealthCheck.too_slow])
settings.load_profile("default")


def pytest_addoption(parser: pytest.Parser) -> None:
    parser.addoption(
        "--whole-matrix", action="store_true", help="try every fault at every state on every stack, not a selection"
    )
