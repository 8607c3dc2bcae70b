"""First-boot provisioning: whether it writes an interface file again at every boot, and how that is switched off."""

from __future__ import annotations

import re

from fixed_anchor.machines.readable import Readable

#: What regenerates an interface file at boot, and how its own documentation says to stop that.
CONFIG = "/etc/cloud/cloud.cfg"
SWITCH = "/etc/cloud/cloud.cfg.d/99-fixed-anchor.cfg"
OFF = (
    "# The addresses of this host are kept by hand: first-boot provisioning must not write them again.\n"
    "network: {config: disabled}\n"
)
_DISABLED = "/etc/cloud/cloud-init.disabled"
_MORE = "/etc/cloud/cloud.cfg.d/*.cfg"
#: What has to be read to tell.
FILES = (CONFIG, _DISABLED, _MORE)
_GENERATED = re.compile(r"cloud-init|generated from .*datasource", re.IGNORECASE)


def says_generated(head: str) -> bool:
    """Whether the head of a file says that first-boot provisioning made it."""
    return _GENERATED.search(head) is not None


def regenerates(machine: Readable, path: str) -> bool:
    """Whether first-boot provisioning writes ``path`` again at boot, and nothing has switched that off yet."""
    if machine.read(CONFIG) is None or machine.read(_DISABLED) is not None:
        return False
    file = machine.read(path)
    head = "\n".join(file.text.splitlines()[:12]) if file else ""
    if not (says_generated(head) or "cloud-init" in path.rpartition("/")[2]):
        return False
    for config in (CONFIG, *machine.glob(_MORE)):
        text = machine.read(config)
        if text and re.search(
            r"^network:\s*(\{\s*config:\s*disabled\s*\}|\n\s+config:\s*disabled)", text.text, re.MULTILINE
        ):
            return False
    return True
