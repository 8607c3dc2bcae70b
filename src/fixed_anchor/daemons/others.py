"""What configures or names interfaces beside the stacks: services, hook folders, the initrd, the kernel's command line.

Tables alone; :mod:`fixed_anchor.observe.others` judges what a host has of them.
"""

from __future__ import annotations

import msgspec


class Service(msgspec.Struct, frozen=True):
    """A service that configures interfaces; ``always`` where it does so of its own accord, else it may be told to."""

    unit: str
    what: str
    always: bool = False


#: dhcpcd(8) as a service takes every interface that its configuration does not deny it.
DHCPCD = Service("dhcpcd.service", "a lease client for all interfaces", True)
DHCPCD_ON_ONE = "/etc/systemd/system/*.wants/dhcpcd@*.service"
DHCPCD_CONF = "/etc/dhcpcd.conf"

SERVICES = (
    DHCPCD,
    Service("connman.service", "a network daemon that is not one of the supported stacks", True),
    Service("wicked.service", "a network daemon that is not one of the supported stacks", True),
    Service("nm-cloud-setup.timer", "gives interfaces the addresses that the cloud has for them", True),
    Service("google-guest-agent.service", "a guest agent that configures interfaces as its cloud says"),
    Service("walinuxagent.service", "a guest agent that configures interfaces as its cloud says"),
    Service("waagent.service", "a guest agent that configures interfaces as its cloud says"),
    Service("oracle-cloud-agent.service", "a guest agent that configures interfaces as its cloud says"),
    Service("hv-kvp-daemon.service", "a guest agent through which the hypervisor sets addresses"),
    Service("hypervkvpd.service", "a guest agent through which the hypervisor sets addresses"),
    Service("open-vm-tools.service", "a guest agent through which the hypervisor sets addresses"),
    Service("vmtoolsd.service", "a guest agent through which the hypervisor sets addresses"),
    Service("xe-daemon.service", "a guest agent through which the hypervisor sets addresses"),
    Service("ec2net-scan.service", "a helper that adds the addresses that the cloud has for an interface"),
)
#: A helper of cloud images that writes stanzas for interfaces as they appear.
CLOUD_HELPER = "/etc/network/cloud-ifupdown-helper"

#: Folders of scripts that run when an interface or a lease comes up.
HOOK_FOLDERS = (
    "/etc/network/if-pre-up.d/*",
    "/etc/network/if-up.d/*",
    "/etc/dhcp/dhclient-enter-hooks.d/*",
    "/etc/dhcp/dhclient-exit-hooks.d/*",
    "/etc/dhcpcd.enter-hook",
    "/etc/dhcpcd.exit-hook",
    "/etc/NetworkManager/dispatcher.d/*",
    "/etc/NetworkManager/dispatcher.d/*/*",
    "/etc/networkd-dispatcher/*/*",
    "/etc/rc.local",
    "/etc/rc.d/rc.local",
    "/etc/systemd/system/*.service",
)
#: Scripts that the distributions ship there: they act on a lease, or on what a stanza says, alone.
SHIPPED_HOOKS = frozenset({"rfc3442-classless-routes", "debug", "10-ifcfg-rh-routes.sh", "bridge"})

#: What an initrd leaves of the interfaces that it has configured.
INITRD = "/run/net-*.conf"
#: Where an initrd is told to do so.
INITRD_CONFIG = ("/etc/initramfs-tools/initramfs.conf", "/etc/initramfs-tools/conf.d/*")
CMDLINE = "/proc/cmdline"
#: Where the kernel's command line of the next boot is made from.
NEXT_CMDLINE = ("/etc/default/grub", "/etc/kernel/cmdline")
#: systemd.link(5), by precedence of the folders.
LINK_FOLDERS = ("/etc/systemd/network/", "/run/systemd/network/", "/usr/lib/systemd/network/")
UDEV_RULES = "/etc/udev/rules.d/*.rules"

#: How a service is enabled, for systemd and for System V init.
ENABLED = ("/etc/systemd/system/*.wants/{}", "/etc/rc2.d/S*{}", "/etc/runlevels/default/{}")


def enabled_paths(service: Service) -> tuple[str, ...]:
    """The paths and patterns of which one is there where the service is enabled."""
    short = service.unit.partition(".")[0]
    return tuple(p.format(service.unit if "systemd" in p else short) for p in ENABLED)


#: What has to be collected to tell.
FILES = (
    *(path for service in SERVICES for path in enabled_paths(service)),
    DHCPCD_ON_ONE,
    DHCPCD_CONF,
    CLOUD_HELPER,
    *HOOK_FOLDERS,
    INITRD,
    *INITRD_CONFIG,
    CMDLINE,
    *NEXT_CMDLINE,
    *(folder + "*.link" for folder in LINK_FOLDERS),
    UDEV_RULES,
)
