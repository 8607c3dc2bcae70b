"""The simulated wire: devices and hosts of a segment that answer real frames and DNS messages."""

from __future__ import annotations

from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.packets.arp import REQUEST, Arp, reply_frame
from fixed_anchor.packets.ethernet import ETHERTYPE_ARP, ETHERTYPE_IPV4, Frame, PacketError
from fixed_anchor.packets.ipv4 import PROTOCOL_ICMP, Echo, IPv4, echo_frame
from fixed_anchor.standins.host import StandinHost, holder_macs
from fixed_anchor.standins.station import Station


class SimulatedWire:
    """One segment of a station, as it looks from one of its hosts (``viewer``), which does not answer itself."""

    def __init__(self, station: Station, hosts: dict[str, StandinHost], segment: str, viewer: str) -> None:
        self.station = station
        self.segment = station.segments[segment]
        self.others = {name: host for name, host in hosts.items() if name != viewer}

    def _holders(self, address: IPAddress) -> list[str]:
        return holder_macs(self.station, self.others, self.segment.name, address)

    def answers(self, frame: bytes) -> list[bytes]:
        """The frames that come back for ``frame``, in order; none for what nobody understands."""
        try:
            ethernet = Frame.decode(frame)
            if ethernet.ethertype == ETHERTYPE_ARP:
                return self._arp(Arp.decode(ethernet.payload))
            if ethernet.ethertype == ETHERTYPE_IPV4:
                return self._ipv4(ethernet, IPv4.decode(ethernet.payload))
        except PacketError:
            pass
        return []

    def _arp(self, arp: Arp) -> list[bytes]:
        if arp.operation != REQUEST:
            return []
        return [reply_frame(mac, arp.target, arp) for mac in self._holders(arp.target)]

    def _ipv4(self, ethernet: Frame, packet: IPv4) -> list[bytes]:
        if packet.protocol != PROTOCOL_ICMP or ethernet.destination not in self._holders(packet.destination):
            return []
        device = next((d for d in self.segment.devices if d.address == packet.destination), None)
        if device is not None and not device.echo:
            return []
        echo = Echo.decode(packet.payload)
        if not echo.request:
            return []
        reply = Echo(False, echo.identifier, echo.sequence, echo.payload)
        return [echo_frame(ethernet.destination, ethernet.source, packet.destination, packet.source, reply)]

    def dns(self, server: IPAddress, question: bytes) -> bytes | None:
        """The answer of the resolver ``server`` (RFC 1035), or ``None`` if none is there."""
        import dns.message
        import dns.rdatatype
        import dns.rrset

        if not any(d.dns and d.address == server for d in self.segment.devices):
            return None
        query = dns.message.from_wire(question)
        response = dns.message.make_response(query, recursion_available=True)
        asked = query.question[0]
        if asked.rdtype == dns.rdatatype.SOA:
            text = f"ns.{asked.name} hostmaster.{asked.name} 1 3600 600 86400 300"
            response.answer.append(dns.rrset.from_text(asked.name, 300, "IN", "SOA", text))
        return response.to_wire()
