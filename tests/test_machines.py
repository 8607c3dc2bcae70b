"""What machines promise: a new one is a module and a registry line, files stay in their root, nothing is guessed."""

from __future__ import annotations

import os
import sys
import threading
import types
from pathlib import Path

import pytest

from fixed_anchor import machines
from fixed_anchor.core.addresses import parse_address
from fixed_anchor.core.errors import NoAccess
from fixed_anchor.core.survey import SurveyedInterface
from fixed_anchor.disk.durable import write_beside
from fixed_anchor.machines.collected import Collected
from fixed_anchor.machines.fetched import Fetched, one_by_one
from fixed_anchor.machines.files import DiskFiles
from fixed_anchor.machines.here import Here
from fixed_anchor.machines.readable import Wanted
from fixed_anchor.machines.seat import Way
from fixed_anchor.machines.tree import Tree
from fixed_anchor.observe.stocktaking import take_stock
from fixed_anchor.packets.conversation import Conversation
from fixed_anchor.planfile.reader import read_plan
from fixed_anchor.vantages.nowhere import Nowhere
from fixed_anchor.vantages.protocol import Vantage
from fixed_anchor.workflow.beside.on_segment import vantage_for
from fixed_anchor.workflow.drafts import draft
from fixed_anchor.workflow.network.look import look
from fixed_anchor.workflow.reached.site import Site
from fixed_anchor.workflow.verify import verify
from tests.judging import check
from tests.machines import Told, one_link
from tests.test_collected import DOCUMENT

NETPLAN = "/etc/netplan/50-tide.yaml"
PLAN = """\
plan: 1
segments:
  quay: {subnet: 203.0.113.0/24, gateway: 203.0.113.1, resolvers: [203.0.113.2], pools: []}
hosts:
  tide-db:
    reach: buoy:tide-db
    interfaces:
      eth0: {mac: "00:00:5e:00:53:11", segment: quay, hold: 203.0.113.20}
"""


# --- a machine of another kind: the module --------------------------------------------------


class Buoy(Told):
    """A host that is reached by radio, say: its files are in a mapping here, and each fetch is counted."""

    def __init__(self) -> None:
        units = "systemctl is-active systemd-networkd.service NetworkManager.service networking.service network.service"
        commands = one_link("203.0.113.107/24") | {f"{units} systemd-resolved.service": "active\n" + "inactive\n" * 4}
        commands |= {"test -d /run/systemd/system": "", "ip rule show": "", "ip -6 rule show": ""}
        commands |= {"ss -H -l -n -t -u -p": ""}
        files = {NETPLAN: "network: {ethernets: {eth0: {dhcp4: true}}}\n", "/proc/mounts": "/dev/vda1 / ext4 rw 0 0\n"}
        super().__init__(commands, files)
        self.fetches: list[Wanted] = []

    def fetch(self, wanted: Wanted) -> Fetched:
        self.fetches.append(wanted)
        return super().fetch(wanted)

    def vantage(self, interface: SurveyedInterface) -> Vantage:
        return Nowhere("nobody listens on the radio")


BUOY = Buoy()


def reach(way: Way) -> Buoy:
    assert way.rest == "tide-db"
    return BUOY


@pytest.fixture
def buoy(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> Site:
    """The registry line, and a plan that reaches such a host."""
    module = types.ModuleType("buoys")
    module.reach = reach  # type: ignore[attr-defined]
    monkeypatch.setitem(sys.modules, "buoys", module)
    monkeypatch.setitem(machines.MACHINES, "buoy", "buoys")
    (tmp_path / "plan.yaml").write_text(PLAN)
    BUOY.fetches.clear()
    return Site(read_plan(tmp_path / "plan.yaml"), Here(str(tmp_path / "state")))


def test_a_new_machine_is_surveyed_checked_drafted_and_verified(buoy: Site) -> None:
    host = buoy.plan.hosts["tide-db"]
    survey = buoy.survey(host)
    assert survey is not None
    assert (survey.host, survey.stack) == ("tide-db", "netplan")
    checked = check(buoy)
    assert {f.code for f in checked.findings} == {"not-probed"}
    assert "nobody listens on the radio" in next(iter(checked.findings)).message
    (made,), failed = draft(buoy)
    assert failed == {}
    assert "203.0.113.20/24" in made.content.edits[0].after.text  # type: ignore[union-attr]
    assert buoy.target("tide-db")[1] is BUOY
    verified = {c.code: c.outcome for c in verify(buoy).checks}
    assert verified["address-present"] == "fail"
    assert verified["sole-owner"] == "skipped"


def test_a_survey_takes_two_goes_and_one_for_each_level_of_named_files() -> None:
    machine = Buoy()
    take_stock(machine)
    assert len(machine.fetches) == 2
    asked = [argv for wanted in machine.fetches for argv in wanted.commands]
    # What would start a service that does not run is not asked.
    assert not [argv for argv in asked if argv[0] in ("nmcli", "resolvectl")]
    machine = Buoy()
    machine.files = {
        "/etc/network/interfaces": "source /etc/quay/*.if\n",
        "/etc/quay/one.if": "source /srv/deep/interfaces\niface eth0 inet dhcp\n",
        "/srv/deep/interfaces": "source /etc/network/interfaces\niface eth1 inet manual\n",
    }
    survey = take_stock(machine)
    assert len(machine.fetches) == 4
    assert [str(i.declared_in[0]) for i in survey.interfaces] == ["/etc/quay/one.if:2"]


# --- what every machine promises -------------------------------------------------------------


def test_what_was_not_fetched_is_no_answer() -> None:
    fetched = one_by_one(Buoy(), Wanted(files=(NETPLAN,), commands=(("uname",),)))
    assert fetched.read(NETPLAN) is not None
    assert fetched.run(("uname",)).status == 1
    assert not fetched.run(("hostname",)).known
    for unknown in (lambda: fetched.read("/etc/hosts"), lambda: fetched.glob("/etc/*")):
        with pytest.raises(LookupError, match="was not fetched from tide-db"):
            unknown()


class Closed(Buoy):
    """Somebody looks at it who may not read every folder."""

    def glob(self, pattern: str) -> list[str]:
        if pattern.startswith("/etc/netplan/"):
            raise NoAccess("no permission to read this folder", file="/etc/netplan", remedy="run as root")
        return super().glob(pattern)


def test_a_folder_that_may_not_be_read_is_in_nobodys_way_who_does_not_need_it() -> None:
    fetched = one_by_one(Closed(), Wanted(files=("/etc/netplan/*.yaml", "/proc/mounts")))
    assert fetched.read("/proc/mounts") is not None
    for needed in (lambda: fetched.glob("/etc/netplan/*.yaml"), lambda: fetched.read(NETPLAN)):
        with pytest.raises(NoAccess, match="no permission"):
            needed()


@pytest.mark.parametrize("link", ["../../outside", "/outside", "/etc/../../outside", "..", "/.."])
def test_no_link_and_no_path_leads_out_of_a_tree(tmp_path: Path, link: str) -> None:
    """Links are followed as the host itself would: a root has nothing above it."""
    (tmp_path / "outside").mkdir()
    (tmp_path / "outside/secret").write_text("not yours\n")
    (tmp_path / "root/etc").mkdir(parents=True)
    (tmp_path / "root/outside").mkdir()
    (tmp_path / "root/outside/secret").write_text("the tree's own\n")
    (tmp_path / "root/etc/way").symlink_to(link)
    files = DiskFiles(tmp_path / "root")
    through = files.read("/etc/way/secret") or files.read("/etc/way/outside/secret")
    assert through is not None
    assert through.text == "the tree's own\n"
    above = files.read("/../outside/secret")
    assert above is not None
    assert above.text == "the tree's own\n"


def test_a_link_laid_in_the_way_of_a_write_is_not_followed(tmp_path: Path) -> None:
    victim = tmp_path / "victim"
    victim.write_text("precious\n")
    (tmp_path / f".new.{os.getpid()}-{threading.get_native_id()}.new").symlink_to(victim)
    with pytest.raises(NoAccess, match="cannot be written"):
        write_beside(tmp_path / "new", b"contents\n", 0o600)
    assert victim.read_text() == "precious\n"


def test_the_session_of_the_operator_is_that_of_this_machine_alone(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("SSH_CONNECTION", "203.0.113.230 50000 203.0.113.107 22")
    (tmp_path / "tide-db.collection").write_text(DOCUMENT)
    assert Here(str(tmp_path)).session.address() == parse_address("203.0.113.107")
    assert Tree(tmp_path).session.address() is None
    assert Collected(tmp_path / "tide-db.collection").session.address() is None


def test_each_machine_is_addressed_by_words_that_work(tmp_path: Path) -> None:
    (tmp_path / "tide-db.collection").write_text(DOCUMENT)
    assert Here().rights.words == ()
    assert Here(str(tmp_path)).rights.words == ("--state-dir", str(tmp_path))
    assert Tree(tmp_path).rights.words == ("--root", str(tmp_path))
    assert "None" not in " ".join(Collected(tmp_path / "tide-db.collection").rights.words)


@pytest.mark.parametrize("reached", ["collected:tide-db.collection", "buoy:tide-db", None])
def test_a_neighbour_looks_in_the_stead_of_one_that_is_afar(
    buoy: Site, tmp_path: Path, reached: str | None, monkeypatch: pytest.MonkeyPatch
) -> None:
    """This machine, if it is on the segment: also for a host that is reached and cannot look itself."""
    (tmp_path / "tide-db.collection").write_text(DOCUMENT)
    text = PLAN.replace("    reach: buoy:tide-db\n", f"    reach: {reached}\n" if reached else "")
    (tmp_path / "plan.yaml").write_text(text.replace(":11", ":99") if reached is None else text)
    here = Told(one_link("203.0.113.230/24", leased=False), {})
    seen = Lossy()
    monkeypatch.setattr(here, "vantage", lambda found: seen)
    site = Site(read_plan(tmp_path / "plan.yaml"), here)
    host = site.plan.hosts["tide-db"]
    found = vantage_for(site, host, host.interfaces[0])
    assert found is seen


class Lossy:
    """A vantage that loses frames while it looks."""

    name, mac, own, link_local, table, why_not = "a busy port", "00:00:5e:00:53:e6", None, None, None, None
    lost, has_neighbours = 0, True

    @property
    def frames(self) -> Lossy:
        return self

    def drops(self) -> int:
        return self.lost

    def converse(self, conversation: Conversation) -> None:
        self.lost += 7

    def ask_dns(self, server: object, question: bytes, timeout: float) -> None:
        return None

    def across_router(self, address: object) -> tuple[list[tuple[str, str]], list[tuple[str, str]]]:
        return [], []


def test_frames_that_were_lost_are_in_the_evidence() -> None:
    address = parse_address("203.0.113.20")
    looked = look(Lossy(), [address])
    assert "7 received frames lost" in looked.answers[address].asked


def test_a_link_to_null_is_an_empty_file_that_masks_others(tmp_path: Path) -> None:
    folder = tmp_path / "etc/systemd/network"
    folder.mkdir(parents=True)
    (folder / "10-vendor.network").symlink_to("/dev/null")
    tree = Tree(tmp_path)
    assert tree.glob("/etc/systemd/network/*.network") == ["/etc/systemd/network/10-vendor.network"]
    file = tree.read("/etc/systemd/network/10-vendor.network")
    assert file is not None
    assert file.text == ""
