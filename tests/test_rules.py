from __future__ import annotations

import pytest

from fixed_anchor.core.addresses import parse_address, parse_interface_address, parse_range
from fixed_anchor.core.config import LinkFacts
from fixed_anchor.core.errors import InputError, Refused, Undetermined
from fixed_anchor.core.findings import Acceptance, Judgement, finding, verdict_of
from fixed_anchor.core.knowledge import Knowledge
from fixed_anchor.core.plan import Plan
from fixed_anchor.core.rules.host import host_findings, host_of_machine
from fixed_anchor.core.rules.plan import plan_findings
from fixed_anchor.core.rules.spoken_for import knowledge_findings
from fixed_anchor.core.rules.wire import wire_findings
from fixed_anchor.core.survey import FoundAddress, HostSurvey, SurveyedInterface
from fixed_anchor.core.wire import Holder, WireAnswer
from fixed_anchor.planfile.reader import plan_from_text
from fixed_anchor.reporting.catalogue import CATALOGUE
from tests.judging import holding, interface_case, site_case

PLAN = """\
plan: 1
segments:
  quay:
    subnet: 203.0.113.0/24
    gateway: 203.0.113.1
    resolvers: 203.0.113.2
    {segment}
  lofts: {{subnet: 198.18.4.0/22, gateway: 198.18.4.1, resolvers: 198.18.4.2}}
  link: {{subnet: 198.51.100.8/31, gateway: 198.51.100.8, resolvers: 203.0.113.2}}
hosts:
  tide-db:
    {host}
    interfaces:
      enp1s0:
        mac: 00:00:5e:00:53:11
        segment: {on}
        {interface}
{more}
"""


def plan(
    interface: str = "hold: 203.0.113.20", segment: str = "", host: str = "", on: str = "quay", more: str = ""
) -> Plan:
    text = PLAN.format(interface=interface, segment=segment, host=host, on=on, more=more)
    return plan_from_text(text, "plan.yaml")


KELP = """\
  kelp-files:
    interfaces:
      enp1s0: {mac: 00:00:5e:00:53:12, segment: quay, hold: 203.0.113.20}
"""
TWICE = """\
      enp2s0: {mac: 00:00:5e:00:53:11, segment: lofts, hold: 198.18.4.9}
"""


@pytest.mark.parametrize(
    ("codes", "words"),
    [
        ([], {}),
        (["outside-subnet"], {"interface": "hold: 198.51.100.20"}),
        (["network-address"], {"interface": "hold: 203.0.113.0"}),
        (["broadcast-address"], {"interface": "hold: 203.0.113.255"}),
        ([], {"interface": "hold: 198.18.5.0", "on": "lofts"}),
        (["broadcast-address"], {"interface": "hold: 198.18.7.255", "on": "lofts"}),
        ([], {"interface": "hold: 198.51.100.9", "on": "link"}),
        (["is-gateway"], {"interface": "hold: 203.0.113.1"}),
        (["special-address"], {"interface": "hold: 224.0.0.9"}),
        (["special-address"], {"interface": "hold: 127.0.0.9"}),
        (["special-address"], {"interface": "hold: 169.254.3.4"}),
        (["held-twice"], {"more": KELP}),
        (
            ["gateway-outside-subnet"],
            {"interface": "{hold: 203.0.113.20, gateway: 198.18.4.1}".strip("{}").replace(", ", "\n        ")},
        ),
        ([], {"interface": "hold: 203.0.113.20/32\n        gateway: 198.18.4.1"}),
        (["mac-twice", "two-default-routes"], {"more": TWICE}),
        ([], {"interface": "hold: 203.0.113.20\n        gateway: none"}),
        (["no-resolvers"], {"interface": "hold: 203.0.113.20\n        resolvers: []"}),
        (["bad-hostname"], {"host": "hostname: tide_db"}),
        (["hostname-twice"], {"host": "hostname: tide", "more": "  kelp:\n    hostname: tide\n    interfaces: {}\n"}),
        (["pool-outside-subnet"], {"segment": "pools: 198.51.100.1 - 198.51.100.9"}),
        (["pool-covers-gateway"], {"segment": "pools: 203.0.113.1 - 203.0.113.9"}),
        (["segments-overlap"], {"more": "", "segment": "search: []\n  labs: {subnet: 203.0.112.0/23}"}),
    ],
)
def test_plan_family(codes: list[str], words: dict[str, str]) -> None:
    assert sorted(f.code for f in plan_findings(site_case(plan(**words)))) == codes


def test_no_default_route_is_a_warning() -> None:
    without = plan_from_text(
        PLAN.replace("    gateway: 203.0.113.1\n", "").format(
            interface="hold: 203.0.113.20", segment="", host="", on="quay", more=""
        ),
        "plan.yaml",
    )
    assert [f.code for f in plan_findings(site_case(without))] == ["no-default-route"]


POOL = (parse_range("203.0.113.100-203.0.113.199"),)
RESERVED = "reservations: {00:00:5e:00:53:11: 203.0.113.131}"


@pytest.mark.parametrize(
    ("hold", "segment", "told", "leased", "codes"),
    [
        ("203.0.113.20", "", (), (), ["pool-unknown"]),
        ("203.0.113.20", "pools: []", (), (), []),
        ("203.0.113.20", "", POOL, (), []),
        ("203.0.113.131", "", POOL, (), ["in-dhcp-pool"]),
        ("203.0.113.131", "", POOL, ("203.0.113.131",), ["lease-not-reserved"]),
        ("203.0.113.131", RESERVED, POOL, ("203.0.113.131",), []),
        ("203.0.113.131", RESERVED, POOL, (), []),
        ("203.0.113.245", "set_aside: 203.0.113.240/28", POOL, (), ["set-aside"]),
    ],
)
def test_knowledge_family(hold, segment, told, leased, codes) -> None:
    made = plan(f"hold: {hold}", segment)
    known = Knowledge(made, (), told)
    leases = tuple(parse_address(a) for a in leased)
    found = list(knowledge_findings(interface_case(known, holding(*leases))))
    assert [f.code for f in found] == codes
    if codes == ["in-dhcp-pool"]:
        assert found[0].remedy == "the nearest address outside is 203.0.113.99"


def _answer(address: str, *macs: str) -> WireAnswer:
    return WireAnswer(parse_address(address), tuple(Holder(m, "ARP reply") for m in macs), "probes", "wire", "now")


def test_wire_family() -> None:
    made = plan("hold: [203.0.113.20, 203.0.113.21]")
    own, other = "00:00:5e:00:53:11", "00:00:5e:00:53:5a"

    def codes(*answers: WireAnswer) -> list[str]:
        found = wire_findings(interface_case(made, answers=answers))
        return [f.code for f in found]

    both = (_answer("203.0.113.20"), _answer("203.0.113.21", own))
    assert codes(*both, _answer("203.0.113.1", "00:00:5e:00:53:01")) == []
    assert codes(*both, _answer("203.0.113.1")) == ["gateway-silent"]
    assert codes(*both, _answer("203.0.113.1", own, other)) == ["gateway-two-owners"]
    assert codes(both[0], _answer("203.0.113.21", other), _answer("203.0.113.1", own)) == ["answers-on-wire"]
    assert codes() == ["not-probed"]


def _survey(
    name: str = "enp1s0", mac: str = "00:00:5e:00:53:11", origin: str = "dhcp", at: str = "203.0.113.131"
) -> HostSurvey:
    address = FoundAddress(parse_interface_address(f"{at}/24"), origin)
    link = LinkFacts(name, mac)
    return HostSurvey("tide-db", "netplan", (), (SurveyedInterface(link, "up", addresses=(address,)),))


@pytest.mark.parametrize(
    ("survey", "session", "codes"),
    [
        (_survey(), None, []),
        (_survey("eth0"), None, ["interface-missing"]),
        (_survey(mac="00:00:5e:00:53:77"), None, ["mac-differs"]),
        (_survey(), "203.0.113.131", ["your-session-rides-here"]),
        (_survey(origin="link-local", at="169.254.3.4"), None, ["no-dhcp-answer"]),
    ],
)
def test_host_family(survey: HostSurvey, session: str | None, codes: list[str]) -> None:
    made = plan()
    address = parse_address(session) if session else None
    assert [f.code for f in host_findings(interface_case(made, survey=survey, sessions={"tide-db": address}))] == codes


def test_which_host_this_is() -> None:
    made = plan(more=KELP.replace("203.0.113.20", "203.0.113.22"))
    assert host_of_machine(made, _survey(), None).name == "tide-db"
    with pytest.raises(InputError, match="plan of another machine"):
        host_of_machine(made, _survey(mac="00:00:5e:00:53:77"), None)
    with pytest.raises(InputError, match="plan of another machine"):
        host_of_machine(made, _survey(), "kelp-files")


def test_verdicts_and_acceptance() -> None:
    blocker = finding(CATALOGUE["gateway-silent"], "silent", seen_in="wire", address="203.0.113.1")
    unseen = finding(CATALOGUE["pool-unknown"], "not known", seen_in="plan.yaml:1")
    note = finding(CATALOGUE["your-session-rides-here"], "here", seen_in="session")
    assert [verdict_of(f) for f in ([], [note], [unseen, note], [unseen, blocker])] == [
        "clear",
        "clear",
        "undetermined",
        "blocked",
    ]
    with pytest.raises(Refused):
        Judgement((blocker, unseen)).unless_accepted((Acceptance("pool-unknown", None, "told"),))
    with pytest.raises(Undetermined):
        Judgement((unseen,)).unless_accepted(())
    wrong = Acceptance("gateway-silent", "203.0.113.9", "test")
    with pytest.raises(Refused):
        Judgement((blocker,)).unless_accepted((wrong,))
    right = Acceptance("gateway-silent", "203.0.113.1", "test")
    assert Judgement((blocker, note)).unless_accepted((right,)) == [right]
    with pytest.raises(InputError, match="the check did not find this"):
        Judgement((note,)).unless_accepted((right,))


def test_the_catalogue_is_whole() -> None:
    assert len(CATALOGUE) == 106
    for entry in CATALOGUE.values():
        assert entry.title
        assert entry.why.endswith(".")
        assert entry.do.endswith(".")
