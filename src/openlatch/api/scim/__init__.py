"""Users and groups for directories: SCIM 2.0 (RFC 7643, RFC 7644) under ``/scim/v2``.

A directory shows a token that an administrator has made for it. Everything goes through the use cases that records and
leaving have elsewhere, and is journalled under the token's name.

The models of the standard take a second to load and some memory, and many installations have no directory: the modules
with the calls are imported when the first call comes.
"""

from __future__ import annotations

from collections.abc import Callable
from importlib import import_module

from flask import Blueprint, Response

PREFIX = "/scim/v2"
KIND = "/<any(Users, Groups):path>"
ONE = f"{KIND}/<ident>"
# The methods and path of each call, and the function of which module of this package answers it.
CALLS = (
    ("POST", KIND, "resources", "create"),
    ("GET", ONE, "resources", "read"),
    ("PUT", ONE, "resources", "replace"),
    ("PATCH", ONE, "resources", "patch"),
    ("DELETE", ONE, "resources", "delete"),
    ("GET", KIND, "search", "query"),
    ("POST", f"{KIND}/.search", "search", "search"),
    ("GET", "", "search", "query_all"),
    ("GET", "/", "search", "query_all"),
    ("POST", "/.search", "search", "search_all"),
    ("POST", "/Bulk", "bulk", "bulk"),
    ("GET", "/ServiceProviderConfig", "description", "config"),
    ("GET", "/ResourceTypes", "description", "resource_types"),
    ("GET", "/ResourceTypes/<ident>", "description", "resource_types"),
    ("GET", "/Schemas", "description", "schemas"),
    ("GET", "/Schemas/<ident>", "description", "schemas"),
    ("GET POST PUT PATCH DELETE", "/<path:rest>", "description", "nothing"),
)


def _imported_when_called(module: str, name: str) -> Callable[..., Response]:
    def view(**path: str) -> Response:
        answer: Response = getattr(import_module(f"{__name__}.{module}"), name)(**path)
        return answer

    return view


def calls() -> Blueprint:
    """Every call under ``/scim/v2``."""
    blueprint = Blueprint("scim", __name__, url_prefix=PREFIX)
    views = {(module, name): _imported_when_called(module, name) for _, _, module, name in CALLS}
    for methods, path, module, name in CALLS:
        blueprint.add_url_rule(path, f"{module}_{name}", views[module, name], methods=methods.split())
    return blueprint
