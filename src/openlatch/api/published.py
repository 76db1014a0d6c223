"""The OpenAPI document as it is published with the documentation, from which the console's types are made."""

from __future__ import annotations

import json
import sys

from openlatch.api.openapi import document
from openlatch.api.routes import api


def text() -> str:
    """The document as text, in a fixed order."""
    return json.dumps(document(api), indent=1, sort_keys=True, ensure_ascii=False) + "\n"


if __name__ == "__main__":
    sys.stdout.write(text())
