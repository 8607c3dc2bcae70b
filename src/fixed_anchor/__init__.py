"""Fixed Anchor: converts hosts from DHCP to static addressing, with a way back."""

__version__ = "0.1.0"
