"""What the settings of dnsmasq(8) claim: its ranges, hosts and options, and its own host records."""

from __future__ import annotations

import re
from collections.abc import Iterator

import msgspec

from fixed_anchor.core.addresses import (
    IPAddress,
    IPNetwork,
    is_address,
    parse_address,
    parse_domain,
    parse_mac,
    parse_prefix,
    parse_range,
    with_prefix,
)
from fixed_anchor.core.claims import Claims, ListedClaim, PoolClaim, RecordClaim, Remark, ReservationClaim, SubnetClaim
from fixed_anchor.core.config import Place
from fixed_anchor.core.errors import InputError

#: Stands for what the configuration names, and is not here: no setting has such a name.
MISSING = "(missing)"
#: Modes of a range that give out no addresses, or only to hosts with one of their own.
_NO_POOL = frozenset({"static", "proxy", "ra-only", "slaac", "ra-names", "ra-stateless", "ra-advrouter", "off-link"})
_OPTIONS = {
    "3": "routers", "option:router": "routers", "6": "resolvers", "option:dns-server": "resolvers",
    "119": "search", "option:domain-search": "search", "15": "domain", "option:domain-name": "domain",
    "option6:dns-server": "resolvers6", "option6:23": "resolvers6", "option6:domain-search": "search6",
    "option6:24": "search6",
}  # fmt: skip
_RANGE = "dhcp-range=FIRST,LAST[,MASK][,TIME]"
_OPTION = re.compile(r"[0-9]+$|option6?:")
_LIKE_ADDRESS = re.compile(r"[0-9a-fA-F.:]+")
_LEASE_TIME = re.compile(r"infinite|[0-9]+[smhdw]?")
_MAC_TYPE = re.compile(r"[0-9a-fA-F]{2}-(?=[0-9a-fA-F]{2}:)")
_ANY_MAC = re.compile(r"(?:[0-9a-fA-F]{1,2}|\*)(?::(?:[0-9a-fA-F]{1,2}|\*)){5}")


class Setting(msgspec.Struct, frozen=True):
    """One line: ``key=value``, with its file and line."""

    key: str
    value: str
    place: Place

    def error(self, what: str, expected: str | None = None) -> InputError:
        """An error at this setting."""
        return InputError(f"{self.key}: {what}", file=self.place.file, line=self.place.line, expected=expected)

    def words(self) -> list[str]:
        """The value's parts, separated by commas."""
        return [w.strip() for w in self.value.split(",")]


class _Range(msgspec.Struct, frozen=True):
    network: IPNetwork
    place: Place
    tags: frozenset[str]


class Settings:
    """All settings of one server, taken one after another."""

    def __init__(self) -> None:
        self.pools: list[PoolClaim] = []
        self.reservations: list[ReservationClaim] = []
        self.records: list[RecordClaim] = []
        #: What whoever runs the server holds itself.
        self.listed: list[ListedClaim] = []
        self.untidy: list[Remark] = []
        self.broken: list[Remark] = []
        self.known_only = False
        self._ranges: list[_Range] = []
        self._told: list[tuple[frozenset[str], str, tuple[str, ...], Setting]] = []
        self._domains: list[Setting] = []

    def claims(self, kind: str, shown: str) -> Claims:
        """What they claim together, for a source of that kind and path. Raises :class:`InputError`."""
        return Claims(
            kind,
            shown,
            pools=tuple(self._limited_pools()),
            subnets=tuple(self._described()),
            reservations=tuple(self.reservations),
            records=tuple(self.records),
            listed=tuple(self.listed),
            untidy=tuple(self.untidy),
            broken=tuple(self.broken),
        )

    def take(self, setting: Setting) -> None:
        """Adds one setting; one that is of no matter here is passed over. Raises :class:`InputError`."""
        if setting.key == "dhcp-range":
            self._range(setting)
        elif setting.key == "dhcp-host":
            self._host(setting)
        elif setting.key in ("dhcp-option", "dhcp-option-force"):
            self._option(setting)
        elif setting.key in ("host-record", "address"):
            self._record(setting)
        elif setting.key == "dhcp-ignore":
            self._ignored(setting)
        elif setting.key == "domain":
            self._domains.append(setting)
        elif setting.key == MISSING:
            self.broken.append(Remark(setting.value, setting.place))

    def _ignored(self, setting: Setting) -> None:
        """Clients that get no answer: with ``tag:!known`` all but those that a ``dhcp-host`` names."""
        tags = {word.partition(":")[2] for word in setting.words()}
        if tags == {"!known"}:
            self.known_only = True

    def _limited_pools(self) -> Iterator[PoolClaim]:
        """The pools, with what holds for all of them."""
        for pool in self.pools:
            yield msgspec.structs.replace(pool, limits=pool.limits or "known clients") if self.known_only else pool

    def _range(self, setting: Setting) -> None:
        words = setting.words()
        tags: set[str] = set()
        limits = []
        # In front of the addresses stand tags, in the old form without a word before the colon.
        while len(words) > 1 and not _LIKE_ADDRESS.fullmatch(words[0]):
            word = words.pop(0)
            tags.add(word.partition(":")[2] or word)
            # A range with `set` marks its clients, and options for that tag are theirs; others are for marked clients.
            limits += [word] if word.startswith(("tag:", "net:")) else []
        try:
            first = parse_address(words[0])
        except ValueError as error:
            if words[0].startswith("::"):
                return
            raise setting.error(str(error), _RANGE) from None
        if any(w.startswith("constructor:") for w in words):
            what = f"{setting.value}: the prefix comes from an interface, and cannot be seen from here"
            self.untidy.append(Remark(what, setting.place))
            return
        modes = {w for w in words[1:] if w in _NO_POOL}
        addresses = [w for w in words[1:] if (re.fullmatch(r"[0-9.]+", w) and "." in w) or ":" in w]
        unknown = [w for w in words[1:] if w and w not in modes and w not in addresses and not _LEASE_TIME.fullmatch(w)]
        if unknown:
            raise setting.error(f"{unknown[0]!r} is no address, mode or time", _RANGE)
        said = ", ".join(limits)
        try:
            if first.version == 4:
                self._range4(setting, first, addresses, bool(modes), said, frozenset(tags))
            else:
                self._range6(setting, first, words[1:], modes, said, frozenset(tags))
        except ValueError as error:
            raise setting.error(str(error), _RANGE) from None

    def _range4(
        self, setting: Setting, first: IPAddress, rest: list[str], static: bool, limits: str, tags: frozenset[str]
    ) -> None:
        if not static and not rest:
            raise ValueError("the range has no end")
        last = None if static else parse_address(rest[0])
        masks = rest if static else rest[1:]
        if last is not None and int(last) < int(first):
            what = f"{first},{last} ends before it begins: dnsmasq takes it the other way round"
            self.untidy.append(Remark(what, setting.place))
            first, last = last, first
        # Without a mask dnsmasq takes that of its own interface, which is not to be seen here.
        network = with_prefix(first, parse_prefix(masks[0], 4)).network if masks else None
        if network is not None:
            self._serve(_Range(network, setting.place, tags))
        if last is not None:
            if network is not None and last not in network:
                raise ValueError(f"{first} and {last} do not lie in one subnet")
            self.pools.append(PoolClaim(parse_range(f"{first} - {last}"), setting.place, limits))

    def _range6(
        self, setting: Setting, first: IPAddress, rest: list[str], modes: set[str], limits: str, tags: frozenset[str]
    ) -> None:
        lengths = [int(w) for w in rest if w.isdecimal() and int(w) <= 128]
        network = with_prefix(first, lengths[0] if lengths else 64).network
        self._serve(_Range(network, setting.place, tags))
        last = parse_address(rest[0]) if rest and ":" in rest[0] else None
        if last is not None and not modes & {"static", "ra-only", "ra-stateless"}:
            self.pools.append(PoolClaim(parse_range(f"{first} - {last}"), setting.place, limits))

    def _serve(self, range_: _Range) -> None:
        """Clients of further ranges with the same tags are told the same."""
        if not any(r.network == range_.network and r.tags == range_.tags for r in self._ranges):
            self._ranges.append(range_)

    def _host(self, setting: Setting) -> None:
        macs: list[str] = []
        addresses: list[IPAddress] = []
        name, client = "", ""
        for word in setting.words():
            bare = _MAC_TYPE.sub("", word)
            if word.startswith("id:"):
                client = f"client {word[3:]}"
            elif word.startswith(("set:", "tag:", "net:")) or word in ("ignore", "*", ""):
                continue
            elif _ANY_MAC.fullmatch(bare):
                if "*" in bare:
                    client = f"any MAC {bare}"
                else:
                    macs.append(parse_mac(":".join(part.zfill(2) for part in bare.split(":"))))
            elif word.startswith("["):
                text = word.strip("[]").partition("/")[0]
                if text.startswith("::") and text != "::":
                    what = f"{word}: the prefix comes from an interface, and cannot be seen from here"
                    self.untidy.append(Remark(what, setting.place))
                    continue
                addresses.append(self._address(setting, text))
            elif re.fullmatch(r"[0-9.]+", word) and "." in word:
                addresses.append(self._address(setting, word))
            elif not _LEASE_TIME.fullmatch(word):
                name = word
        for address in addresses:
            if not macs:
                self.reservations.append(ReservationClaim(address, setting.place, None, client or name))
            for mac in macs:
                self.reservations.append(ReservationClaim(address, setting.place, mac, name))

    def _address(self, setting: Setting, text: str) -> IPAddress:
        try:
            return parse_address(text)
        except ValueError as error:
            raise setting.error(str(error)) from None

    def _option(self, setting: Setting) -> None:
        tags: set[str] = set()
        words = setting.words()
        while len(words) > 1 and not _OPTION.match(words[0]):
            kind, colon, tag = words.pop(0).partition(":")
            if colon and kind not in ("tag", "net"):
                return  # inside another option, or for one make of client
            tags.add(tag if colon else kind)
        if words and words[0] in _OPTIONS:
            self._told.append((frozenset(tags), _OPTIONS[words[0]], tuple(w for w in words[1:] if w), setting))

    def _record(self, setting: Setting) -> None:
        if setting.key == "address":
            parts = setting.value.split("/")
            if len(parts) < 3 or not parts[-1] or parts[-1] == "#":
                return
            names, texts = parts[1:-1], [parts[-1]]
        else:
            words = [w for w in setting.words() if not w.isdecimal()]
            texts = [w for w in words if is_address(w)]
            names = [w for w in words if w not in texts]
        for text in texts:
            try:
                address = parse_address(text)
                for name in names:
                    kind = "A" if address.version == 4 else "AAAA"
                    self.records.append(RecordClaim(address, parse_domain(name), kind, setting.place))
            except ValueError:
                continue

    def _described(self) -> Iterator[SubnetClaim]:
        """The subnets, each with what its clients are told; the last option that fits counts."""
        for range_ in self._ranges:
            told: dict[str, tuple[tuple[str, ...], Setting]] = {}
            for tags, what, words, setting in self._told:
                if tags <= range_.tags:
                    told[what] = (words, setting)
            six = "6" if range_.network.version == 6 else ""
            search = told.get(f"search{six}") or (None if six else told.get("domain") or self._domain(range_.network))
            routers = told.get("routers") if not six else None
            resolvers = told.get(f"resolvers{six}")
            said = {"routers": routers, "resolvers": resolvers, "search": search}
            yield SubnetClaim(
                range_.network,
                range_.place,
                _addresses(routers),
                _addresses(resolvers),
                _domains(search),
                {what: setting[1].place for what, setting in said.items() if setting is not None},
            )

    def _domain(self, network: IPNetwork) -> tuple[tuple[str, ...], Setting] | None:
        """``domain=NAME[,RANGE|SUBNET|INTERFACE[,local]]``: the one for these addresses, else that of all."""
        found: tuple[tuple[str, ...], Setting] | None = None
        for setting in self._domains:
            name, *where = setting.words()
            if where and _covers(where, network):
                return (name,), setting
            if not where:
                found = (name,), setting
        return found


def _covers(where: list[str], network: IPNetwork) -> bool:
    """Whether what stands behind the name of a domain has all addresses of a subnet; an interface is not known here."""
    bounds = [w for w in where if w != "local"]
    try:
        range_ = parse_range(" - ".join(bounds))
    except ValueError:
        return False
    return network.network_address in range_ and network.broadcast_address in range_


def _addresses(told: tuple[tuple[str, ...], Setting] | None) -> tuple[IPAddress, ...] | None:
    if told is None:
        return None
    words, setting = told
    found = []
    for word in words:
        try:
            found.append(parse_address(word.strip("[]")))
        except ValueError as error:
            raise setting.error(str(error)) from None
    # 0.0.0.0 and :: stand for the server's own address, whichever that is.
    return None if any(int(a) == 0 for a in found) else tuple(found)


def _domains(told: tuple[tuple[str, ...], Setting] | None) -> tuple[str, ...] | None:
    if told is None:
        return None
    try:
        return tuple(parse_domain(word) for word in told[0])
    except ValueError:
        return None
