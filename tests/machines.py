"""Machines that exist only in a test: what their commands print, and files in a mapping or a folder."""

from __future__ import annotations

import subprocess
from collections.abc import Mapping
from fnmatch import fnmatchcase
from pathlib import Path

from fixed_anchor.change.access import Rights, Session
from fixed_anchor.change.files import FileText
from fixed_anchor.core.elsewhere import Spelling
from fixed_anchor.core.survey import SurveyedInterface
from fixed_anchor.machines.fetched import Fetched, one_by_one
from fixed_anchor.machines.files import DiskFiles
from fixed_anchor.machines.readable import Ran, Wanted, not_asked
from fixed_anchor.machines.search import Found, lines_naming
from fixed_anchor.machines.store import ShellStore
from fixed_anchor.vantages.nowhere import Nowhere
from fixed_anchor.vantages.protocol import Vantage


class Plain(ShellStore):
    """What no test asks of a machine: no vantage, no session, and a change may be made."""

    name, running, state_dir = "tide-db", True, "/var/lib/fixed-anchor"
    is_afar, windows = False, None
    rights, session = Rights(), Session()

    def fetch(self, wanted: Wanted) -> Fetched:
        return one_by_one(self, wanted)  # type: ignore[arg-type]

    def knows(self, pattern: str) -> bool:
        return True

    def vantage(self, interface: SurveyedInterface) -> Vantage:
        return Nowhere("this machine is made up")

    def try_out(self, files: Mapping[str, str], argv: tuple[str, ...], timeout: float = 30.0) -> Ran:
        # Its parsers take what our own have taken.
        return Ran(0, "", "")

    def uptime(self) -> float:
        return 1000.0


class Told(Plain):
    """A machine that is what its commands print, by their words, its files, and its links."""

    def __init__(
        self,
        commands: Mapping[str, str],
        files: Mapping[str, str],
        links: Mapping[str, str] | None = None,
        asks_nothing_more: bool = False,
    ) -> None:
        self.asks_nothing_more = asks_nothing_more
        self.commands = commands
        self.files = files
        self.links = links or {}

    def read(self, path: str) -> FileText | None:
        return FileText(path, self.files[path]) if path in self.files else None

    def glob(self, pattern: str) -> list[str]:
        return sorted(path for path in self.files if fnmatchcase(path, pattern))

    def link_target(self, path: str) -> str | None:
        return self.links.get(path)

    def run(self, argv: tuple[str, ...], timeout: float = 30.0) -> Ran:
        out = self.commands.get(" ".join(argv))
        if out is None:
            return not_asked(argv) if self.asks_nothing_more else Ran(1, "", "")
        return Ran(0, out, "")

    def search(self, spelling: Spelling) -> Found:
        return Found(tuple(m for path, text in self.files.items() for m in lines_naming(spelling, path, text)))

    def folders(self, path: str) -> list[str]:
        return sorted({p.removeprefix(f"{path}/").split("/")[0] for p in self.files if p.startswith(f"{path}/")})

    def make_folder(self, path: str) -> bool:
        raise NotImplementedError

    def rename_folder(self, old: str, new: str) -> None:
        raise NotImplementedError

    def put(self, path: str, data: bytes, mode: int = 0o600) -> None:
        raise NotImplementedError


class OnDisk(DiskFiles, Plain):
    """A machine with real files, whose commands run here in an environment of the test's own."""

    def __init__(self, root: Path, state_dir: str, environment: dict[str, str]) -> None:
        super().__init__(root)
        self.state_dir = state_dir
        self.environment = environment

    def run(self, argv: tuple[str, ...], timeout: float = 30.0) -> Ran:
        done = subprocess.run(argv, capture_output=True, text=True, check=False, timeout=timeout, env=self.environment)
        return Ran(done.returncode, done.stdout, done.stderr)


class ToldOnDisk(OnDisk):
    """A machine with real files, whose commands print what the test says."""

    def __init__(self, root: Path, commands: Mapping[str, str]) -> None:
        super().__init__(root, "/var/lib/fixed-anchor", {})
        self.commands = commands

    def run(self, argv: tuple[str, ...], timeout: float = 30.0) -> Ran:
        out = self.commands.get(" ".join(argv))
        return Ran(1, "", "") if out is None else Ran(0, out, "")


def one_link(*held: str, leased: bool = True, name: str = "eth0") -> dict[str, str]:
    """What a kernel with one link says of itself, with these addresses (IPv4, with their prefix)."""
    infos = ", ".join(
        f'{{"family": "inet", "local": "{a.partition("/")[0]}", "prefixlen": {a.partition("/")[2]}, "scope": "global"'
        + (', "dynamic": true, "valid_life_time": 3000' if leased else "")
        + "}"
        for a in held
    )
    return {
        "ip -j -d address show": f'[{{"ifname": "{name}", "ifindex": 2, "address": "00:00:5e:00:53:11", '
        f'"link_type": "ether", "operstate": "UP", "addr_info": [{infos}]}}]',
        "ip -j route show": "[]",
        "ip -j -6 route show": "[]",
    }
