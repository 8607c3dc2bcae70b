"""The simulated wire: devices and hosts of a segment that answer real frames and DNS messages."""

from __future__ import annotations

from collections.abc import Iterator
from ipaddress import IPv4Address, IPv6Address
from typing import Any

from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.packets import dhcp
from fixed_anchor.packets.arp import REQUEST, Arp, announcement_frame, probe_frame, reply_frame
from fixed_anchor.packets.ethernet import ETHERTYPE_ARP, ETHERTYPE_IPV4, ETHERTYPE_IPV6, Frame, PacketError
from fixed_anchor.packets.ipv4 import PROTOCOL_ICMP, Echo, IPv4, echo_frame
from fixed_anchor.packets.ipv6 import ECHO_REQUEST, Icmpv6, IPv6, Neighbour, advertisement_frame, echo6_frame
from fixed_anchor.packets.udp import PROTOCOL_UDP, Udp
from fixed_anchor.standins.beyond import time_exceeded
from fixed_anchor.standins.simulated_host import StandinHost
from fixed_anchor.standins.station import Device, Station

#: An answer, and the seconds after the question at which it comes.
Answer = tuple[float, bytes]


class SimulatedWire:
    """One segment of a station, as it looks from one of its hosts (``viewer``), which does not answer itself."""

    def __init__(self, station: Station, hosts: dict[str, StandinHost], segment: str, viewer: str) -> None:
        self.station = station
        self.segment = station.segments[segment]
        self.viewer = hosts.get(viewer)
        self._others = {name: host for name, host in hosts.items() if name != viewer}
        self._holders: dict[IPAddress, list[Device]] | None = None
        self._asked: dict[tuple[str, IPAddress], int] = {}

    @property
    def holders(self) -> dict[IPAddress, list[Device]]:
        """Who has which address, as it was when somebody began to look."""
        if self._holders is None:
            self._holders = {}
            for device in self.segment.devices:
                self._holders.setdefault(device.address, []).append(device)
            for name, host in self._others.items():
                for interface in host.host.interfaces:
                    for address in host.addresses_of(interface) if interface.segment == self.segment.name else ():
                        device = Device(name, interface.mac, address, ssh=host.host.over_ssh)
                        self._holders.setdefault(address, []).append(device)
        return self._holders

    def look_again(self) -> None:
        """Hosts may have been changed meanwhile."""
        self._holders = None

    @property
    def is_up(self) -> bool:
        """Whether the port of the viewer forwards: not where the segment is isolated, nor at once after a reload."""
        since = self.viewer.since_reload() if self.viewer is not None else None
        return not self.segment.isolated and (since is None or since >= self.segment.forwards_after)

    def unasked(self) -> Iterator[bytes]:
        """What devices send without being asked: announcements of their own addresses (gratuitous ARP), probes."""
        for device in self.segment.devices:
            if isinstance(device.address, IPv4Address):
                yield from [announcement_frame(device.mac, device.address)] * device.flood
            if device.probes_for is not None:
                yield probe_frame(device.mac, device.probes_for)

    def answers(self, frame: bytes) -> list[Answer]:
        """What comes back for ``frame``; nothing for what nobody understands."""
        if not self.is_up:
            return []
        try:
            ethernet = Frame.decode(frame)
            if ethernet.ethertype == ETHERTYPE_ARP:
                return list(self._arp(Arp.decode(ethernet.payload)))
            if ethernet.ethertype == ETHERTYPE_IPV4:
                packet = IPv4.decode(ethernet.payload)
                exceeded = [(0.01, said) for said in time_exceeded(self.segment, self.holders, ethernet)]
                heard = self._dhcp(packet) if packet.protocol == PROTOCOL_UDP else self._echo(ethernet, packet)
                return [*exceeded, *heard]
            if ethernet.ethertype == ETHERTYPE_IPV6:
                return [
                    *((0.01, said) for said in time_exceeded(self.segment, self.holders, ethernet)),
                    *self._ipv6(ethernet, IPv6.decode(ethernet.payload)),
                ]
        except PacketError:
            pass
        return []

    def _awake(self, target: IPAddress) -> Iterator[Device]:
        """The holders of ``target`` that answer this question about it, and those that answer for everybody."""
        proxies = (d for d in self.segment.devices if d.proxy_arp and d.address != target and target.version == 4)
        for device in (*self.holders.get(target, ()), *proxies):
            key = (device.mac, target)
            self._asked[key] = self._asked.get(key, 0) + 1
            if not device.asleep and self._asked[key] >= device.probe:
                yield device

    def _arp(self, arp: Arp) -> Iterator[Answer]:
        if arp.operation == REQUEST:
            for device in self._awake(arp.target):
                yield device.late, _tagged(reply_frame(device.mac, arp.target, arp), device.vlan)

    def _ipv6(self, ethernet: Frame, packet: IPv6) -> Iterator[Answer]:
        message = Icmpv6.decode(packet)
        if message.kind == ECHO_REQUEST:
            for device in self.holders.get(packet.destination, ()):
                if device.echo and device.mac == ethernet.destination:
                    identifier, sequence = (int.from_bytes(message.body[at : at + 2], "big") for at in (0, 2))
                    ends = (device.mac, ethernet.source, packet.destination, packet.source)
                    yield device.late, echo6_frame(*ends, False, identifier, sequence, message.body[4:])
            return
        asked = Neighbour.decode(packet)
        if asked.solicitation:
            for device in self._awake(asked.target):
                yield device.late, advertisement_frame(device.mac, asked.target, packet.source, ethernet.source)

    def _echo(self, ethernet: Frame, packet: IPv4) -> Iterator[Answer]:
        if packet.protocol != PROTOCOL_ICMP:
            return
        for device in self.holders.get(packet.destination, ()):
            if device.mac != ethernet.destination or not device.echo or device.asleep:
                continue
            echo = Echo.decode(packet.payload)
            if echo.request:
                reply = Echo(False, echo.identifier, echo.sequence, echo.payload)
                yield device.late, echo_frame(device.mac, ethernet.source, packet.destination, packet.source, reply)

    # --- DHCP ---------------------------------------------------------------------------

    def _dhcp(self, packet: IPv4) -> Iterator[Answer]:
        datagram = Udp.decode(packet)
        if datagram.destination != dhcp.SERVER_PORT:
            return
        message = dhcp.Dhcp.decode(datagram.payload)
        if message.reply or message.kind not in (dhcp.DISCOVER, dhcp.INFORM):
            return
        segment = self.segment
        server = segment.server or segment.router
        offered = segment.lease_for(message.mac)
        if server is not None and offered is not None:
            device = next((d for d in segment.devices if d.address == server), None)
            mac = device.mac if device else "00:00:5e:00:53:f0"
            # A server that tries an address before it offers it takes its time.
            yield 3.0, self._offer(message, server, mac, offered, segment.router, segment.resolvers)
        for device in segment.devices:
            if device.offers is not None and isinstance(device.address, IPv4Address) and not device.asleep:
                here = device.address
                yield device.late, self._offer(message, here, device.mac, device.offers, here, (here,))

    def _offer(
        self,
        asked: dhcp.Dhcp,
        server: IPv4Address,
        mac: str,
        offered: IPv4Address,
        router: IPv4Address | None,
        resolvers: tuple[IPAddress, ...],
    ) -> bytes:
        inform = asked.kind == dhcp.INFORM
        options = {
            dhcp.MESSAGE_TYPE: bytes([dhcp.ACK if inform else dhcp.OFFER]),
            dhcp.SERVER_ID: server.packed,
            dhcp.SUBNET_MASK: self.segment.subnet.netmask.packed,
        }
        if router is not None:
            options[dhcp.ROUTERS] = router.packed
        options[dhcp.RESOLVERS] = b"".join(r.packed for r in resolvers if r.version == 4)
        if self.segment.search:
            options[dhcp.DOMAIN_NAME] = self.segment.search[0].encode()
        if not inform:
            options[dhcp.LEASE_TIME] = self.segment.lease_seconds.to_bytes(4, "big")
        your = IPv4Address(0) if inform else offered
        reply = dhcp.Dhcp(True, asked.transaction, asked.mac, options, asked.client, your)
        return dhcp.reply_frame(reply, mac, server)

    # --- DNS ----------------------------------------------------------------------------

    def dns(self, server: IPAddress, question: bytes, over_tcp: bool = False) -> bytes | None:
        """The answer of the resolver ``server`` (RFC 1035), or ``None`` if none is there."""
        import dns.message
        import dns.rcode
        import dns.rdatatype
        import dns.rrset

        device = self._resolver(server)
        if device is None or (device.dns_over_tcp and not over_tcp):
            return None
        query = dns.message.from_wire(question)
        response = dns.message.make_response(query, recursion_available=True)
        asked = query.question[0]
        name, kind = asked.name, dns.rdatatype.to_text(asked.rdtype)
        if self._is_refused(device, name.to_text().lower().rstrip(".")):
            response.set_rcode(dns.rcode.REFUSED)
            return response.to_wire()
        if kind == "SOA":
            text = f"ns.{name} hostmaster.{name} 1 3600 600 86400 300"
            response.answer.append(dns.rrset.from_text(name, 300, "IN", "SOA", text))
        for data in _records(self._names(), name, kind):
            response.answer.append(dns.rrset.from_text(name, 300, "IN", kind, data))
        return response.to_wire()

    def _resolver(self, server: IPAddress) -> Device | None:
        """The resolver at an address: on the segment, or on the host itself."""
        if (
            self.viewer is not None
            and self.viewer.host.resolver
            and (server.is_loopback or server in self.viewer.own_addresses())
        ):
            return Device(self.viewer.host.name, "00:00:00:00:00:00", server, dns=True)
        if not self.is_up:
            return None
        return next((d for d in self.holders.get(server, ()) if d.dns and not d.asleep), None)

    def _is_refused(self, device: Device, name: str) -> bool:
        own = self.viewer.own_addresses() if self.viewer is not None else ()
        # A kernel asks from the first address that it has on the segment.
        source = next((address for address in own if address in self.segment.subnet), None)
        if device.admits and source not in device.admits:
            return True
        return any(name == zone or (zone != "" and name.endswith(f".{zone}")) for zone in device.refuses)

    def _names(self) -> dict[str, IPAddress]:
        return {name: address for d in self.segment.devices for name, address in d.names.items()}


def _tagged(frame: bytes, vlan: int | None) -> bytes:
    """The frame with the tag of a VLAN (IEEE 802.1Q, section 9.6)."""
    return frame if vlan is None else frame[:12] + b"\x81\x00" + vlan.to_bytes(2, "big") + frame[12:]


def _records(names: dict[str, IPAddress], name: Any, kind: str) -> list[str]:
    """The data of the records of ``kind`` at ``name``, forward and reverse."""
    import dns.reversename

    plain = name.to_text(omit_final_dot=True).lower()
    if kind == "PTR":
        return [f"{host}." for host, address in names.items() if dns.reversename.from_address(str(address)) == name]
    wanted = {"A": IPv4Address, "AAAA": IPv6Address}.get(kind)
    found = names.get(plain)
    return [str(found)] if wanted is not None and isinstance(found, wanted) else []
