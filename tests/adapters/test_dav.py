"""What a WebDAV server hides or says of its lists: never taken for absence, and never more written than was meant."""

from __future__ import annotations

from typing import Any

import httpx
import pytest

from openlatch.adapters import Reading
from openlatch.adapters.webdav import adapter as dav
from openlatch.adapters.webdav.adapter import DavAdapter
from openlatch.core.vocabulary import StepKind
from openlatch.errors import SystemRefused

ANN, OURS = "/principals/ann/", "/principals/office/"
ENTRY = "<D:ace>{0}<D:grant><D:privilege><D:read/></D:privilege></D:grant></D:ace>"
NAMED = f"<D:principal><D:href>{ANN}</D:href></D:principal>"
SHOWN = (
    "<D:propstat><D:prop><D:resourcetype><D:collection/></D:resourcetype><D:acl>{acl}</D:acl>"
    f"<D:current-user-principal><D:href>{OURS}</D:href></D:current-user-principal></D:prop>"
    "<D:status>HTTP/1.1 200 OK</D:status></D:propstat>"
)
NO_LIST = (
    "<D:propstat><D:prop><D:resourcetype><D:collection/></D:resourcetype></D:prop><D:status>HTTP/1.1 200 OK</D:status>"
    "</D:propstat><D:propstat><D:prop><D:acl/></D:prop><D:status>HTTP/1.1 403 Forbidden</D:status></D:propstat>"
)
REFUSED = "<D:status>HTTP/1.1 403 Forbidden</D:status>"


class Server:
    """Answers by what it has at each path, and keeps what was sent."""

    def __init__(self, things: dict[str, str]) -> None:
        self.things, self.sent = things, list[bytes]()

    def asked(self, http: httpx.Client, method: str, address: str, **given: Any) -> httpx.Response:
        path = httpx.URL(address).path
        request = httpx.Request(method, address)
        if http.auth is None or method not in ("PROPFIND", "ACL"):
            return httpx.Response(401, request=request)
        if method == "ACL":
            self.sent.append(given["content"])
            return httpx.Response(200, request=request)
        is_deep = given["headers"]["Depth"] == "1"
        told = {at: says for at, says in self.things.items() if at == path or (is_deep and at.startswith(path))}
        rows = "".join(f"<D:response><D:href>{at}</D:href>{says}</D:response>" for at, says in told.items())
        body = f'<D:multistatus xmlns:D="DAV:">{rows}</D:multistatus>'
        return httpx.Response(207, content=body.encode(), request=request)


@pytest.fixture
def adapter() -> DavAdapter:
    return DavAdapter({"address": "http://127.0.0.1:1/c/", "user": "office"}, "word")


@pytest.mark.parametrize("says", [NO_LIST, REFUSED])
def test_a_collection_that_is_hidden_from_us_is_read_in_part_and_hides_no_other(
    adapter: DavAdapter, says: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    """By its list, or altogether: it stays an account, and nothing in it is confirmed."""
    server = Server({"/c/": SHOWN.format(acl=""), "/c/a/": SHOWN.format(acl=ENTRY.format(NAMED)), "/c/b/": says})
    monkeypatch.setattr(dav, "asked", server.asked)
    reading = Reading.of(adapter.read())
    assert {account.handle for account in reading.accounts} == {"a", "b"}
    assert {holding.account for holding in reading.holdings} == {"a"}
    partial = {coverage.account: coverage.is_partial for coverage in reading.coverage}
    assert (partial["a"], partial["b"]) == (False, True)
    with pytest.raises(SystemRefused, match="does not show the list"):
        adapter.confirm(StepKind.REMOVE, {"who": ANN, "paths": ["/c/b/"]})


def test_what_is_open_to_everyone_but_somebody_is_not_theirs(
    adapter: DavAdapter, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Ending what they hold leaves it, and closing it leaves what they hold."""
    others = ENTRY.format(f"<D:invert>{NAMED}</D:invert>")
    server = Server({"/c/": SHOWN.format(acl=""), "/c/a/": SHOWN.format(acl=ENTRY.format(NAMED) + others)})
    monkeypatch.setattr(dav, "asked", server.asked)
    reading = Reading.of(adapter.read())
    (holding,), (rule,) = reading.holdings, [rule for rule in reading.rules if rule.handle]
    assert rule.rule["but"] == [{"holder": ANN}]
    adapter.apply(StepKind.REMOVE, holding.handle)
    adapter.apply(StepKind.CLOSE, dict(rule.handle))
    ended, closed = server.sent
    assert b"invert" in ended
    assert ended.count(b"ace>") == 2
    assert b"invert" not in closed
    assert ANN.encode() in closed
