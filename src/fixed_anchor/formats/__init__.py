"""Interface-file formats, one module each. A new one is a new module and one line here.

Two more are for the whole host: :mod:`~fixed_anchor.formats.resolv_conf` with
:mod:`~fixed_anchor.formats.resolved_conf`, and :mod:`~fixed_anchor.formats.host_names`.
"""

from fixed_anchor.formats.ifcfg import Ifcfg
from fixed_anchor.formats.interfaces import Interfaces
from fixed_anchor.formats.interfaces2 import Interfaces2
from fixed_anchor.formats.keyfile import Keyfile
from fixed_anchor.formats.netplan import Netplan
from fixed_anchor.formats.network_file import NetworkFile
from fixed_anchor.formats.protocol import Format

#: In the order in which they are asked: netplan writes files for two of the others. The keys are
#: the words for the stacks, as users see them.
FORMATS: dict[str, Format] = {
    "netplan": Netplan(),
    "NetworkManager": Keyfile(),
    "networkd": NetworkFile(),
    "ifupdown": Interfaces(),
    "ifupdown2": Interfaces2(),
    "ifcfg": Ifcfg(),
}
