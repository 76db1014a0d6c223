"""What the source can say: every sentence of the service, with a name in braces for each part that changes.

It is read from the source itself, so that nothing has to be marked there. Only tests and translators need it:
``python -m openlatch.languages.source de`` lists what the catalogue of a language lacks.
"""

from __future__ import annotations

import ast
import re
import sys
from collections.abc import Iterable, Iterator
from itertools import product
from pathlib import Path

from babel.messages.pofile import read_po

ROOT = Path(__file__).parents[1]
# Where sentences are made that somebody reads; what else is said is read by programs and in logs.
ROOMS = ("adapters", "api", "cli", "client", "core", "runtime", "service", "store", "errors.py", "retry_after.py")
# Not for people: statements, what is written for developers, and the files that come as they are.
_APART = re.compile(
    r"/(migrations|built|docs|tables)/|/store/(flags|access|trends|reviews)/|/store/lists/(?!engine)"
    r"|/(openapi|published|reference|metrics|commands|expressions|glossary|migrate|deliveries|doctor)\.py$"
)
_STATEMENT = re.compile(
    r"\bselect \w.*\bfrom\b|\binsert into\b|\bupdate \w+ .*\bset\b|\bdelete from\b|\bset local\b"
    r"|\bcoalesce\(|^where \w+ =|\bis null\b|\bany\(|^(analyze|copy) |\bcase when\b"
    r"|\bjsonb\b|\btimestamptz\b|^\w+ (eq|le|gt|pr)\b"
)
# Calls whose texts nobody is told: statements, log lines, patterns, descriptions of what is on the wire.
_SILENT = re.compile(
    r"(^|\.)(text|compile|sub|search|match|fullmatch|execute|ask|op|log|debug|info|warning|exception|Field|Query|split"
    r"|startswith|endswith|removeprefix|removesuffix|CheckConstraint|Index|literal_column|strptime|strftime|Header|warn"
    r"|encode|header|add_header|setdefault|getLogger|run|Popen|AssertionError|ValueError|TypeError"
    r"|RuntimeError|KeyError|api\.add|partition|rpartition)$"
)
MOST_BRANCHES = 12
# Flag of what stands in a catalogue and not in the source as it is: it is put together while the service runs.
COMPOSED = "composed"
_FOLDER = Path(__file__).parent


def texts(rooms: Iterable[str] = ROOMS) -> dict[str, str]:
    """Every text in these folders of the package that reads as a sentence or a phrase, with where it is."""
    found: dict[str, str] = {}
    for room in rooms:
        place = ROOT / room
        for file in [place] if place.is_file() else sorted(place.rglob("*.py")):
            if not _APART.search(f"/{file.relative_to(ROOT).as_posix()}"):
                for line, text in _of_module(ast.parse(file.read_text())):
                    found.setdefault(text, f"{file.relative_to(ROOT)}:{line}")
    return found


def _of_module(tree: ast.Module) -> Iterator[tuple[int, str]]:
    silent = _silent(tree)
    for node in ast.walk(tree):
        if id(node) in silent:
            continue
        if isinstance(node, ast.FunctionDef) and any(_speaks(one) for one in node.decorator_list):
            # What a rule is about, and the help of a command, are docstrings.
            for paragraph in filter(None, (ast.get_docstring(node) or "").split("\n\n")):
                yield node.lineno, " ".join(paragraph.split())
        if isinstance(node, ast.Call) and _named(node.func).endswith("counted"):
            yield from ((node.lineno, text) for text in _counted(node))
        if isinstance(node, ast.JoinedStr | ast.BinOp) or (isinstance(node, ast.Constant) and type(node.value) is str):
            yield from ((node.lineno, text) for text in _spelled(node) if is_said(text))


def is_said(text: str) -> bool:
    """Whether a text reads as something that is told to somebody: words with spaces between, and no statement."""
    words = re.sub(r"\{[^{}]*\}", "", text)
    if "{}" in text or "\n" in text.strip() or text.startswith(("<", "%(")):
        return False
    return bool(re.search(r"[a-z]{2,} [a-z“{]|[a-z]{2,}[.?!]$|[a-z] \{|\} [a-z]", text)) and bool(
        re.search(r"[a-z]{2}", words) and not _STATEMENT.search(words)
    )


def _silent(tree: ast.Module) -> set[int]:
    """The nodes that are not texts by themselves: parts of others, docstrings, arguments of silent calls."""
    found: set[int] = set()
    for node in ast.walk(tree):
        if isinstance(node, ast.Expr) and isinstance(node.value, ast.Constant):
            found.add(id(node.value))
        elif isinstance(node, ast.JoinedStr):
            for part in node.values:
                found.add(id(part))
                if isinstance(part, ast.FormattedValue) and part.format_spec is not None:
                    found |= {id(inner) for inner in ast.walk(part.format_spec)}
        elif isinstance(node, ast.BinOp) and isinstance(node.op, ast.Add) and id(node) not in found:
            found |= {id(inner) for inner in ast.walk(node) if isinstance(inner, ast.Constant | ast.JoinedStr)}
            found |= {id(inner) for inner in ast.walk(node) if isinstance(inner, ast.BinOp) and inner is not node}
        elif isinstance(node, ast.Assert) or (isinstance(node, ast.Call) and _SILENT.search(_named(node.func))):
            found |= {id(inner) for inner in ast.walk(node) if inner is not node}
    return found


def _speaks(decorator: ast.expr) -> bool:
    called = _named(decorator.func) if isinstance(decorator, ast.Call) else ""
    return called.endswith(".rule") or re.search(r"(^|\.)(command|group)$", called) is not None


def _named(node: ast.AST) -> str:
    return ast.unparse(node) if isinstance(node, ast.Name | ast.Attribute) else ""


def _counted(node: ast.Call) -> Iterator[str]:
    """The phrases of a count: one of it, and several."""
    words = [arg.value for arg in node.args[1:] if isinstance(arg, ast.Constant) and isinstance(arg.value, str)]
    if words:
        yield f"{{n}} {words[0]}"
        yield f"{{n}} {words[1] if len(words) > 1 else words[0] + 's'}"


def _spelled(node: ast.AST) -> Iterator[str]:
    """What an expression can come to, with a name in braces for what is not known: one text for each way it can go."""
    ways = list(_ways(node))
    for parts in ways[:MOST_BRANCHES]:
        seen: dict[str, int] = {}
        said = ""
        for text, name in parts:
            if not name:
                said += text
                continue
            seen[name] = seen.get(name, 0) + 1
            said += "{" + name + (str(seen[name]) if seen[name] > 1 else "") + "}"
        yield re.sub(r"\{(\w*)[^{}\w][^{}]*\}", r"{\1}", said)


def _ways(node: ast.AST) -> Iterator[list[tuple[str, str]]]:
    if isinstance(node, ast.Constant):
        yield [(str(node.value), "")]
    elif isinstance(node, ast.JoinedStr):
        yield from _each(node.values)
    elif isinstance(node, ast.FormattedValue):
        yield from _ways(node.value)
    elif isinstance(node, ast.BinOp) and isinstance(node.op, ast.Add):
        yield from _each([node.left, node.right])
    elif isinstance(node, ast.IfExp):
        yield from _ways(node.body)
        yield from _ways(node.orelse)
    elif isinstance(node, ast.BoolOp) and isinstance(node.op, ast.Or):
        for value in node.values:
            yield from _ways(value)
    else:
        yield [("", _name(node))]


def _each(parts: list[ast.expr]) -> Iterator[list[tuple[str, str]]]:
    for way in product(*[list(_ways(part)) for part in parts]):
        yield [piece for pieces in way for piece in pieces]


def _name(node: ast.AST) -> str:
    """What to call a part: by the last word of its expression."""
    if isinstance(node, ast.Call):
        called = _named(node.func).rpartition(".")[2]
        if called == "counted" or called == "len":
            return "n" if called == "len" else "count"
        if called in ("str", "strip", "format", "name", "_name") and node.args:
            return _name(node.args[0])
        return called.strip("_") or "what"
    if isinstance(node, ast.Subscript):
        return _name(node.value)
    found = re.findall(r"[A-Za-z_]\w*", ast.unparse(node))
    return found[-1].strip("_") if found else "what"


def unsaid() -> set[str]:
    """What reads like a sentence, and is told to nobody: names of locks, filters, parts of patterns."""
    return {line.replace("\\n", "\n") for line in (_FOLDER / "unsaid.txt").read_text().splitlines()}


def compared(language: str) -> tuple[dict[str, str], set[str]]:
    """What the source says and the catalogue of a language lacks, with where; and what it has and nobody says."""
    said = texts()
    with (_FOLDER / f"{language}.po").open("rb") as file:
        held = {str(one.id): one for one in read_po(file, locale=language) if one.id and one.string}
    apart = unsaid()
    lacking = {text: where for text, where in said.items() if text not in held and text not in apart}
    idle = {text for text, one in held.items() if text not in said and COMPOSED not in one.flags}
    return lacking, idle | (apart - said.keys())


if __name__ == "__main__":
    missing, unused = compared(sys.argv[1])
    sys.stdout.write("".join(f"{where}: {text}\n" for text, where in missing.items()))
    sys.stdout.write("".join(f"not said any more: {text}\n" for text in sorted(unused)))
