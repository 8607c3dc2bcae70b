"""Whether a further connection needs a person: keys that want a touch are no help where nobody is there."""

from __future__ import annotations

import re
import subprocess

from fixed_anchor.core.errors import AnchorError, Refused, printable
from fixed_anchor.machines.ssh import client
from fixed_anchor.machines.ssh.destination import Destination

#: How ssh(1) tells, with -v, which key a server takes: its file or comment, and its kind.
_ACCEPTED = re.compile(r"Server accepts key: (.*?) (\S+) SHA256:")
#: The kinds of key that a hardware authenticator holds, such as ED25519-SK and ECDSA-SK-CERT.
_OF_HARDWARE = re.compile(r"-SK(-|$)")


def why_not_alone(host: str, destination: Destination, jump: str) -> AnchorError | None:
    """Makes one connection more, and says why it needed a person; ``None`` where it did not, as far as it shows.

    An agent that asks before it uses a key (ssh-add(1), ``-c``) does not say so. Keys of jump hosts count as well.
    """
    argv = client.trial_argv(destination, jump)
    try:
        done = subprocess.run(argv, input=b"", capture_output=True, timeout=60, check=False)
    except subprocess.TimeoutExpired:
        return Refused(
            f"a second connection to {host} did not come about in 60 s: does a key of yours ask for something?",
            remedy="leave --unattended out, and confirm yourself",
        )
    for key, kind in _ACCEPTED.findall(done.stderr.decode("utf-8", "replace")):
        if _OF_HARDWARE.search(kind):
            return Refused(
                f"{host} is reached with {printable(key)} ({printable(kind)}), a hardware key that wants a touch or a "
                "code for each connection: with --unattended nobody is there",
                remedy="reach it with another key, or leave --unattended out and confirm yourself",
            )
    return None
