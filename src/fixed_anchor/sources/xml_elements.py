"""XML as a tree of elements that know their lines and offsets; no entities, no document type."""

from __future__ import annotations

from xml.parsers import expat

from fixed_anchor.core.errors import InputError

_DEPTH = 40
#: Errors of expat that come of an element which nothing closes: another is closed, or the file ends.
_UNCLOSED = (7, 3)


class Element:
    """One element: its name, attributes, children and text, with its line and byte offsets."""

    def __init__(self, name: str, attributes: dict[str, str], line: int, start: int) -> None:
        self.name = name
        self.attributes = attributes
        self.line = line
        self.start = start
        #: The offset of the closing tag; of an element that has none (``<a/>``) the one behind its own.
        self.close = start
        self.children: list[Element] = []
        self.text = ""

    def all(self, name: str) -> list[Element]:
        """The elements below this one that are called ``name``."""
        return [c for c in self.children if c.name == name]


def parse(data: bytes, path: str) -> Element:
    """The root element; a name in a namespace is ``URI name``.

    Raises :class:`InputError` for broken XML, and for any document type: entities of its own making
    are how a small file becomes a huge one.
    """
    parser = expat.ParserCreate(namespace_separator=" ")
    root = Element("", {}, 0, 0)
    stack = [root]

    def refuse(*_: object) -> None:
        raise InputError(
            "a document type declaration stands here, and entities are not expanded",
            file=path,
            line=parser.CurrentLineNumber,
            expected="plain elements",
        )

    def begin(name: str, attributes: dict[str, str]) -> None:
        if len(stack) > _DEPTH:
            raise InputError(f"nested more than {_DEPTH} deep", file=path, line=parser.CurrentLineNumber)
        element = Element(name, attributes, parser.CurrentLineNumber, parser.CurrentByteIndex)
        stack[-1].children.append(element)
        stack.append(element)

    def end(_: str) -> None:
        stack.pop().close = parser.CurrentByteIndex

    def text(data: str) -> None:
        stack[-1].text += data

    parser.StartDoctypeDeclHandler = refuse
    parser.EntityDeclHandler = refuse
    parser.StartElementHandler = begin
    parser.EndElementHandler = end
    parser.CharacterDataHandler = text
    try:
        parser.Parse(data, True)
    except expat.ExpatError as error:
        if len(stack) > 1 and error.code in _UNCLOSED:
            what = f"<{stack[-1].name}> is opened here, and not closed"
            raise InputError(what, file=path, line=stack[-1].line, expected=f"</{stack[-1].name}>") from None
        what = expat.ErrorString(error.code)
        raise InputError(f"not XML: {what}", file=path, line=error.lineno, column=error.offset + 1) from None
    except (ValueError, LookupError) as error:
        raise InputError(f"not XML: {error}", file=path) from None
    return root.children[0]
