"""Pages that are made when the documentation is built: every command, call of the API, and attribute of lists."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from mkdocs.config.defaults import MkDocsConfig
from mkdocs.structure.files import File, Files

from openlatch.cli.main import cli
from openlatch.cli.manual import as_markdown
from openlatch.core.filters import operators_of
from openlatch.service.lists.register import LISTS


def on_files(files: Files, config: MkDocsConfig) -> Files:
    """Add them to what is written by hand."""
    openapi = json.loads((Path(config.docs_dir) / "reference" / "openapi.json").read_text())
    pages = {"reference/commands.md": as_markdown(cli), "reference/calls.md": _calls(openapi)}
    pages["reference/attributes.md"] = _attributes()
    for name, text in pages.items():
        files.append(File.generated(config, name, content=text))
    return files


def _calls(openapi: dict[str, Any]) -> str:
    told = ["# Every call", "", "All paths begin with the service's address. The whole document, by OpenAPI 3.1:"]
    told += ["[openapi.json](openapi.json).", ""]
    groups: dict[str, list[str]] = {}
    for path, methods in openapi["paths"].items():
        for method, call in methods.items():
            about = " ".join(call.get("description", "").split())
            row = f"| `{method.upper()} {path}` | {call.get('summary', '')} | {about} |"
            groups.setdefault((call.get("tags") or ["more"])[0], []).append(row.replace("<", "&lt;"))
    for group, rows in sorted(groups.items()):
        told += [f"## {group}", "", "| Call | What | More |", "| --- | --- | --- |", *sorted(rows), ""]
    return "\n".join(told)


def _attributes() -> str:
    told = ["# Attributes of lists", "", "What [filters](filters.md) of each list may name.", ""]
    for name, (listing, _) in LISTS.items():
        told += [f"## {name}", "", "| Attribute | Compared by | Meaning |", "| --- | --- | --- |"]
        for attribute, held in listing.attributes.items():
            compared = " ".join((*operators_of(held.kind), "pr"))
            told.append(f"| `{attribute}` | {compared} | {held.sentence.replace('|', chr(92) + '|')} |")
        told.append("")
    return "\n".join(told)
