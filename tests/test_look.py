"""Looking at a segment on which others look at the same time: their probes are no answers."""

from __future__ import annotations

from ipaddress import IPv4Address

import pytest

from fixed_anchor.core.rules.wire import wire_findings
from fixed_anchor.packets.arp import Arp, probe_frame, reply_frame
from fixed_anchor.packets.conversation import Conversation
from fixed_anchor.vantages.protocol import Said
from fixed_anchor.workflow.network.look import look
from tests.judging import interface_case
from tests.test_rules import plan

OWN, OTHER = "00:00:5e:00:53:11", "00:00:5e:00:53:5a"
TARGET, GATEWAY = IPv4Address("203.0.113.20"), IPv4Address("203.0.113.1")


class Busy:
    """A segment on which another machine probes during the first conversations; time passes at once."""

    name, mac, own, link_local, table, why_not = "a busy wire", OWN, None, None, None, None

    def __init__(self, rounds: int, held: bool, others: bool) -> None:
        self.rounds = rounds
        self.held = held
        self.others = others
        self.conversations = 0

    @property
    def frames(self) -> Busy:
        return self

    def converse(self, conversation: Conversation) -> None:
        self.conversations += 1
        for send in conversation.sends():
            asked = Arp.decode(send.frame[14:])
            if self.conversations <= self.rounds:
                mac = f"00:00:5e:00:53:7{self.conversations}" if self.others else OTHER
                conversation.receive(probe_frame(mac, asked.target))
            if (self.held and asked.target == TARGET) or asked.target == GATEWAY:
                conversation.receive(reply_frame(OTHER, asked.target, asked))

    def drops(self) -> int:
        return 0

    def across_router(self, address: object) -> tuple[list[Said], list[Said]]:
        return [], []

    def ask_dns(self, server: object, question: bytes, timeout: float) -> bytes | None:
        return None


@pytest.mark.parametrize(
    ("rounds", "held", "others", "codes", "conversations"),
    [
        (0, False, False, [], 1),
        # It looked, too, and has stopped.
        (1, False, False, [], 2),
        # It goes on, and takes nothing: it only looks.
        (9, False, False, [], 3),
        # Always somebody else, of whom nobody knows what they are about to do.
        (9, False, True, ["probed-by-another"], 5),
        # An answer is one, whoever asks beside; whether it is a proxy's is asked once more.
        (9, True, False, ["answers-on-wire"], 2),
    ],
)
def test_a_probe_is_no_answer(rounds: int, held: bool, others: bool, codes: list[str], conversations: int) -> None:
    wire = Busy(rounds, held, others)
    looked = look(wire, [TARGET, GATEWAY], in_use=[GATEWAY])  # type: ignore[arg-type]
    made = plan()
    findings = list(wire_findings(interface_case(made, answers=looked.answers.values())))
    assert [f.code for f in findings] == codes, findings
    assert wire.conversations == conversations
    if codes == ["probed-by-another"]:
        assert "00:00:5e:00:53:75" in findings[0].message
        assert findings[0].undetermined
        said = looked.answers[TARGET].consulted(frozenset({OWN})).said
        assert said.endswith("00:00:5e:00:53:75 asks for it as well"), said
