"""Interface-file formats, one module each. A new one is a new module and one line here."""

from fixed_anchor.dialects.ifcfg import Ifcfg
from fixed_anchor.dialects.ifupdown import Ifupdown
from fixed_anchor.dialects.keyfile import Keyfile
from fixed_anchor.dialects.netplan import Netplan
from fixed_anchor.dialects.networkd import Networkd
from fixed_anchor.dialects.protocol import Dialect

#: In the order in which they are asked: netplan writes files for two of the others.
DIALECTS: dict[str, Dialect] = {
    "netplan": Netplan(),
    "NetworkManager": Keyfile(),
    "networkd": Networkd(),
    "ifupdown": Ifupdown(),
    "ifcfg": Ifcfg(),
}
