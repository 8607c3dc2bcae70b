"""Passphrases and keys in the text of configuration files: masked wherever text is shown, never in the files."""

from __future__ import annotations

import re

#: Stands for a secret in what is shown.
HIDDEN = "(hidden)"

#: The names of settings whose values are secrets, in any case, with ``-``, ``_`` or nothing between their words:
#: netplan(5), nm-settings(5), systemd.netdev(5), wpa_supplicant.conf(5), ifcfg files, interfaces(5), dhcpd.conf(5).
_NAMES = (
    r"(?:[a-z0-9_.-]*[-_])?(?:password|passphrase|psk|passwd)[0-9]*(?:[-_](?:raw|hash|file-content))?",
    r"(?:[a-z0-9]*[-_]?)?(?:private|preshared|pre[-_]shared|shared|secret)[-_]?key[a-z0-9_]*(?!-path|file)",
    r"wep[-_]?key[0-9]?(?![-_]?(?:type|flags))|wireless[-_]key[0-9]?|key_?(?:passphrase)?[1-4]",
    r"secrets?|pin|mka[-_]?cak|cak",
)
_NAME = "|".join(_NAMES)
#: ``NAME=VALUE`` and ``name: value``, quoted or not, also behind a diff's sign and our own comment.
_ASSIGNED = re.compile(
    rf"""(?ix) (?P<head> (?<![\w.-]) ["']? (?:{_NAME}) ["']? \s* (?: [:=] \s* ) )
         (?P<value> "(?:[^"\\]|\\.)*" | '[^']*' | [^\s,}}\]][^,}}\]\n]* | [^\s].* )"""
)
#: netplan(5) calls the keys of tunnels so plainly that only their values tell them: base64 of some length.
_KEY = re.compile(
    r"""(?ix) (?P<head> (?<![\w.-]) ["']? (?: key | private | shared | (?:input|output)-key ) ["']? \s* [:=] \s* )
         (?P<value> ["']? [a-z0-9+/]{20,} =* ["']? )"""
)
#: ``option VALUE`` of interfaces(5), and ``secret VALUE;`` of ISC's servers.
_OPTION = re.compile(rf"(?ix) ^ (?P<head> [\s+#-]* (?:was:\s*)? (?:{_NAME}) [ \t]+ ) (?P<value> [^\s=:].* ) $")
#: What refers to a secret instead of being one.
_NO_SECRET = re.compile(r"(?i)^[\"']?(?:env:|/|\(hidden\)|none\b|true\b|false\b|null\b|[0-9]$)")
_FLAGS = re.compile(r"(?i)(?:[-_](?:flags|type|path))[\"']?\s*[:=]")


def masked_line(line: str) -> str:
    """``line`` with the values of settings that are secrets hidden; all else as it is."""

    def hide(found: re.Match[str]) -> str:
        value = found["value"]
        if _NO_SECRET.match(value) or _FLAGS.search(found["head"]):
            return found[0]
        tail = ";" if value.endswith(";") else ""
        return found["head"] + HIDDEN + tail

    for pattern in (_ASSIGNED, _KEY, _OPTION):
        line = pattern.sub(hide, line)
    return line


def masked(text: str) -> str:
    """A whole text, each of its lines masked."""
    return "".join(
        masked_line(line.rstrip("\r\n")) + line[len(line.rstrip("\r\n")) :] for line in text.splitlines(True)
    )
