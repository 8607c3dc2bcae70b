"""The quick way of reading a plan says what the careful one says, or nothing."""

from __future__ import annotations

import json

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fixed_anchor.core.errors import InputError
from fixed_anchor.core.plan import Plan
from fixed_anchor.planfile import reader
from fixed_anchor.planfile.reader import plan_from_text
from fixed_anchor.planfile.usual import usual_host
from fixed_anchor.text.yaml_nodes import Value, compose

HEAD = """\
plan: 1
segments:
  quay: {subnet: 203.0.113.0/24, gateway: 203.0.113.1, resolvers: 203.0.113.2}
  lofts: {subnet: 198.18.4.0/22}
hosts:
"""


def carefully(text: str) -> Plan:
    """The plan as the careful way alone reads it."""
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(reader, "usual_host", lambda *_: None)
        return plan_from_text(text, "plan.yaml")


def outcome(read: object, text: str) -> object:
    try:
        return read(text)  # type: ignore[operator]
    except InputError as error:
        return str(error)


words = st.sampled_from(
    ["203.0.113.20", "203.0.113.21/32", "203.0.113.300", "2001:db8::20", "00:00:5e:00:53:11", "00:00:5E:00:53:11",
     '"02:00:00:00:00:12"', "02:00:00:00:00:12", "12:00:00:00:00:12", "quay", "hold", "key", "none", "~", "", "[]",
     "yes", "fixed", "dhcp", "a b",
     "[203.0.113.20, 203.0.113.21]", "[203.0.113.20, ~]", "{address: 203.0.113.20}", "203.000.113.20", "'203.0.113.20'"]
)  # fmt: skip
interfaces = st.dictionaries(
    st.sampled_from(["mac", "segment", "hold", "ipv4", "expect", "gateway", "holds"]), words, min_size=1, max_size=5
)
names = st.sampled_from(["enp1s0", "eth0", "eth0.7", "a name", "..", "much-too-long-a-name", "1"])
hosts = st.fixed_dictionaries(
    {},
    optional={
        "hostname": st.sampled_from(["tide-db.ternpoint.example", "tide-db", "a b", "~", "[x]"]),
        "reach": st.just("tree:x"),
        "interfaces": st.dictionaries(names, interfaces, max_size=2),
    },
)


def text_of(made: dict[str, dict]) -> str:
    lines = []
    for host, said in made.items():
        lines.append(f"  {host}:")
        for key, value in said.items():
            if key != "interfaces":
                lines.append(f"    {key}: {value}")
                continue
            lines.append("    interfaces:" + ("" if value else " {}"))
            for name, settings in value.items():
                lines.append(f"      {json.dumps(name) if ' ' in name else name}:")
                lines += [f"        {k}: {v}" for k, v in settings.items()]
    return HEAD + "\n".join(lines) + "\n"


@given(st.dictionaries(st.sampled_from(["tide-db", "kelp-files", "a b", "x" * 300]), hosts, min_size=1, max_size=3))
def test_both_ways_say_the_same(made: dict[str, dict]) -> None:
    text = text_of(made)
    quick = outcome(lambda t: plan_from_text(t, "plan.yaml"), text)
    assert quick == outcome(carefully, text)


USUAL = """\
  tide-db:
    hostname: tide-db.ternpoint.example
    interfaces:
      enp1s0:
        mac: 00:00:5e:00:53:11
        segment: quay
        hold: [203.0.113.20, 203.0.113.21]
      enp2s0: {mac: "02:00:00:00:00:12", segment: lofts, hold: 198.18.4.9}
"""


def test_the_usual_host_is_read_quickly() -> None:
    root = Value(compose(HEAD + USUAL, "plan.yaml"), "plan.yaml")
    fields = dict((name, value) for name, _, value in root.entries())
    plan = carefully(HEAD + USUAL)
    ((key, node),) = fields["hosts"].node.value
    assert usual_host(key, node, plan.segments) == plan.hosts["tide-db"]
    assert plan_from_text(HEAD + USUAL, "plan.yaml") == plan


@pytest.mark.parametrize(
    ("old", "new", "said"),
    [
        (
            "  tide-db:\n",
            "  tide-db: {interfaces: {}}\n  tide-db:\n",
            "the key 'tide-db' stands twice, first in line 6",
        ),
        ("      enp2s0: {mac", "      enp1s0: {mac", "the key 'enp1s0' stands twice, first in line 9"),
        ('"02:00:00:00:00:12"', "12:00:00:00:00:12", "is not quoted, and other YAML readers take it for a number"),
        ("segment: lofts", "segment: loft", "there is no segment 'loft' in this plan"),
        ("198.18.4.9}", "198.18.4.900}", "octet 4 is 900"),
        ("203.0.113.21]", "203.0.113.20]", "203.0.113.20 stands twice"),
        ("hold: 198.18.4.9}", "holds: 198.18.4.9}", "Did you mean 'hold'"),
    ],
)
def test_what_is_wrong_in_a_usual_host_is_said(old: str, new: str, said: str) -> None:
    assert old in USUAL
    with pytest.raises(InputError, match=said) as raised:
        plan_from_text(HEAD + USUAL.replace(old, new), "plan.yaml")
    assert raised.value.line is not None
    assert raised.value.column is not None


def test_a_plan_of_many_hosts_in_its_order() -> None:
    hosts = "".join(
        f"  host-{n}:\n    interfaces:\n"
        f'      eth0: {{mac: "02:00:00:00:00:{n:02x}", segment: lofts, hold: 198.18.4.{n}}}\n'
        + ("" if n % 7 else "    reach: tree:x\n")
        for n in range(1, 100)
    )
    plan = plan_from_text(HEAD + hosts, "plan.yaml")
    assert list(plan.hosts) == [f"host-{n}" for n in range(1, 100)]
    assert [h.reach for h in plan.hosts.values()].count("tree:x") == 14
    assert plan == carefully(HEAD + hosts)
