"""A finding about a plan is seen in the line that a person would edit."""

from __future__ import annotations

from pathlib import Path

import pytest

from fixed_anchor.core.plan import Plan
from fixed_anchor.planfile.reader import plan_from_text, read_plan
from fixed_anchor.workflow.reached.site import Site
from tests.judging import check
from tests.machines import Told

#: Each wrong thing stands on a line of its own, which its comment says.
PLAN = """\
plan: 1
segments:
  quay:
    subnet:
      - 203.0.113.0/24
    gateway:
      - 203.0.113.1
      - 198.51.100.9          # gateway-outside-subnet
    resolvers: [203.0.113.2]
    pools:
      - 203.0.113.100 - 203.0.113.199
      - 203.0.113.0 - 203.0.113.9          # pool-covers-gateway
      - 198.18.4.0 - 198.18.4.9          # pool-outside-subnet
    reservations:
      "00:00:5e:00:53:99":
        203.0.113.60
    set_aside: [203.0.113.240/28]
  labs:
    gateway: 198.51.100.1
    resolvers: 198.51.100.2
    pools: []
    subnet:
      - 198.51.100.0/24
      - 203.0.113.128/25          # segments-overlap
hosts:
  tide-db:
    hostname: tide-db
    interfaces:
      eth0:
        mac: "00:00:5e:00:53:11"
        segment: quay
        hold:
          - 203.0.113.0          # network-address
          - 203.0.113.255          # broadcast-address
          - 203.0.113.1          # is-gateway
          - 198.18.4.7          # outside-subnet
          - 127.0.0.1          # special-address
          - 203.0.113.20
          - 203.0.113.120          # in-dhcp-pool
          - 203.0.113.60          # reserved-for-another
          - 203.0.113.241          # set-aside
  kelp-files:
    interfaces:
      eth0:
        segment: quay
        mac: "00:00:5e:00:53:11"          # cloned-host
        hold: 203.0.113.20          # held-twice
    hostname: tide-db          # hostname-twice
  gannet-ws:
    hostname: "gannet ws"          # bad-hostname
    interfaces:
      eno1:
        segment: labs
        gateway:
          - 203.0.113.1          # gateway-outside-subnet-of-labs
        mac: "00:00:5e:00:53:31"
        hold:
          203.0.113.129
"""
#: What is seen elsewhere than where the code's own comment stands: the pool, and the reservation, are what is meant.
ELSEWHERE = {"in-dhcp-pool": 11, "reserved-for-another": 15}


def lines_of(text: str) -> dict[str, int]:
    return {line.rpartition("# ")[2]: n for n, line in enumerate(text.splitlines(), 1) if "          # " in line}


def findings(plan: Plan) -> dict[str, set[str]]:
    here = Told({"ip -j -d address show": "[]"}, {})
    seen: dict[str, set[str]] = {}
    for found in check(Site(plan, here), wire=False).findings:  # type: ignore[arg-type]
        seen.setdefault(found.code, set()).add(found.seen_in)
    return seen


def test_each_wrong_thing_is_seen_in_its_own_line() -> None:
    seen = findings(plan_from_text(PLAN, "plan.yaml"))
    for code, line in (lines_of(PLAN) | ELSEWHERE).items():
        if code != "gateway-outside-subnet-of-labs":
            assert f"plan.yaml:{line}" in seen.get(code, ()), (code, line, seen.get(code))


@pytest.mark.parametrize(
    ("path", "line"),
    [
        (("segments", "quay"), 3),
        (("segments", "quay", "gateway", 1), 8),
        (("segments", "quay", "resolvers", 0), 9),
        (("hosts", "kelp-files", "interfaces", "eth0", "hold", 0), 47),
        (("hosts", "gannet-ws", "interfaces", "eno1", "hold", 0), 58),
        (("hosts", "nobody", "interfaces"), 7),
        (("segments", "quay", "gateway", 9), 7),
    ],
)
def test_the_line_of_a_part(path: tuple[str | int, ...], line: int) -> None:
    """What is not there is seen where the caller says, here in line 7."""
    assert plan_from_text(PLAN, "plan.yaml").where(*path, line=7) == f"plan.yaml:{line}"


def test_the_site_of_the_demo(site: Path) -> None:
    plan = read_plan(site / "plan.yaml")
    host = plan.hosts["sonar-vm1"]
    (interface,) = host.interfaces
    place, _, line = plan.where_held(host, interface, interface.hold[0].address).rpartition(":")
    assert "hold: 198.18.5.40" in Path(place).read_text().splitlines()[int(line) - 1]
