"""The text of a DNS master file (RFC 1035, section 5), read by dnspython, with all that it includes.

What dnspython does not do is done here: files are opened within limits, records keep the line in which
they begin, and so do errors.
"""

from __future__ import annotations

import re
from typing import Any

import dns.exception
import dns.name
import dns.rdataclass
import dns.rdatatype
import dns.tokenizer
import dns.zonefile
import msgspec

from fixed_anchor.core.addresses import parse_address
from fixed_anchor.core.config import Place
from fixed_anchor.core.errors import InputError
from fixed_anchor.sources.protocol import Reader, text_of
from fixed_anchor.sources.zone_generate import parse_generate

#: How many records `$GENERATE` may make in a whole zone.
MANY = 65536
#: How deep files may include others.
_DEPTH = 16
#: How much of a line a message shows.
_SHOWN = 60
#: Names that need no second look, and how long one may be.
_PLAIN = re.compile(r"(?:[A-Za-z0-9_*-]{1,63}\.)*[A-Za-z0-9_*-]{1,63}\.?")
_LONGEST = 250
_BRACKET = re.compile(r'"(?:[^"\\\n]|\\.)*"|;[^\n]*|\\.|([()])')


class Record(msgspec.Struct, frozen=True, gc=False):
    """One resource record, and where it begins.

    ``owner`` is a whole name in lower case, without the last dot. ``value`` is an address, or such a name
    for a ``PTR``; it is empty for types that say nothing of addresses.
    """

    owner: str
    kind: str
    value: str
    place: Place


def records_of(text: str, path: str, name: dns.name.Name, reader: Reader) -> list[Record]:
    """All records of the zone ``name``. Raises :class:`InputError` with file and line."""
    collector = _Collector()
    _File(text, path, name, reader, collector, ()).read()
    return collector.records


class _Collector:
    """Takes the records where dnspython would put them into a zone."""

    def __init__(self) -> None:
        self.records: list[Record] = []
        self.file: _File | None = None
        self.generated = 0
        self.manager = self

    def origin_information(self) -> tuple[dns.name.Name, bool, dns.name.Name]:
        return dns.name.root, False, dns.name.root

    def check_put_rdataset(self, check: object) -> None:
        """Zones that contradict themselves are the DNS server's to refuse."""

    def _set_origin(self, origin: dns.name.Name) -> None:
        """The origin moves within the file; the zone stays the same."""

    def add(self, owner: dns.name.Name, ttl: int, rdata: Any) -> None:
        assert self.file is not None
        kind = dns.rdatatype.to_text(rdata.rdtype)
        value = rdata.address if kind in ("A", "AAAA") else name_text(rdata.target) if kind == "PTR" else ""
        self.records.append(Record(name_text(owner), kind, value, self.file.place))


class _Tokens(dns.tokenizer.Tokenizer):
    """Tells the file where each line begins, and hands it what it includes."""

    owner: _File

    def get(self, want_leading: bool = False, want_comment: bool = False) -> dns.tokenizer.Token:
        if not want_leading or self.ungotten_token is not None:
            return super().get(want_leading, want_comment)
        _, line = self.where()
        token = super().get(want_leading, want_comment)
        if not token.is_eol_or_eof():
            self.owner.place = Place(self.owner.path, line)
        if token.is_identifier() and token.value.upper() == "$INCLUDE":
            self.owner.include()
            return self.get(want_leading, want_comment)
        return token


class _File(dns.zonefile.Reader):
    """One file of a zone; ``above`` are the paths of those that include it."""

    def __init__(
        self, text: str, path: str, origin: dns.name.Name, reader: Reader, collector: _Collector, above: tuple[str, ...]
    ) -> None:
        self.path = path
        self.place = Place(path, 1)
        self._lines = text.split("\n")
        self._reader = reader
        self._collector = collector
        self._above = above
        tokens = _Tokens(text, path)
        tokens.owner = self
        super().__init__(tokens, dns.rdataclass.IN, collector)  # type: ignore[arg-type]
        self.current_origin = self.last_name = origin

    def read(self) -> None:
        outer, self._collector.file = self._collector.file, self
        try:
            super().read()
        except (dns.exception.DNSException, ValueError, RecursionError) as error:
            # "FILE:LINE: what": the line is that of the reading position, behind the end of a plain record.
            what = re.sub(rf"^{re.escape(self.path)}:[0-9]+: ", "", str(error))
            line = self.place.line
            if self.tok.multiline:
                if _never_closed(self._lines[line - 1 :]):
                    what = "a bracket that is opened here is not closed"
                else:
                    line = self.tok.where()[1] - (self.tok.ungotten_char == "\n")
            shown = self._lines[line - 1].strip()[:_SHOWN] if line <= len(self._lines) else ""
            # What dnspython says where a value is none of its type says nothing.
            what = what.rstrip(".").replace("Text input is malformed", "its value is not one of its type")
            what = f"{shown!r} is no DNS record: {what}"
            raise InputError(what, file=self.path, line=line, expected="RFC 1035, section 5") from None
        self._collector.file = outer

    def include(self) -> None:
        """Reads the file that an `$INCLUDE` names; origin, last owner and TTL are as before afterwards."""
        here = self.place
        words = self._words()
        if not 1 <= len(words) <= 2:
            raise InputError(
                "an `$INCLUDE` of this form", file=self.path, line=here.line, expected="$INCLUDE FILE [ORIGIN]"
            )
        path = self._reader.path(words[0], self.path)
        if path in (*self._above, self.path) or len(self._above) >= _DEPTH:
            raise InputError(f"{path} includes itself, or is too deep", file=self.path, line=here.line)
        origin = dns.name.from_text(words[1], self.current_origin) if len(words) == 2 else self.current_origin
        assert origin is not None
        try:
            text = text_of(self._reader.read(path), path)
        except InputError as error:
            if error.line is not None:
                raise
            raise InputError(f"{path}: {error.what}", file=self.path, line=here.line) from None
        inner = _File(text, path, origin, self._reader, self._collector, (*self._above, self.path))
        inner.last_name = self.last_name
        inner.default_ttl, inner.default_ttl_known = self.default_ttl, self.default_ttl_known
        inner.last_ttl, inner.last_ttl_known = self.last_ttl, self.last_ttl_known
        inner.read()

    def _words(self) -> list[str]:
        """What is left of the line."""
        words = []
        while not (token := self.tok.get()).is_eol_or_eof():
            words.append(token.value)
        return words

    def _generate_line(self) -> None:
        # dnspython takes a fifth of a millisecond for each record that is made.
        made = parse_generate(self._words())
        self._collector.generated += len(made.numbers)
        if self._collector.generated > MANY:
            raise InputError(f"$GENERATE of more than {MANY} records", file=self.path, line=self.place.line)
        assert self.current_origin is not None
        origin = name_text(self.current_origin)
        for owner, value in made.records():
            if made.kind == "PTR":
                value = _whole(value, origin)
            elif made.kind in ("A", "AAAA"):
                value = str(parse_address(value))
            else:
                value = ""
            self._collector.records.append(Record(_whole(owner, origin), made.kind, value, self.place))


def name_text(name: dns.name.Name) -> str:
    """A whole name as text, in lower case and without the last dot; empty for the root."""
    return "" if name == dns.name.root else name.to_text(omit_final_dot=True).lower()


def _whole(name: str, origin: str) -> str:
    """``name`` with ``origin`` behind it, where it has no dot at its end. Raises an exception of dnspython's."""
    if name == "@":
        return origin
    if not _PLAIN.fullmatch(name) or len(name) + len(origin) > _LONGEST:
        return name_text(dns.name.from_text(name, dns.name.from_text(f"{origin}.")))
    return f"{name}.{origin}".lower().rstrip(".") if not name.endswith(".") else name[:-1].lower()


def _never_closed(lines: list[str]) -> bool:
    """Whether the first bracket of a record, which begins in the first of ``lines``, is followed by another one."""
    brackets = [mark[1] for mark in _BRACKET.finditer("\n".join(lines)) if mark[1]]
    return brackets[:1] == ["("] and brackets[1:2] != [")"]
