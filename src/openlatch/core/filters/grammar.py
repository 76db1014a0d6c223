"""Parsing, by the ABNF of RFC 7644 section 3.4.2.2 (figure 1).

Attribute names and operators ignore case, as the RFC says; ``and`` binds tighter than ``or``. A value path
(``emails[type eq "work"]``) means the same here as the dotted form, since no attribute of the register holds
several complex values.
"""

from __future__ import annotations

import json
from functools import lru_cache

from lark import Lark, Transformer, UnexpectedInput, v_args
from lark.exceptions import VisitError

from openlatch.core.filters.tree import AND, NOT, OR, Compare, Node, Operator, Present, Value
from openlatch.errors import BadFilter

LONGEST = 4000

GRAMMAR = r"""
    ?start: either
    ?either: both ("or"i both)*
    ?both: single ("and"i single)*
    ?single: "not"i "(" either ")"      -> negated
           | "(" either ")"
           | NAME "pr"i                 -> present
           | NAME OPERATOR value        -> compare
           | NAME "[" either "]"        -> within
    value: STRING | NUMBER | TRUE | FALSE | NULL
    TRUE.2: "true"
    FALSE.2: "false"
    NULL.2: "null"
    OPERATOR.3: /(eq|ne|co|sw|ew|gt|ge|lt|le)(?![\w.:-])/i
    NAME: /[A-Za-z][A-Za-z0-9_-]*(\.[A-Za-z][A-Za-z0-9_-]*)*/
    STRING: /"(\\["\\\/bfnrt]|\\u[0-9A-Fa-f]{4}|[^"\\\x00-\x1f])*"/
    NUMBER: /-?(0|[1-9][0-9]*)(\.[0-9]+)?([eE][+-]?[0-9]+)?/
    %ignore /[ \t]+/
"""


@v_args(inline=True)
class _Builder(Transformer):  # type: ignore[type-arg]
    def value(self, token: str) -> Value:
        decoded: Value = json.loads(token)
        return decoded

    def compare(self, name: str, operator: str, value: Value) -> Node:
        return Compare(str(name).lower(), Operator(operator.lower()), value)

    def present(self, name: str) -> Node:
        return Present(str(name).lower())

    def negated(self, inner: Node) -> Node:
        return NOT(inner)

    def within(self, name: str, inner: Node) -> Node:
        return _prefixed(inner, str(name).lower())

    def both(self, *parts: Node) -> Node:
        node = parts[0]
        for part in parts[1:]:
            node = AND(node, part)
        return node

    def either(self, *parts: Node) -> Node:
        node = parts[0]
        for part in parts[1:]:
            node = OR(node, part)
        return node


def _prefixed(node: Node, name: str) -> Node:
    match node:
        case Compare():
            return Compare(f"{name}.{node.name}", node.operator, node.value)
        case Present():
            return Present(f"{name}.{node.name}")
        case AND():
            return AND(_prefixed(node.left, name), _prefixed(node.right, name))
        case OR():
            return OR(_prefixed(node.left, name), _prefixed(node.right, name))
        case NOT():
            return NOT(_prefixed(node.inner, name))


_PARSER = Lark(GRAMMAR, parser="lalr", lexer="contextual", maybe_placeholders=False)


@lru_cache(maxsize=512)
def parse(text: str) -> Node:
    """The tree of a filter. BadFilter, with the place and what was expected, when it can't be read."""
    if len(text) > LONGEST:
        raise BadFilter(f"The filter has {len(text)} characters; {LONGEST} are the most.", "Shorten it.")
    try:
        node: Node = _Builder().transform(_PARSER.parse(text))
    except UnexpectedInput as error:
        column = getattr(error, "column", -1)
        place = f"at character {column}" if isinstance(column, int) and column > 0 else "at its end"
        raise BadFilter(
            f"It goes wrong {place}: {text[:200]!r}.",
            'Write it like: state eq "active" and (reach eq "spend" or not (last_used pr)).',
            {"filter": place},
        ) from None
    except (VisitError, RecursionError) as error:
        raise BadFilter(f"The filter can't be read: {error}.", "Simplify it.") from None
    return node
