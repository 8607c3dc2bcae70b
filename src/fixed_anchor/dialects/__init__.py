"""Interface-file formats, one module each. A new one is a new module and one line here."""

from fixed_anchor.dialects.netplan import Netplan
from fixed_anchor.dialects.protocol import Dialect

DIALECTS: dict[str, Dialect] = {
    "netplan": Netplan(),
}
