"""What still uses or names an address that goes: on its host, on others, in the sources, in the plan itself."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from functools import partial

from fixed_anchor.core.addresses import IPAddress, addresses_in
from fixed_anchor.core.aside import NAMES
from fixed_anchor.core.elsewhere import Elsewhere, ListenAddress, Listener, Mention
from fixed_anchor.core.errors import AnchorError
from fixed_anchor.core.findings import BLOCKER, NOTE, WARNING, Finding, FindingKind, finding
from fixed_anchor.core.foreseen import Foreseen
from fixed_anchor.core.knowledge import Knowledge
from fixed_anchor.core.plan import Plan
from fixed_anchor.core.rules.case import SiteCase
from fixed_anchor.core.rules.spoken_for import DNS_SAYS_OTHERWISE
from fixed_anchor.core.secrets import masked_line

OLD_ADDRESS_IN_USE = FindingKind(
    "old-address-in-use",
    "host",
    WARNING,
    "something still uses or names an address that goes",
    "A socket bound to it hears nothing any more, and what names it looks for the host in vain. Where "
    "sshd listens on it alone, this is a blocker: nobody could log in.",
    "Write the new address there, and reload what reads it.",
)
SEARCH_INCOMPLETE = FindingKind(
    "search-incomplete",
    "host",
    NOTE,
    "not everything was searched for an address that goes",
    "Large files, other file systems and what may not be read are left out, and a search ends after some seconds.",
    "Look there yourself, where it matters.",
)

#: Programs that let people log in; and who may hold their socket in their stead, systemd.socket(5).
_SSHD, _IN_ITS_STEAD = ("sshd", "dropbear"), "systemd"
#: So many further lines of a file, and records of an address, are named.
_LINES = 8


def old_address_findings(case: SiteCase) -> Iterator[Finding]:
    """All about the addresses that go from the hosts that are drafted."""
    facts = case.facts
    gone = addresses_gone(facts.plan, facts.going)
    for name, found in facts.searched.items():
        if isinstance(found, AnchorError):
            yield from _not_searched(name, (str(found),))
            continue
        going = facts.going.get(name, frozenset())
        if name in case.foreseen:
            yield from _on_host(name, case.foreseen[name], found, going)
        yield from _on_other_host(name, {a: of for a, of in gone.items() if of != name}, found)
        yield from _not_searched(name, found.left_out)
    yield from _in_sources(facts.known, gone)
    yield from _in_plan(facts.plan, gone)


def addresses_gone(plan: Plan, going: Mapping[str, frozenset[IPAddress]]) -> dict[IPAddress, str]:
    """Of which host each address is that no host will have: ``going`` are those that each host gives up.

    What one host gives up and another one takes is named rightly by everybody but the first.
    """
    taken = {a for host in plan.hosts.values() for i in host.interfaces for a in i.every_address}
    return {address: name for name, addresses in going.items() for address in addresses if address not in taken}


def _on_host(host: str, foreseen: Foreseen, found: Elsewhere, going: frozenset[IPAddress]) -> Iterator[Finding]:
    """What the host itself still has of its addresses that go."""
    yield from _sockets(host, foreseen, found, going)
    yield from _sshd_config(host, found.listen_addresses, going)
    told = {a.place for a in foreseen.asides if a.kind == NAMES}
    told |= {line.place for line in found.listen_addresses if _all_going(line, going)}
    own = (m for m in found.mentions if m.address in going and m.place not in told)
    stays = (m for m in own if _stays(m, foreseen.rewritten))
    yield from _mentions(host, "goes", stays, foreseen)


def _on_other_host(host: str, of: Mapping[IPAddress, str], found: Elsewhere) -> Iterator[Finding]:
    """What another host of the plan says of addresses that go; ``of`` tells from which host."""
    for address, owner in of.items():
        mentions = (m for m in found.mentions if m.address == address)
        yield from _mentions(host, f"goes from {owner}", mentions, None)


def _not_searched(host: str, left_out: Iterable[str]) -> Iterator[Finding]:
    """What the search of a host left out."""
    said = list(left_out)
    if said:
        yield finding(
            SEARCH_INCOMPLETE,
            f"looking for what names addresses that go, this was left out on {host}: " + "; ".join(said),
            host=host,
            seen_in=f"files of {host}",
        )


def _all_going(line: ListenAddress, going: frozenset[IPAddress]) -> bool:
    return bool(line.addresses) and set(line.addresses) <= going


def _lets_people_in(x: Listener, ssh_ports: frozenset[int]) -> bool:
    if x.protocol != "tcp":
        return False
    return x.program in _SSHD or (x.program == _IN_ITS_STEAD and x.port in ssh_ports)


def _is_loopback(line: ListenAddress) -> bool:
    return bool(line.addresses) and all(a.is_loopback for a in line.addresses)


def _sockets(host: str, foreseen: Foreseen, found: Elsewhere, going: frozenset[IPAddress]) -> Iterator[Finding]:
    sshd = [x for x in found.listeners if _lets_people_in(x, found.ssh_ports)]
    reached = [x for x in sshd if x.address is None or not x.address.is_loopback]
    alone = bool(reached) and all(x.address in going for x in reached)
    for x in dict.fromkeys(found.listeners):
        if x.address is None or x.address not in going:
            continue
        blocks = alone and x in sshd
        where = f"[{x.address}]:{x.port}" if x.address.version == 6 else f"{x.address}:{x.port}"
        program = x.program or "a program"
        what = f"{program} listens on {where} ({x.protocol}) alone, and this address goes: nobody could log in there"
        yield finding(
            OLD_ADDRESS_IN_USE,
            what if blocks else f"{program} has a socket bound to {where} ({x.protocol}), and this address goes",
            host=host,
            address=x.address,
            seen_in=f"sockets of {host}",
            severity=BLOCKER if blocks else None,
            remedy="let it listen on every address, or on one that stays, and reload it before the change"
            if blocks
            else f"start {program} again after the change" + _with(_new_address(foreseen, x.address)),
        )


def _with(address: IPAddress | None) -> str:
    return f", bound to {address}" if address is not None else ""


def _sshd_config(host: str, lines: tuple[ListenAddress, ...], going: frozenset[IPAddress]) -> Iterator[Finding]:
    """sshd as it will be when it is started again: without any address that it listens on, it ends."""
    gone = [line for line in lines if _all_going(line, going)]
    # A name that no table here resolves may be any address.
    alone = bool(gone) and all(_all_going(line, going) or _is_loopback(line) for line in lines)
    for line in gone:
        named = ", ".join(map(str, line.addresses))
        yield finding(
            OLD_ADDRESS_IN_USE,
            f"sshd is told to listen on {named}"
            + (" alone, and this address goes: nobody could log in there" if alone else ", and this address goes"),
            host=host,
            address=line.addresses[0],
            seen_in=str(line.place),
            severity=BLOCKER if alone else None,
            remedy=f"remove the line {line.place}, and sshd listens on every address; or name one there that stays",
        )


def _stays(mention: Mention, rewritten: Mapping[str, str | None]) -> bool:
    """Whether a line is still there after the draft."""
    path = mention.place.file
    if path not in rewritten:
        return True
    return mention.text in {line.strip() for line in (rewritten[path] or "").splitlines()}


def _mentions(host: str, what: str, mentions: Iterable[Mention], foreseen: Foreseen | None) -> Iterator[Finding]:
    """One finding for each file and address: the line, and which further ones there are."""
    files: dict[tuple[str, IPAddress], list[Mention]] = {}
    for mention in mentions:
        files.setdefault((mention.place.file, mention.address), []).append(mention)
    for (path, address), lines in files.items():
        more = [str(m.place.line) for m in lines[1:]]
        also = f"; also in line{'s' if len(more) > 1 else ''} " + ", ".join(more[:_LINES]) if more else ""
        also += f" and {len(more) - _LINES} more" if len(more) > _LINES else ""
        new = _new_address(foreseen, address) if foreseen is not None else None
        yield finding(
            OLD_ADDRESS_IN_USE,
            f"{path} names {address}, which {what}: `{_short(lines[0].text)}`{also}",
            host=host,
            address=address,
            seen_in=str(lines[0].place),
            remedy=f"write {new} there, where this host is meant, and reload what reads it" if new else None,
        )


def _short(text: str) -> str:
    """A line as it is quoted: secrets masked, blanks once, its end cut off where it is long."""
    words = " ".join(masked_line(text).split())
    return words if len(words) <= 100 else f"{words[:100]} ..."


def _new_address(foreseen: Foreseen, address: IPAddress) -> IPAddress | None:
    """What takes the place of an address on its host, where that is one of its family."""
    held = [a.ip for config in foreseen.wanted.values() for a in config.of_family(address.version)]
    return held[0] if len(held) == 1 else None


def told_once(findings: list[Finding]) -> list[Finding]:
    """Without those of addresses that go where the same record is told of as saying otherwise than the plan."""
    places = {f.seen_in for f in findings if f.code == DNS_SAYS_OTHERWISE.code}
    return [f for f in findings if f.code != OLD_ADDRESS_IN_USE.code or f.seen_in not in places]


def _in_sources(known: Knowledge, of: Mapping[IPAddress, str]) -> Iterator[Finding]:
    """What DNS, host tables and address lists say of addresses that go."""
    for address, host in of.items():
        raised = partial(finding, OLD_ADDRESS_IN_USE, host=host, address=address)
        for record in known.records(address)[:_LINES]:
            who = "the host table" if record.kind == "hosts" else "DNS"
            yield raised(
                f"{who} has {address} for {record.name}, and this address goes from {host}",
                seen_in=str(record.place),
                remedy="change the record when the host has moved",
            )
        for row in known.listed(address)[:_LINES]:
            yield raised(
                f"{address} is listed for {row.name or 'somebody'}, and this address goes from {host}",
                seen_in=str(row.place),
                remedy="change the row when the host has moved",
            )


def _in_plan(plan: Plan, of: Mapping[IPAddress, str]) -> Iterator[Finding]:
    """What the plan itself tells hosts to use, and what would not be there any more."""
    for address, what, seen_in in _used(plan, of):
        yield finding(
            OLD_ADDRESS_IN_USE,
            f"the plan names {address} {what}, and this address goes from {of[address]}",
            host=of[address],
            address=address,
            seen_in=seen_in,
            remedy="name the new address there",
        )


def _used(plan: Plan, of: Mapping[IPAddress, str]) -> Iterator[tuple[IPAddress, str, str]]:
    """Each address of ``of`` that the plan names beside `hold`: as what, and where."""
    for segment in plan.segments.values():
        for what, key, addresses in (
            ("as a gateway", "gateway", tuple(g.address for g in segment.gateways)),
            ("as a resolver", "resolvers", segment.resolvers),
            ("as a DHCP server", "dhcp_servers", segment.dhcp_servers or ()),
        ):
            for number, address in enumerate(addresses):
                if address in of:
                    where = plan.where("segments", segment.name, key, number, line=segment.line)
                    yield address, f"{what} of segment {segment.name}", where
    for host in plan.hosts.values():
        for interface in host.interfaces:
            for what, key, words in (
                ("as a gateway", "gateway", [str(g.address) for g in interface.gateways or ()]),
                ("as a resolver", "resolvers", [str(r) for r in interface.resolvers or ()]),
                ("as a next hop", "routes", [str(r.next_hop) for r in interface.routes]),
                ("as a time server", "time_servers", list(interface.time_servers or ())),
            ):
                for number, word in enumerate(words):
                    for address in of.keys() & set(addresses_in(word)):
                        yield address, f"{what} of {host.name}", plan.where_of(host, interface, key, number)
