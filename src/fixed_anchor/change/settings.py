"""Settings of a Windows machine: what a change there consists of, as a small text of our own, before and after.

Nothing here knows how they are read or written; :mod:`fixed_anchor.change.acts` has what brings them about.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping

import msgspec

from fixed_anchor.change.acts import Act
from fixed_anchor.change.shown import Shown
from fixed_anchor.core.addresses import IPAddress, IPInterface
from fixed_anchor.core.config import Fallback, Route
from fixed_anchor.core.errors import printable
from fixed_anchor.core.plan import Gateway


class HeldAddress(msgspec.Struct, frozen=True):
    """An address that is set on an adapter; one that is not ``is_source`` is never chosen as a source by itself."""

    address: IPInterface
    is_source: bool = True


class AdapterSettings(msgspec.Struct, frozen=True):
    """The persistent addressing of one adapter; ``guid`` is what it is known by, ``index`` Windows' number of today.

    ``ipv4`` is ``fixed``, ``dhcp`` or ``off``; ``ipv6`` is ``fixed``, ``ra`` or ``off``. ``hears_routers`` says that
    advertisements configure it as well, beside fixed addresses too. ``resolvers`` empty means
    those of the lease. ``default_from_lease`` has the IP versions of which it takes default routes from leases and
    routers. ``mtu`` is in bytes. ``left`` are ``address …`` and ``gateway …`` that an earlier fixed setting has left in
    the registry while the adapter asks DHCP: nobody wants them, and a restart may bring them.
    """

    name: str
    guid: str
    index: int
    mac: str | None
    ipv4: str
    ipv6: str
    addresses: tuple[HeldAddress, ...] = ()
    gateways: tuple[Gateway, ...] = ()
    routes: tuple[Route, ...] = ()
    resolvers: tuple[IPAddress, ...] = ()
    suffix: str = ""
    mtu: int | None = None
    default_from_lease: tuple[int, ...] = (4, 6)
    hears_routers: bool = True
    fallback: Fallback = Fallback()
    left: tuple[str, ...] = ()
    netbios_servers: tuple[IPAddress, ...] = ()

    def method(self, version: int) -> str:
        """How IP ``version`` (4 or 6) is configured."""
        return self.ipv4 if version == 4 else self.ipv6

    def held(self, version: int) -> tuple[HeldAddress, ...]:
        """Its addresses of IP ``version`` (4 or 6), in order."""
        return tuple(h for h in self.addresses if h.address.version == version)

    def gateways_of(self, version: int) -> tuple[Gateway, ...]:
        """Its gateways of IP ``version`` (4 or 6)."""
        return tuple(g for g in self.gateways if g.address.version == version)


class MachineSettings(msgspec.Struct, frozen=True):
    """What a machine has once for all adapters: its name, and the list of domains that are searched."""

    name: str
    search: tuple[str, ...] = ()


class Settings(msgspec.Struct, frozen=True):
    """Those of a machine, and of its adapters that a change is about."""

    machine: MachineSettings
    adapters: tuple[AdapterSettings, ...]

    def lines(self) -> tuple[str, ...]:
        """All of it as text, a setting in each line, in the words of a plan."""
        return tuple(line for part in (_of_machine(self.machine), *map(_of_adapter, self.adapters)) for line in part)


class SettingsContent(msgspec.Struct, frozen=True):
    """The content of a change: settings as they are and as they shall become, and the acts in between, in order.

    ``restart`` says what comes into force with a restart alone. Where old addresses stay until the decision, ``acts``
    lead to ``waiting``, and ``drop`` from there to ``after``; ``grace_facts`` are what then ends. ``back`` leads from
    wherever a change has got to what was ``before``. ``options_before`` are the alternate configurations of today by
    GUID, as the registry has them, in hexadecimal, ``options_after`` those behind the change.
    """

    interfaces: tuple[str, ...]
    before: Settings
    after: Settings
    acts: tuple[Act, ...]
    restart: str = ""
    waiting: Settings | None = None
    drop: tuple[Act, ...] = ()
    back: tuple[Act, ...] = ()
    grace_facts: tuple[str, ...] = ()
    options_before: Mapping[str, str] = {}
    options_after: Mapping[str, str] = {}

    @property
    def is_empty(self) -> bool:
        """Whether nothing is to be done: what is wanted is set already."""
        return not self.acts

    def shown(self) -> Shown:
        """The settings as a small text, and the acts as the calls that they come to."""
        calls = tuple((act.shown,) for act in self.acts)
        texts = (self.before.lines(), self.after.lines())
        return Shown(settings=texts, then=calls, remark=self.restart, nothing="nothing to do: this is set already")

    @property
    def until_decided(self) -> Settings:
        """What is set until the decision."""
        return self.after if self.waiting is None else self.waiting


def _row(key: str, value: str) -> str:
    return f"  {key:<10} {value}"


def _of_machine(machine: MachineSettings) -> Iterator[str]:
    yield "machine"
    yield _row("name", printable(machine.name))
    if machine.search:
        yield _row("search", " ".join(map(printable, machine.search)))


def _of_adapter(adapter: AdapterSettings) -> Iterator[str]:
    yield f'adapter "{printable(adapter.name)}"'
    yield _row("mac", adapter.mac or "none")
    for version in (4, 6):
        heard = version == 6 and adapter.ipv6 == "fixed" and adapter.hears_routers
        yield _row(f"ipv{version}", adapter.method(version) + (", and what routers announce" if heard else ""))
        for held in adapter.held(version):
            yield _row("hold", f"{held.address}" + ("" if held.is_source else "   never the source by itself"))
        for gateway in adapter.gateways_of(version):
            yield _row("gateway", f"{gateway.address}   metric {gateway.metric}")
        if adapter.method(version) in ("dhcp", "ra") and version not in adapter.default_from_lease:
            yield _row("gateway", "none")
    for route in adapter.routes:
        yield _row("route", str(route))
    resolvers = ", ".join(map(str, adapter.resolvers))
    yield _row("resolvers", resolvers or ("of the lease" if adapter.ipv4 == "dhcp" else "none"))
    if adapter.suffix:
        yield _row("search", printable(adapter.suffix))
    if adapter.netbios_servers:
        yield _row("netbios", ", ".join(map(str, adapter.netbios_servers)))
    if adapter.mtu is not None:
        yield _row("mtu", str(adapter.mtu))
    if adapter.fallback.address is not None:
        given = adapter.fallback
        more = f"   gateway {given.gateway}" if given.gateway is not None else ""
        more += f"   resolvers {', '.join(map(str, given.resolvers))}" if given.resolvers else ""
        yield _row("fallback", f"{given.address}{more}")
