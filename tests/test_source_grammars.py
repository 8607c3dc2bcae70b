"""The two grammars that servers' configurations are written in, held against texts made at random."""

from __future__ import annotations

import json

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fixed_anchor.core.errors import InputError
from fixed_anchor.sources import kea_json
from fixed_anchor.sources.kea_json import Node
from fixed_anchor.text import isc as isc_text

values = st.recursive(
    st.one_of(st.none(), st.booleans(), st.integers(-(10**12), 10**12), st.floats(-1e9, 1e9), st.text(max_size=20)),
    lambda inner: st.one_of(st.lists(inner, max_size=4), st.dictionaries(st.text(max_size=8), inner, max_size=4)),
    max_leaves=12,
)


def plain(node: Node) -> object:
    if isinstance(node.value, dict):
        return {key: plain(inner) for key, inner in node.value.items()}
    if isinstance(node.value, list):
        return [plain(inner) for inner in node.value]
    return node.value


@given(values, st.sampled_from([None, 1]), st.sampled_from(["", "# a\n", "// b\n", "/* c\n d */ "]))
def test_what_is_json_is_read_as_json_does(value: object, indent: int | None, comment: str) -> None:
    text = comment + json.dumps(value, indent=indent) + comment
    root = kea_json.parse(text, "x")
    assert plain(root) == value
    # Each value knows its place: what stands there is that value again.
    assert json.loads(text[root.start : root.end]) == value
    for inner in root.value.values() if isinstance(root.value, dict) else ():
        assert plain(kea_json.parse(text[inner.start : inner.end], "x")) == plain(inner)
        assert inner.line == text.count("\n", 0, inner.start) + 1


def test_trailing_commas_and_numbers_as_the_server_takes_them() -> None:
    assert plain(kea_json.parse('{ "a": [ 1, .5, ], "b": { }, }', "x")) == {"a": [1, 0.5], "b": {}}
    for wrong in ("[1 2]", '{"a" 1}', "{1: 2}", "nul", "[,]", '["\\x"]'):
        with pytest.raises(InputError):
            kea_json.parse(wrong, "x")


tokens = st.text("abcxyz0123456789.-:/_", min_size=1, max_size=8)
statements = st.recursive(
    st.lists(tokens, min_size=1, max_size=4).map(lambda w: (w, None)),
    lambda inner: st.tuples(st.lists(tokens, min_size=1, max_size=3), st.lists(inner, max_size=3)),
    max_leaves=8,
)


def written(statement: tuple, gap: str) -> str:
    words, block = statement
    head = gap.join(words)
    return (
        head + ";" if block is None else head + gap + "{" + gap + gap.join(written(s, gap) for s in block) + gap + "}"
    )


@given(st.lists(statements, max_size=4), st.sampled_from([" ", "\n", " # x;{\n"]))
def test_statements_and_blocks(made: list, gap: str) -> None:
    found, error = isc_text.parse(gap.join(written(s, gap) for s in made), "x")
    assert error is None

    def same(statement: isc_text.Statement) -> tuple:
        inner = None if statement.block is None else [same(s) for s in statement.block]
        return ([w.text for w in statement.words], inner)

    def wanted(statement: tuple) -> tuple:
        words, block = statement
        return (list(words), None if block is None else [wanted(s) for s in block])

    assert [same(s) for s in found] == [wanted(s) for s in made]
