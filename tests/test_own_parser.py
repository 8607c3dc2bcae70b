"""What is asked of a host's own parser, and how its words are told: its place is that of the drafted line."""

from __future__ import annotations

import shutil
from collections.abc import Mapping
from pathlib import Path

import pytest

from fixed_anchor.change.files import FileEdit, FileText
from fixed_anchor.core.config import LinkFacts
from fixed_anchor.core.survey import HostSurvey, SurveyedInterface
from fixed_anchor.daemons.protocol import COPY
from fixed_anchor.machines.here import Here
from fixed_anchor.machines.readable import Ran
from fixed_anchor.machines.tree import Tree
from fixed_anchor.workflow.linux.own_parser import tried

NETPLAN = "/etc/netplan/50-tide.yaml"
INTERFACES = "/etc/network/interfaces"
YAML = "network:\n  version: 2\n  ethernets:\n    eth0:\n      dhcp4: true\n"
AFTER = YAML.replace("dhcp4: true", "dhcp4: false\n      addresses: [203.0.113.20/24]")


class Parser(Tree):
    """A host whose parser says ``ran`` of what it is asked."""

    running = True

    def __init__(self, root: Path, ran: Ran) -> None:
        super().__init__(root)
        self.name = "tide-db"
        self.ran = ran
        self.asked: list[tuple[dict[str, str], tuple[str, ...]]] = []

    def try_out(self, files: Mapping[str, str], argv: tuple[str, ...], timeout: float = 30.0) -> Ran:
        self.asked.append((dict(files), argv))
        return self.ran


def host(root: Path, files: dict[str, str], ran: Ran) -> Parser:
    for path, text in files.items():
        target = root / path.lstrip("/")
        target.parent.mkdir(parents=True, exist_ok=True)
        target.write_text(text)
    return Parser(root, ran)


def survey(stack: str) -> HostSurvey:
    return HostSurvey("tide-db", stack, (), (SurveyedInterface(LinkFacts("eth0"), "up", stack=stack),))


def edit(path: str, before: str, after: str) -> tuple[FileEdit, ...]:
    return (FileEdit(path, FileText(path, before), FileText(path, after)),)


def test_netplan_reads_a_copy_of_all_its_files(tmp_path: Path) -> None:
    beside = "/etc/netplan/60-wharf.yaml"
    machine = host(tmp_path, {NETPLAN: YAML, beside: YAML.replace("eth0", "eth1")}, Ran(0, "", ""))
    assert tried(machine, survey("netplan"), edit(NETPLAN, YAML, AFTER)).refusal is None
    ((files, argv),) = machine.asked
    assert files == {NETPLAN: AFTER, beside: YAML.replace("eth0", "eth1")}
    assert argv == ("netplan", "generate", "--root-dir", COPY)


@pytest.mark.parametrize(
    ("said", "place", "words"),
    [
        (
            "/tmp/x.1/etc/netplan/50-tide.yaml:6:7: Error in network definition: unknown key 'adresses'\n"
            "      adresses: []\n      ^\n",
            f"{NETPLAN}:6 as drafted, `addresses: [203.0.113.20/24]`",
            "Error in network definition: unknown key 'adresses'",
        ),
        # What is beside the point, and control characters, are not told.
        (
            "Cannot call openvswitch: ovsdb-server.service is not running.\n\x1b[31mno such renderer\x07\n",
            "files of tide-db as drafted",
            "no such renderer",
        ),
        ("", "files of tide-db as drafted", "status 1"),
        # A line beyond the end of the file is nobody's.
        (f"/tmp/x{NETPLAN}:99:1: end of file\n", "files of tide-db as drafted", "end of file"),
    ],
)
def test_the_words_of_netplan(tmp_path: Path, said: str, place: str, words: str) -> None:
    machine = host(tmp_path, {NETPLAN: YAML}, Ran(1, "", said))
    refusal = tried(machine, survey("netplan"), edit(NETPLAN, YAML, AFTER)).refusal
    assert refusal is not None
    assert refusal.seen_in == place
    assert words in refusal.message
    assert "\x1b" not in refusal.message
    assert "/tmp/" not in refusal.message


def test_sourced_files_stand_where_they_are_named(tmp_path: Path) -> None:
    """And what is said of their lines is said of the files that they are from."""
    main = "auto lo\nsource /etc/network/interfaces.d/*\nsource-directory /etc/network/more.d\niface eth0 inet dhcp\n"
    wharf, yard = "/etc/network/interfaces.d/wharf", "/etc/network/interfaces.d/yard"
    files = {INTERFACES: main, wharf: "auto eth8\niface eth8 inet nonsense\n", yard: f"source {wharf}\nauto eth9\n"}
    said = "ifup: /tmp/x/etc/network/interfaces:3: unknown method\nifup: couldn't read interfaces file\n"
    machine = host(tmp_path, files, Ran(1, "", said))
    after = main.replace("inet dhcp", "inet static")
    refusal = tried(machine, survey("ifupdown"), edit(INTERFACES, main, after)).refusal
    ((copied, argv),) = machine.asked
    whole = f"auto lo\n{files[wharf]}{files[wharf]}auto eth9\niface eth0 inet static\n"
    assert copied == {INTERFACES: whole}
    assert argv[:4] == ("ifup", "--no-act", "--force", "--no-mappings")
    assert refusal is not None
    assert refusal.seen_in == f"{wharf}:2 as drafted, `iface eth8 inet nonsense`"
    assert "ifup: unknown method" in refusal.message


def test_ifup_is_asked_of_what_the_files_declare(tmp_path: Path) -> None:
    """A guest's port on a bridge belongs to ifupdown without a stanza; what ifup would run is no reason."""
    text = "auto lo br0\niface lo inet loopback\niface br0 inet dhcp\n    bridge_ports eth0\n"
    said = "run-parts /etc/network/if-pre-up.d\nip link set dev br0 up\nifup: missing variable: address\n"
    machine = host(tmp_path, {INTERFACES: text}, Ran(1, "", said))
    links = tuple(SurveyedInterface(LinkFacts(n), "up", stack="ifupdown") for n in ("lo", "eth0", "br0", "vnet0"))
    found = tried(machine, HostSurvey("tide-db", "ifupdown", (), links), edit(INTERFACES, text, text + "\n"))
    assert machine.asked[0][1][-2:] == ("lo", "br0")
    assert found.refusal is not None
    assert found.refusal.message.endswith("as drafted: ifup: missing variable: address")


@pytest.mark.parametrize(
    "ran",
    [
        Ran(None, "", "ifup: nobody asked"),
        Ran(127, "", "netplan: not found"),
        Ran(126, "", "no permission"),
        Ran(124, "", ""),
        Ran(1, "", "open: Permission denied\n"),
    ],
)
def test_a_parser_that_could_not_be_asked_refuses_nothing(tmp_path: Path, ran: Ran) -> None:
    found = tried(host(tmp_path, {NETPLAN: YAML}, ran), survey("netplan"), edit(NETPLAN, YAML, AFTER))
    assert (found.refusal, "could not be asked" in found.why_not) == (None, True)


@pytest.mark.parametrize(
    ("said", "refused"),
    [
        ("warning: br0: bridge inherits mtu from its ports. There is no need to assign mtu on a bridge\n", False),
        ("warning: x\nerror: /tmp/x/etc/network/interfaces: line1: iface eth0: unsupported address method 'x'\n", True),
    ],
)
def test_a_warning_of_ifupdown2_is_no_refusal(tmp_path: Path, said: str, refused: bool) -> None:
    text = "iface eth0 inet dhcp\n"
    machine = host(tmp_path, {INTERFACES: text}, Ran(1, "", said))
    found = tried(machine, survey("ifupdown2"), edit(INTERFACES, text, text.replace("dhcp", "static")))
    assert (found.refusal is not None) is refused
    if found.refusal is not None:
        assert found.refusal.seen_in == f"{INTERFACES}:1 as drafted, `iface eth0 inet static`"


def test_what_is_no_matter_of_it_is_not_tried(tmp_path: Path) -> None:
    machine = host(tmp_path, {NETPLAN: YAML}, Ran(1, "", "no"))
    assert not tried(machine, survey("netplan"), edit("/etc/hostname", "a\n", "b\n")).refusal
    assert not tried(machine, survey("networkd"), edit(NETPLAN, YAML, AFTER)).refusal
    assert machine.asked == []


def test_a_tree_has_no_parser(tmp_path: Path) -> None:
    host(tmp_path, {NETPLAN: YAML}, Ran(0, "", ""))
    assert "nothing runs there" in tried(Tree(tmp_path), survey("netplan"), edit(NETPLAN, YAML, AFTER)).why_not


def test_a_copy_here_is_private_and_goes() -> None:
    script = 'stat -c "%a %n" "$1" "$1/etc/netplan/a b"; cat "$1/etc/netplan/a b"; echo said >&2; exit 3'
    ran = Here().try_out({"/etc/netplan/a b": "secret: x\n"}, ("sh", "-c", script, "sh", COPY))
    (first, second, text) = ran.out.splitlines()
    folder = Path(first.split(" ", 1)[1])
    assert (first[:3], second[:3], text) == ("700", "600", "secret: x")
    assert (ran.status, ran.err, folder.exists()) == (3, "said\n", False)
    assert shutil.which("sh")
