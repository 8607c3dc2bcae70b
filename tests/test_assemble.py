"""What a draft is assembled from: the order of its steps, what is held, and which leases are given back."""

from __future__ import annotations

from pathlib import Path

import msgspec
import pytest

from fixed_anchor.change.change import Draft
from fixed_anchor.change.files import FileEdit, FileText
from fixed_anchor.core.addresses import IPAddress, parse_address
from fixed_anchor.core.survey import HostSurvey, Lease
from fixed_anchor.machines.readable import Ran
from fixed_anchor.observe.stocktaking import take_stock
from fixed_anchor.planfile.reader import read_plan
from fixed_anchor.workflow.linux.assemble import Stage, assemble
from fixed_anchor.workflow.linux.draft_files import draft_host
from tests.machines import Told, one_link

INTERFACES = "/etc/network/interfaces"
ON_LEASE = "auto eth0\niface eth0 inet dhcp\n"
FIXED = "auto eth0\niface eth0 inet static\n    address 203.0.113.20/24\n    gateway 203.0.113.1\n"
PLAN = """\
plan: 1
segments:
  quay: {{subnet: 203.0.113.0/24, gateway: 203.0.113.1, resolvers: {resolvers}, pools: []}}
hosts:
  tide-db:
    interfaces:
      eth0: {{mac: "00:00:5e:00:53:11", segment: quay, hold: 203.0.113.20}}
"""
STUB = {"/etc/resolv.conf": "../run/systemd/resolve/stub-resolv.conf"}
LEASED = parse_address("203.0.113.107")


class Debian(Told):
    """A host under ifupdown; systemd-resolved runs too."""

    def run(self, argv: tuple[str, ...], timeout: float = 30.0) -> Ran:
        if argv[:2] == ("systemctl", "is-active"):
            active = ("networking.service", "systemd-resolved.service")
            return Ran(0, "".join("active\n" if unit in active else "inactive\n" for unit in argv[2:]), "")
        return super().run(argv, timeout)


def drafted(folder: Path, machine: Told, resolvers: str, hold: frozenset[IPAddress] = frozenset()) -> Draft:
    (folder / "plan.yaml").write_text(PLAN.format(resolvers=resolvers))
    plan = read_plan(folder / "plan.yaml")
    return draft_host(plan, plan.hosts["tide-db"], machine, take_stock(machine), hold)


def test_what_is_for_the_whole_host_is_loaded_before_the_interfaces(tmp_path: Path) -> None:
    """A lease client writes its servers into the file that systemd-resolved then makes anew."""
    draft = drafted(tmp_path, Debian(one_link("203.0.113.107/24"), {INTERFACES: ON_LEASE}, STUB), "[203.0.113.2]")
    steps = draft.content.steps
    for phase in (steps.activate, steps.reload):
        assert phase[0] == ("systemctl", "restart", "systemd-resolved.service")
        assert len(phase) > 1


@pytest.mark.parametrize("said", [True, False])
def test_the_host_s_name_comes_back_at_a_rollback_and_at_boot(tmp_path: Path, said: bool) -> None:
    """At boot the first process takes it from the new file. A former one that no file said is set as it was."""
    files = {INTERFACES: ON_LEASE} | ({"/etc/hostname": "gannet\n"} if said else {})
    machine = Debian(one_link("203.0.113.107/24") | {"hostname": "gannet\n"}, files, STUB)
    name = PLAN.replace("  tide-db:\n", "  tide-db:\n    hostname: tide-db.ternpoint.example\n")
    (tmp_path / "plan.yaml").write_text(name.format(resolvers="[]"))
    plan = read_plan(tmp_path / "plan.yaml")
    survey = msgspec.structs.replace(take_stock(machine), hostname="gannet")
    steps = draft_host(plan, plan.hosts["tide-db"], machine, survey).content.steps
    former = ("hostname", "-F", "/etc/hostname") if said else ("hostname", "gannet")
    assert ("hostname", "-F", "/etc/hostname") in steps.activate
    assert former in steps.reload
    assert former in steps.boot


def test_the_old_address_is_held_and_goes_as_its_daemon_needs_it(tmp_path: Path) -> None:
    machine = Debian(one_link("203.0.113.107/24"), {INTERFACES: ON_LEASE}, STUB)
    draft = drafted(tmp_path, machine, "[]", frozenset({LEASED}))
    assert [(h.interface, str(h.address)) for h in draft.grace] == [("eth0", "203.0.113.107/32")]
    assert draft.content.grace_facts == ("address 203.0.113.107/32 fixed on eth0",)
    assert "203.0.113.107" not in dict(draft.content.finals)[INTERFACES]
    # What runs where the drop sticks is ifupdown's own: `ifup` alone would do nothing.
    down = ("ifdown", "--force", "eth0")
    assert draft.content.steps.drop_escalate[0] == down
    assert draft.content.steps.escalate[0] != down


def test_nothing_is_held_where_the_two_states_write_different_files(tmp_path: Path) -> None:
    """The files say it already, and only holding the leased address would edit one."""
    machine = Debian(one_link("203.0.113.107/24"), {INTERFACES: FIXED}, STUB)
    draft = drafted(tmp_path, machine, "[]", frozenset({LEASED}))
    assert draft.grace == ()
    assert draft.content.is_empty


@pytest.mark.parametrize("deleted", [False, True])
def test_a_file_that_only_one_state_deletes_cannot_be_brought_back(deleted: bool) -> None:
    machine = Debian(one_link("203.0.113.107/24"), {INTERFACES: ON_LEASE})
    survey = take_stock(machine)
    found = survey.interface("eth0")
    assert found is not None
    assert found.declared is not None
    old, new = FileText(INTERFACES, ON_LEASE), FileText(INTERFACES, FIXED)
    more = (FileEdit("/etc/network/interfaces.d/x", FileText("/etc/network/interfaces.d/x", ""), None),)
    final = Stage((FileEdit(INTERFACES, old, new), *(more if deleted else ())), {"eth0": found.declared})
    beside = msgspec.structs.replace(found.declared, addresses=found.link.in_kernel)
    waiting = Stage((FileEdit(INTERFACES, old, new), *more), {"eth0": beside})
    assert bool(assemble("tide-db", machine, survey, final, waiting).grace) == deleted


def two_links() -> tuple[Told, HostSurvey]:
    """eth0 under ifupdown, eth1 under networkd; both on a lease of which the server is known."""
    links = one_link("203.0.113.107/24")["ip -j -d address show"]
    both = links[:-1] + ", " + links[1:].replace("eth0", "eth1").replace(":11", ":12").replace(".107", ".108")
    files = {INTERFACES: ON_LEASE, "/etc/systemd/network/1.network": "[Match]\nName=eth1\n[Network]\nDHCP=ipv4\n"}
    machine = Told(one_link() | {"ip -j -d address show": both}, files)
    survey = take_stock(machine)
    server = parse_address("203.0.113.1")
    interfaces = tuple(
        msgspec.structs.replace(i, lease=Lease(i.leased_addresses()[0], 3000, server)) for i in survey.interfaces
    )
    return machine, msgspec.structs.replace(survey, interfaces=interfaces)


def test_a_lease_is_given_back_where_its_own_daemon_did_not(tmp_path: Path) -> None:
    """ifdown gives that of eth0 back; that of eth1, by another daemon, is ours to give."""
    machine, survey = two_links()
    text = PLAN.format(resolvers="[203.0.113.2]") + "      eth1: {segment: quay, hold: 203.0.113.21, gateway: none}\n"
    # IPv6 beside it is more than the gentle way can do: so ifdown runs.
    text = text.replace("203.0.113.20}", '[203.0.113.20, "2001:db8:7e:1::20"]}').replace(
        "subnet: 203.0.113.0/24", 'subnet: [203.0.113.0/24, "2001:db8:7e:1::/64"]'
    )
    (tmp_path / "plan.yaml").write_text(text)
    plan = read_plan(tmp_path / "plan.yaml")
    steps = draft_host(plan, plan.hosts["tide-db"], machine, survey).content.steps
    assert ("ifdown", "--force", "eth0") in steps.leave
    assert [step[3:6] for step in steps.commit] == [("eth1", "00:00:5e:00:53:12", "203.0.113.108")]
