from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from pathlib import Path

import pytest
from hypothesis import HealthCheck, settings

from fixed_anchor.standins.layout import lay_out
from tests.changes import OLD, Scene, shells

# Time is measured in bench/, never in a test: a loaded machine is no failure.
settings.register_profile("default", deadline=None, max_examples=60, suppress_health_check=[HealthCheck.too_slow])
settings.load_profile("default")


@pytest.fixture(autouse=True, scope="session")
def _state_folder(tmp_path_factory: pytest.TempPathFactory) -> Iterator[None]:
    """The records of runs of all tests are in a folder of their own, never in that of whoever runs them."""
    with pytest.MonkeyPatch.context() as patched:
        patched.setenv("XDG_STATE_HOME", str(tmp_path_factory.mktemp("state")))
        yield


def pytest_addoption(parser: pytest.Parser) -> None:
    parser.addoption(
        "--whole-matrix", action="store_true", help="try every fault at every state on every stack, not a selection"
    )


@pytest.hookimpl(tryfirst=True)
def pytest_collection_modifyitems(config: pytest.Config, items: list[pytest.Item]) -> None:
    """Without ``--whole-matrix`` rows beyond the cover are left out, and of long modules all but one in so many.

    What is left is mixed: whichever workers share the tests, they do not all do the same kind of work at once.
    """
    if not config.getoption("--whole-matrix"):
        _take_the_cover(config, items)
    items[:] = _mixed(items)


def _take_the_cover(config: pytest.Config, items: list[pytest.Item]) -> None:
    left_out = [item for item in items if item.get_closest_marker("beyond_cover")]
    seen: Counter[str] = Counter()
    for item in items:
        mark = item.get_closest_marker("one_in")
        if mark is not None and not item.get_closest_marker("beyond_cover"):
            module = item.nodeid.partition("::")[0]
            # Stacks are five and come in turn: the next function of a module has others than this one.
            if seen[module] % mark.args[0]:
                left_out.append(item)
            seen[module] += 1
    config.hook.pytest_deselected(items=left_out)
    out = set(left_out)
    items[:] = [item for item in items if item not in out]


def _mixed(items: list[pytest.Item]) -> list[pytest.Item]:
    """The lab's tests, which wait for daemons, and those that start one PowerShell after the other, among the rest."""
    groups: dict[str, list[pytest.Item]] = {}
    for item in items:
        kind = "windows" if "windows" in item.path.name else item.path.parent.name
        groups.setdefault(kind, []).append(item)
    placed = [((n + 0.5) / len(group), item) for group in groups.values() for n, item in enumerate(group)]
    return [item for _, item in sorted(placed, key=lambda one: one[0])]


@pytest.fixture
def site(tmp_path: Path) -> Path:
    """The folder of the demo's site, laid out afresh."""
    lay_out(tmp_path / "site")
    return tmp_path / "site"


@pytest.fixture(params=[*shells(), None], ids=lambda s: s or "stand-in")
def scene(request: pytest.FixtureRequest, tmp_path: Path) -> Iterator[Scene]:
    """A host that is a folder, with one file; its engine runs under each shell, and is the stand-in's."""
    made = _scene(tmp_path, request.param)
    yield made
    made.moved_as_the_table_says()


@pytest.fixture(params=shells())
def real(request: pytest.FixtureRequest, tmp_path: Path) -> Iterator[Scene]:
    """The same without the stand-in, which has no processes, sessions or disks of its own."""
    made = _scene(tmp_path, request.param)
    yield made
    made.moved_as_the_table_says()


def _scene(folder: Path, shell: str | None) -> Scene:
    made = Scene(folder, shell)
    made.live("a").write_text(OLD)
    made.live("a").chmod(0o640)
    return made
