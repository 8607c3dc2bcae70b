"""Looking for what still uses the addresses that a plan takes away."""

from __future__ import annotations

import logging
from collections.abc import Iterable, Iterator, Mapping

from fixed_anchor.core.elsewhere import Elsewhere
from fixed_anchor.core.errors import AnchorError
from fixed_anchor.core.findings import Finding
from fixed_anchor.core.foreseen import Foreseen
from fixed_anchor.core.knowledge import Knowledge
from fixed_anchor.core.plan import HostPlan
from fixed_anchor.core.rules import old_address
from fixed_anchor.workflow.reached.at_once import at_once
from fixed_anchor.workflow.reached.site import Site
from fixed_anchor.workflow.targets import target_of

_log = logging.getLogger(__name__)


def old_address_findings(
    site: Site, known: Knowledge, foreseen: Mapping[str, Foreseen], told: Iterable[Finding]
) -> Iterator[Finding]:
    """All about the addresses that go from the hosts in ``foreseen``; ``told`` are the findings made before."""
    of = {address: name for name, seen in foreseen.items() for address in seen.going}
    if not of:
        return
    # What one host gives up and another one takes is named rightly by everybody but the first.
    interfaces = [i for host in site.plan.hosts.values() for i in host.interfaces]
    taken = {a for i in interfaces for a in i.every_address}
    gone = {address: name for address, name in of.items() if address not in taken}

    def search(host: HostPlan) -> Elsewhere | None:
        going = foreseen[host.name].going if host.name in foreseen else frozenset()
        others = [a for a, name in gone.items() if name != host.name]
        machine = site.machine(host) if going or others else None
        if machine is None:
            return None
        _log.info("searching %s for addresses that go", host.name)
        return target_of(machine).elsewhere(going, others)

    hosts = list(site.plan.hosts.values())
    for host, found in zip(hosts, at_once(hosts, search, site.at_once), strict=True):
        if found is None:
            continue
        if isinstance(found, AnchorError):
            yield from old_address.not_searched(host.name, (str(found),))
            continue
        own = foreseen.get(host.name)
        going = own.going if own is not None else frozenset()
        others = {a: name for a, name in gone.items() if name != host.name}
        if own is not None:
            yield from old_address.on_host(host.name, own, found, going)
        yield from old_address.on_other_host(host.name, others, found)
        yield from old_address.not_searched(host.name, found.left_out)
    yield from old_address.in_sources(known, gone, told)
    yield from old_address.in_plan(site.plan, gone)
