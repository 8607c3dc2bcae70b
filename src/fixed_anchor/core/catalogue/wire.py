"""What the wire says of a plan."""

from __future__ import annotations

from fixed_anchor.core.catalogue.kinds import BLOCKER, NOTE, WARNING, Row

ROWS: tuple[Row, ...] = (
    (
        "answers-on-wire",
        "wire",
        BLOCKER,
        "another machine answers for the address",
        "It is in use now. Two holders lose their connections by turns.",
        "Take another address, or find the machine by its MAC.",
    ),
    (
        "gateway-silent",
        "wire",
        BLOCKER,
        "the gateway does not answer",
        "A default route through it would lead nowhere.",
        "Compare the gateway with the one in force today, and look whether it is up.",
    ),
    (
        "gateway-two-owners",
        "wire",
        BLOCKER,
        "two machines answer for the gateway",
        "One of them is a mistake or an attack; traffic goes to either.",
        "Find both by their MACs before anything is changed.",
    ),
    (
        "gateway-differs",
        "wire",
        BLOCKER,
        "the gateway is none that is known on the segment",
        "The default route of today, the DHCP server and the sources name another; a machine that is no router takes "
        "every packet and forwards none.",
        "Correct the gateway; where it is a new one, let the DHCP server say it, too, or override this.",
    ),
    (
        "owner-not-provable",
        "wire",
        NOTE,
        "nobody could see after the change whether another machine has the address too",
        "A second holder of an address is seen by frames of our own, or by arping; a kernel does not look for one of "
        "its own addresses.",
        "Install python3 or iputils-arping there; where that cannot be, override this.",
    ),
    (
        "forwarding-not-proven",
        "wire",
        NOTE,
        "nothing beyond the gateway answers today",
        "Then nothing can show after the change that the new address is of use beyond its segment, and nobody is there "
        "to look.",
        "Name something under `reachable:` of the segment; where nothing is beyond the gateway, override this.",
    ),
    (
        "answered-by-proxy",
        "wire",
        WARNING,
        "a machine that answers for every address answers for this one",
        "It stands in for others (proxy ARP). Whether somebody behind it has the address cannot be seen.",
        "Look at the list of addresses that it stands in for; or take another address.",
    ),
    (
        "unknown-dhcp-server",
        "wire",
        WARNING,
        "a DHCP server answers that the plan does not know",
        "Its pool may contain the address, and hosts that stay on DHCP may get wrong settings.",
        "Find it by its address and MAC.",
    ),
    (
        "resolver-silent",
        "wire",
        WARNING,
        "a resolver does not answer",
        "Every look-up waits for it first.",
        "Correct the plan's resolvers, or look whether it is up.",
    ),
    (
        "probed-by-another",
        "wire",
        NOTE,
        "another machine asks for the address at the same time",
        "It may be about to take it, or only be looked for from there: nobody has answered for it so far.",
        "Find the machine with that MAC; or check again when it is quiet.",
    ),
    (
        "dhcp-answer-broken",
        "wire",
        WARNING,
        "the answer of a DHCP server is broken",
        "An option says that it is longer than the message; clients drop such an answer, or read it differently.",
        "Look at the options that the server is configured to send.",
    ),
    (
        "not-probed",
        "wire",
        NOTE,
        "the wire was not looked at",
        "Whether a machine answers for the address is not known.",
        "Run the check as root on a host of the segment.",
    ),
)
