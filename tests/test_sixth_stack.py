"""A sixth stack is two modules and two registry lines: here they are, and a tree is surveyed, drafted and restored."""

from __future__ import annotations

from pathlib import Path

import pytest

from fixed_anchor.change import states
from fixed_anchor.change.change import Terms
from fixed_anchor.change.files import Files, FileText
from fixed_anchor.change.steps import Steps
from fixed_anchor.core.addresses import default_network, parse_address, parse_interface_address
from fixed_anchor.core.aside import Aside
from fixed_anchor.core.config import InterfaceConfig, LinkFacts, Place, Route
from fixed_anchor.core.errors import InputError
from fixed_anchor.daemons import DAEMONS, busy_patterns, units
from fixed_anchor.daemons.protocol import IN_FILES, Governs, Questions, Seen, runs
from fixed_anchor.engine.boot import boot_files
from fixed_anchor.formats import FORMATS
from fixed_anchor.formats.protocol import Declaration, Texts
from fixed_anchor.machines.collected import collector_source
from fixed_anchor.machines.readable import Ran
from fixed_anchor.machines.tree import Tree
from fixed_anchor.observe.stocktaking import take_stock
from fixed_anchor.planfile.reader import read_plan
from fixed_anchor.standins.linux_engine import LinuxStandinEngine
from fixed_anchor.text.lines import LineEditor
from fixed_anchor.workflow.linux.draft_files import draft_host
from fixed_anchor.workflow.linux.linux_host import LinuxHost
from tests.machines import OnDisk, one_link

# --- the two modules ---------------------------------------------------------------------


class Moorings:
    """The format: ``/etc/moorings/*.line``, one interface a file, one fact a line."""

    name = "moorings"
    patterns: tuple[str, ...] = ("/etc/moorings/*.line",)
    mode_taken, mode_given, created = 0, 0, 0o644
    undeclared = "write `lease yes` into /etc/moorings/NAME.line first"
    all_or_nothing = False
    run_wins = False
    time_daemon, has_fallback = "", False

    def check(self, file: FileText) -> None:
        self._read({file.path: file}, LinkFacts(file.path.rpartition("/")[2].removesuffix(".line")))

    def read(self, files: Files, links: tuple[LinkFacts, ...]) -> tuple[Declaration, ...]:
        return tuple(found for link in links if (found := self._read(files, link)) is not None)

    def _read(self, files: Files, link: LinkFacts) -> Declaration | None:
        path = f"/etc/moorings/{link.name}.line"
        if path not in files:
            return None
        said: dict[str, list[str]] = {}
        for number, line in enumerate(files[path].text.splitlines(), 1):
            key, _, value = line.partition(" ")
            if key and not key.startswith("#"):
                if key not in ("lease", "address", "gateway", "resolver"):
                    raise InputError(f"{key!r} is no fact", file=path, line=number)
                said.setdefault(key, []).append(value)
        leased = said.get("lease") == ["yes"]
        config = InterfaceConfig(
            link.name,
            ipv4="dhcp" if leased else "fixed" if "address" in said else "off",
            ipv6="off",
            addresses=tuple(map(parse_interface_address, said.get("address", ()))),
            routes=tuple(Route(default_network(4), parse_address(g)) for g in said.get("gateway", ())),
            resolvers=tuple(map(parse_address, said.get("resolver", ()))) or None,
        )
        return Declaration(link, config, "mooringd", (Place(path, 1),))

    def asides(self, files: Files, links: tuple[LinkFacts, ...]) -> tuple[Aside, ...]:
        return ()

    def named(self, files: Files) -> dict[str, str]:
        lines = [path.rpartition("/")[2] for path in sorted(files) if path.endswith(".line")]
        return {name.removesuffix(".line"): "ethernet" for name in lines}

    def edit(
        self,
        files: Files,
        declared: Declaration,
        wanted: InterfaceConfig,
        todo: tuple[str, ...],
        links: tuple[LinkFacts, ...],
    ) -> Texts:
        editor = LineEditor(files[declared.file].text)
        for number, line in enumerate(editor.lines):
            if line.split(" ")[0] in ("lease", "address", "gateway", "resolver"):
                editor.drop(number)
        editor.append(["lease " + ("yes" if wanted.ipv4 == "dhcp" else "no")])
        editor.append(f"address {address}" for address in wanted.addresses)
        editor.append(f"gateway {route.next_hop}" for route in wanted.default_routes(4))
        editor.append(f"resolver {resolver}" for resolver in wanted.resolvers or ())
        return {declared.file: editor.result()}

    def names_files(self, files: Files) -> tuple[str, ...]:
        return ()

    def others(self, files: Files, declared: Declaration) -> object:
        return None


class Mooringd:
    """The daemon, told by ``mooringctl``."""

    name, unit = "mooringd", "mooringd.service"
    own_client, numbers_metrics, joins_resolvers = False, False, False
    busy: tuple[str, ...] = ("mooringctl (load|cast-off)",)
    charge = Questions(commands=(("mooringctl", "lines"),))
    further = Questions(files=("/run/moorings/lease.*",))

    def governs(self, interface: str, seen: Seen) -> Governs:
        lines = seen.outputs.get(("mooringctl", "lines"), "").split()
        return Governs(seen.active and interface in lines, (runs(self.unit, seen.active),))

    def profile(self, interface: str, seen: Seen) -> tuple[str, ...]:
        return ()

    def resolver_place(self, writer: str) -> str:
        return IN_FILES

    def lease_file(self, interface: str) -> str | None:
        return None

    def steps(self, before: Declaration | None, after: Declaration | None, link: LinkFacts) -> Steps:
        load = (("mooringctl", "load", link.name),)
        return Steps(activate=load, reload=load, drop=load)


@pytest.fixture(autouse=True)
def sixth_stack(monkeypatch: pytest.MonkeyPatch) -> None:
    """The two registry lines."""
    monkeypatch.setitem(FORMATS, "moorings", Moorings())
    monkeypatch.setitem(DAEMONS, "mooringd", Mooringd())


# --- a tree with it ----------------------------------------------------------------------

LINE = "# quay, by hand\nlease yes\n"
PLAN = """\
plan: 1
segments:
  quay: {subnet: 203.0.113.0/24, gateway: 203.0.113.1, resolvers: [203.0.113.2], pools: []}
hosts:
  tide-db:
    interfaces:
      eth0: {mac: "00:00:5e:00:53:11", segment: quay, hold: 203.0.113.20}
"""
FIXED = (
    "# quay, by hand\n# was: lease yes\nlease no\naddress 203.0.113.20/24\ngateway 203.0.113.1\nresolver 203.0.113.2\n"
)


class Host(OnDisk):
    """A tree on which the daemon runs; the engine is the simulated one, and notes what it runs."""

    def __init__(self, root: Path) -> None:
        super().__init__(root, "/state", {})
        self.ran: list[str] = []

    def run(self, argv: tuple[str, ...], timeout: float = 30.0) -> Ran:
        if argv[0] == "/bin/sh":
            return Ran(*LinuxStandinEngine(self, self.root, self.local(argv[3])).verb(argv[2], (*argv[4:], "")[0]))  # type: ignore[arg-type]
        if argv[:2] == ("systemctl", "is-active"):
            return Ran(0, "".join("active\n" if unit == "mooringd.service" else "inactive\n" for unit in argv[2:]), "")
        out = (one_link("203.0.113.107/24") | {"mooringctl lines": "eth0\n"}).get(" ".join(argv))
        return Ran(127, "", "") if out is None else Ran(0, out, "")

    def command(self, argv: tuple[str, ...]) -> tuple[int, str, str]:
        self.ran.append(" ".join(argv))
        return 0, "", ""


@pytest.fixture
def root(tmp_path: Path) -> Path:
    for name in ("eth0", "eth1"):
        file = tmp_path / f"root/etc/moorings/{name}.line"
        file.parent.mkdir(parents=True, exist_ok=True)
        file.write_text(LINE)
    (tmp_path / "plan.yaml").write_text(PLAN)
    return tmp_path / "root"


def test_an_offline_tree_is_surveyed_and_drafted(root: Path) -> None:
    tree = Tree(root)
    survey = take_stock(tree)
    assert survey.stack == "moorings"
    assert [(i.name, i.declared and i.declared.ipv4, str(i.declared_in[0])) for i in survey.interfaces] == [
        (name, "dhcp", f"/etc/moorings/{name}.line:1") for name in ("eth0", "eth1")
    ]
    plan = read_plan(root.parent / "plan.yaml")
    draft = draft_host(plan, plan.hosts["tide-db"], tree, survey)
    (edit,) = draft.content.edits
    assert edit.after is not None
    assert (edit.path, edit.after.text) == ("/etc/moorings/eth0.line", FIXED)


def test_a_change_is_made_and_gone_back_behind(root: Path) -> None:
    host = Host(root)
    target = LinuxHost(host)
    survey = target.survey()
    assert survey.stack == "moorings"
    assert "mooringd.service runs" in survey.stack_evidence[0]
    plan = read_plan(root.parent / "plan.yaml")
    first = target.begin(target.draft(plan, plan.hosts["tide-db"], survey), Terms(60, False, {"interfaces": ["eth0"]}))
    assert (root / "etc/moorings/eth0.line").read_text() == FIXED
    target.decide(first, states.KEEP, "somebody")
    second = target.begin(target.restore_draft(first), Terms(60, False, {"interfaces": ["eth0"]}))
    target.decide(second, states.KEEP, "somebody")
    assert [target.status(number).state for number in target.numbers()] == [states.CONFIRMED] * 2
    assert (root / "etc/moorings/eth0.line").read_text() == (root / "etc/moorings/eth1.line").read_text() == LINE
    assert [line for line in host.ran if "mooring" in line] == ["mooringctl load eth0"] * 2


def test_the_shell_programs_know_it() -> None:
    text = collector_source()
    for said in ("run mooringctl lines", "/etc/moorings/*.line", "/run/moorings/lease.*", "mooringctl (load|cast-off)"):
        assert said in text
    assert units()["mooringd"] == "mooringd.service"
    assert "mooringctl (load|cast-off)" in busy_patterns()
    for init in ("systemd", "openrc"):
        assert b"mooringd" in boot_files(init, "/var/lib/fixed-anchor/changes/0001")["boot-unit"]
