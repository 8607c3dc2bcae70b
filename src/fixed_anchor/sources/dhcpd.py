"""ISC dhcpd's configuration, dhcpd.conf(5)."""

from __future__ import annotations

from fixed_anchor.core.addresses import (
    AddressRange,
    IPAddress,
    IPNetwork,
    is_address,
    parse_address,
    parse_domain,
    parse_mac,
    parse_network,
    parse_range,
)
from fixed_anchor.core.claims import Claims, PoolClaim, Remark, ReservationClaim, SubnetClaim
from fixed_anchor.core.config import Place
from fixed_anchor.core.errors import InputError
from fixed_anchor.sources.protocol import Origin, Reader, text_of
from fixed_anchor.text.isc import Statement, parse

#: Options by what they tell; those of IPv4 and of IPv6 are told to their own clients alone.
_OPTIONS = {
    "routers": "routers",
    "domain-name-servers": "resolvers",
    "dhcp6.name-servers": "resolvers6",
    "domain-search": "search",
    "dhcp6.domain-search": "search6",
    "domain-name": "domain",
}

#: What has a block in braces.
_BLOCKS = frozenset({"subnet", "subnet6", "shared-network", "group", "pool", "pool6", "host"})

#: What clients are told at a level of the file: the option, and the statement that says it.
Told = dict[str, Statement]


class Dhcpd:
    """The source ``dhcpd``."""

    options: tuple[str, ...] = ()

    def claims(self, data: bytes, origin: Origin, reader: Reader) -> Claims:
        statements = _load(text_of(data, origin.path), origin.path, reader, ())
        found = _Found()
        found.level(statements, {}, None, ())
        return Claims(
            origin.kind,
            origin.shown,
            pools=tuple(found.pools),
            subnets=tuple(found.subnets),
            reservations=tuple(found.reservations),
            untidy=tuple(found.untidy),
        )


def _load(text: str, path: str, reader: Reader, above: tuple[str, ...]) -> list[Statement]:
    """The statements of a file with its includes in their places."""
    statements, error = parse(text, path)
    if error is not None:
        raise error
    return _with_includes(statements, path, reader, (*above, path))


def _with_includes(statements: list[Statement], path: str, reader: Reader, above: tuple[str, ...]) -> list[Statement]:
    found: list[Statement] = []
    for statement in statements:
        if statement.key == "include" and statement.block is None and len(statement.words) == 2:
            other = reader.path(statement.words[1].text, path)
            if other in above or len(above) > 10:
                raise statement.error(f"{other} includes itself")
            try:
                found += _load(text_of(reader.read(other), other), other, reader, above)
            except InputError as error:
                if error.file == other and error.line is None:
                    raise statement.error(f"the included file {other} {error.what}") from None
                raise
            continue
        if statement.block is not None:
            statement.block = _with_includes(statement.block, path, reader, above)
        found.append(statement)
    return found


class _Found:
    def __init__(self) -> None:
        self.pools: list[PoolClaim] = []
        self.subnets: list[SubnetClaim] = []
        self.reservations: list[ReservationClaim] = []
        self.untidy: list[Remark] = []

    def level(
        self, statements: list[Statement], above: Told, network: IPNetwork | None, limits: tuple[str, ...]
    ) -> None:
        """One block: its options count for everything in it, wherever they stand, and so does what it denies."""
        told = dict(above)
        limits = (*limits, *_limits(statements))
        for statement in statements:
            words = statement.texts()
            if statement.key == "option" and words and words[0] in _OPTIONS and statement.block is None:
                told[_OPTIONS[words[0]]] = statement
        for statement in statements:
            if statement.key in ("range", "range6"):
                self.range(statement, network, limits)
            elif statement.block is None:
                if statement.key in _BLOCKS:
                    raise statement.error(f"{statement.key}: no block stands behind it", "{ ... }")
            elif statement.key in ("subnet", "subnet6"):
                self.subnet(statement, told, limits)
            elif statement.key == "host":
                self.host(statement)
            elif statement.key not in ("class", "subclass", "zone", "key", "failover"):
                # Groups, shared networks, pools, and the branches of conditions.
                self.level(statement.block, told, network, limits)

    def subnet(self, statement: Statement, above: Told, limits: tuple[str, ...]) -> None:
        assert statement.block is not None
        network = network_of(statement)
        told = dict(above)
        for inner in statement.block:
            texts = inner.texts()
            if inner.key == "option" and texts and texts[0] in _OPTIONS:
                told[_OPTIONS[texts[0]]] = inner
        if network.version == 4:
            routers, resolvers = told.get("routers"), told.get("resolvers")
            search = told.get("search") or told.get("domain")
        else:
            routers, resolvers, search = None, told.get("resolvers6"), told.get("search6")
        said = {"routers": routers, "resolvers": resolvers, "search": search}
        self.subnets.append(
            SubnetClaim(
                network,
                Place(statement.file, statement.line),
                _addresses(routers),
                _addresses(resolvers),
                _domains(search),
                {what: Place(s.file, s.line) for what, s in said.items() if s is not None},
            )
        )
        self.level(statement.block, above, network, limits)

    def range(self, statement: Statement, network: IPNetwork | None, limits: tuple[str, ...]) -> None:
        words = [w for w in statement.texts() if w != "dynamic-bootp"]
        temporary = statement.key == "range6" and words[-1:] == ["temporary"]
        words = words[:-1] if temporary else words
        try:
            found = range_of(words)
            if network is not None and any(end not in network for end in found.ends):
                raise ValueError(f"{found} does not lie in {network}")
        except ValueError as error:
            raise statement.error(f"{statement.key}: {error}", f"{statement.key} FIRST LAST;") from None
        place = Place(statement.file, statement.line)
        if len(words) == 2 and str(found.ends[0]) != str(parse_address(words[0])):
            self.untidy.append(Remark(f"{' '.join(words)} ends before it begins: taken the other way round", place))
        self.pools.append(PoolClaim(found, place, "; ".join(limits)))

    def host(self, statement: Statement) -> None:
        place = Place(statement.file, statement.line)
        name = statement.words[1].text if len(statement.words) > 1 else ""
        hardware = statement.first("hardware")
        identifier = statement.first("host-identifier") or statement.first("client-identifier")
        if statement.first("deleted") is not None:
            return
        mac = None
        if hardware is not None:
            words = hardware.texts()
            try:
                mac = parse_mac(_padded(words[-1])) if words and words[0] == "ethernet" else None
            except ValueError as error:
                raise hardware.error(f"host {name}: {error}", "hardware ethernet MAC;") from None
        for key in ("fixed-address", "fixed-address6"):
            fixed = statement.first(key)
            for text in fixed.texts() if fixed is not None else ():
                try:
                    address = parse_address(text)
                except ValueError as error:
                    if text[0].isdigit() or ":" in text:
                        raise fixed.error(f"host {name}: {error}", word=text) from None  # type: ignore[union-attr]
                    what = f"host {name} is given the address of the name {text}, which is not looked up"
                    self.untidy.append(Remark(what, place))
                    continue
                client = name if mac or identifier is None else " ".join(identifier.texts())
                # dhcpd.conf(5): an address of a range is leased to others in spite of the host that names it.
                here = Place(fixed.file, fixed.line_of(text))  # type: ignore[union-attr]
                self.reservations.append(ReservationClaim(address, here, mac, client, keeps_pool_clear=False))


def network_of(statement: Statement) -> IPNetwork:
    """The subnet of a `subnet` or `subnet6`. Raises :class:`InputError`."""
    words = statement.texts()
    try:
        if statement.key == "subnet6":
            return parse_network(words[0])
        if len(words) < 3 or words[1] != "netmask":
            raise ValueError("the subnet has no mask")
        return parse_network(f"{words[0]}/{words[2]}")
    except (ValueError, IndexError) as error:
        wrong = words[2] if len(words) > 2 and not is_address(words[2]) else None
        raise statement.error(f"subnet: {error}", "subnet ADDRESS netmask MASK { ... }", wrong) from None


def _limits(statements: list[Statement]) -> list[str]:
    """What a block says of who may lease addresses of the pools in it, without what is said of other things."""
    whom = {"known", "known-clients", "unknown", "unknown-clients", "members", "authenticated", "unauthenticated",
            "all", "dynamic", "after"}  # fmt: skip
    return [
        " ".join(w.text for w in s.words)
        for s in statements
        if s.key in ("allow", "deny") and s.block is None and s.texts()[:1] and s.texts()[0] in whom
    ]


def range_of(words: list[str]) -> AddressRange:
    """One address, a subnet, or two addresses in any order, as dhcpd takes them. Raises :class:`ValueError`."""
    if not 1 <= len(words) <= 2:
        raise ValueError(f"{len(words)} addresses stand here")
    if len(words) == 1:
        return parse_range(words[0])
    ends = sorted((parse_address(word) for word in words), key=int)
    return parse_range(f"{ends[0]} - {ends[1]}")


def _padded(mac: str) -> str:
    """dhcpd takes octets of one digit as well: ``0:0:5e:0:53:11``."""
    return ":".join(part.zfill(2) for part in mac.split(":"))


def _addresses(statement: Statement | None) -> tuple[IPAddress, ...] | None:
    if statement is None:
        return None
    found: list[IPAddress] = []
    for word in statement.texts()[1:]:
        try:
            found.append(parse_address(word))
        except ValueError:
            # A name, which the server looks up when it starts.
            return None
    return tuple(found)


def _domains(statement: Statement | None) -> tuple[str, ...] | None:
    if statement is None:
        return None
    try:
        return tuple(parse_domain(part) for word in statement.texts()[1:] for part in word.split())
    except ValueError:
        return None
