"""A mail server with odd entries: for every login, folder and right the server itself is asked, as that login."""

from __future__ import annotations

import imaplib
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest

from openlatch.adapters import Reading
from openlatch.adapters.coverage import Why
from openlatch.adapters.mail.adapter import EVERYONE, INBOX, MailboxAdapter
from openlatch.adapters.mail.lists import parse
from openlatch.core.vocabulary import StepKind
from openlatch.errors import SystemRefused
from openlatch.test_systems import mailboxes
from tests.conftest import ADAPTER_PASSWORD

RIGHTS = "lrswipkxtea"
LOGINS = ["ann", "bob", "cy", "döra", "eve.x", "flo", "gus"]
LISTS = [
    ("Desk", "ann", "lrs"),
    ("Desk", "bob", "lrswipkxtea"),
    ("Desk", "döra", "lrsw"),
    ("Desk", "eve.x", "lr"),
    ("Desk", "-bob", "e"),
    ("Desk/Refunds", "bob", "lr"),
    ("Desk/Refunds", "flo", "lrswite"),
    ("Open", "anyone", "lr"),
    ("Open", "authenticated", "lrs"),
    ("Open", "ann", "l"),
    ("Open", "döra", "lrswi"),
    ("Open", "-flo", "s"),
    ("Rescue", "$crew", "lrs"),
    ("Rescue", "cy", "lrswipkxte"),
]
# In a second shared namespace; one of them has a name that is in the first, too.
ELSEWHERE = ["Board/Minutes", "Board/Minutes/Old", "Board/Desk"]
BOXES = list(dict.fromkeys(box for box, _, _ in LISTS))


@pytest.fixture(scope="module")
def server(folder: Path, tmp_path_factory: pytest.TempPathFactory) -> Iterator[mailboxes.MailboxServer]:
    place = folder / f"mail-lists-{tmp_path_factory.mktemp('lists').name}"
    place.mkdir()
    place.chmod(0o755)
    running = mailboxes.MailboxServer(place / "mail", secret=ADAPTER_PASSWORD, more=("Board/",))
    running.start()
    running.prepare({"logins": LOGINS, "mailboxes": BOXES, "lists": [], "elsewhere": ELSEWHERE})
    yield running
    running.stop()


@pytest.fixture
def adapter(server: mailboxes.MailboxServer) -> MailboxAdapter:
    """With every list as it is above: what a test changed is put back."""
    with signed_in(server, mailboxes.ADAPTER_LOGIN, ADAPTER_PASSWORD) as mail:
        for box in BOXES:
            for who in {who for _, who, _ in LISTS}:
                mail._simple_command("DELETEACL", quoted(f"Shared/{box}"), quoted(who))
        for box, who, rights in LISTS:
            assert mail._simple_command("SETACL", quoted(f"Shared/{box}"), quoted(who), rights)[0] == "OK", who
    return MailboxAdapter(mailboxes.usual(server), ADAPTER_PASSWORD)


def quoted(text: str) -> Any:
    return b'"' + text.replace('"', '\\"').encode() + b'"'


def signed_in(server: mailboxes.MailboxServer, who: str, word: str = mailboxes.LOGIN_PASSWORD) -> imaplib.IMAP4:
    # The server puts off, and at times refuses, whoever comes while it is busy with others.
    for wait in (0.5, 2.0, 5.0, 0.0):
        mail = imaplib.IMAP4("127.0.0.1", server.port)
        try:
            mail.authenticate("PLAIN", lambda _: b"\0" + who.encode() + b"\0" + word.encode())
        except imaplib.IMAP4.error:
            mail.shutdown()
            if not wait:
                raise
            time.sleep(wait)
        else:
            break
    return mail


def told(server: mailboxes.MailboxServer, who: str) -> dict[str, str]:
    """By folder, what the server says to a login that asks for its own rights."""
    found = {}
    with signed_in(server, who) as mail:
        for box in BOXES:
            kind, data = mail.myrights(quoted(f"Shared/{box}"))
            rights = bytes(data[0]).rsplit(b" ", 1)[-1].decode() if kind == "OK" else ""
            found[box] = "".join(right for right in RIGHTS if right in rights)
    return found


def shown(reading: Reading, who: str) -> dict[str, str]:
    """By folder, what a reading says that a login may do, along every path."""
    parts = {part.handle.removeprefix(INBOX): part.account for part in reading.parts}
    found = {f"Shared/{box}": set[str]() for box in BOXES}

    def add(holder: str, by: str) -> None:
        for holding in reading.holdings:
            if holding.holder != holder or holding.level == "everyone":
                if holding.holder == holder:
                    add(holding.account, by)
                continue
            for box, account in parts.items():
                if account == holding.account:
                    held = {handle.removeprefix(INBOX): level for handle, level in holding.parts}
                    found[box] |= set(held.get(box, holding.level))

    add(who, who)
    return {box.removeprefix("Shared/"): "".join(r for r in RIGHTS if r in held) for box, held in found.items()}


def test_what_a_reading_says_is_what_the_server_says_to_each_login(
    server: mailboxes.MailboxServer, adapter: MailboxAdapter, record_testsuite_property: Callable[[str, object], None]
) -> None:
    """Names that come as literals, negative rights, narrower entries, and what everybody has who signs in."""
    reading = Reading.of(adapter.read())
    known = {login.handle for login in reading.logins}
    assert {"döra", "eve.x", "bob", "flo"} <= known
    compared = 0
    for who in LOGINS:
        if who in known:
            says = told(server, who)
            assert shown(reading, who) == says, who
            compared += len(says) * len(RIGHTS)
    record_testsuite_property("facts in mail", compared)
    assert compared >= 200
    # One who stands in no list has what everybody has: the door is there, and says who is behind it.
    assert told(server, "gus")["Open"] == "lrs"
    (door,) = [h for h in reading.holdings if h.holder == f"{EVERYONE}Shared/Open"]
    assert (door.account, door.level) == ("Shared/Open", "lrs")
    whole = next(c for c in reading.coverage if c.account == "")
    assert {"logins that stand in no list: not supported", "who belongs to a group in $crew: not supported"} <= {
        gap.words for gap in whole.gaps
    }


def test_what_is_confirmed_gone_is_gone_by_the_servers_word(
    server: mailboxes.MailboxServer, adapter: MailboxAdapter
) -> None:
    """Everything that everyone named holds is taken away; a step that can't be is refused, and never confirmed."""
    gone, refused = 0, []
    for holding in Reading.of(adapter.read()).holdings:
        if holding.holder_is_account or holding.level == "everyone":
            continue
        who = holding.holder
        for move in adapter.plan(StepKind.REMOVE, holding.handle):
            box = move.detail["boxes"][0].removeprefix("Shared/")
            before = told(server, who)[box]
            try:
                adapter.apply(move.kind, move.detail)
            except SystemRefused as error:
                refused.append(error.detail)
                assert told(server, who)[box] == before
                continue
            assert adapter.confirm(move.kind, move.detail) is None
            assert set(told(server, who)[box]) <= set("lrs" if box == "Open" else ""), (who, box)
            gone += 1
    assert gone >= 7
    assert all("what everyone has" in said for said in refused)
    assert any(h.holder == "ann" for h in Reading.of(adapter.read()).holdings)


def test_an_entry_that_comes_as_a_literal_hides_none_before_it(
    server: mailboxes.MailboxServer, adapter: MailboxAdapter
) -> None:
    """Somebody with the right to do so adds a login with an odd name, and everybody before it stays in sight."""
    detail = {"who": "bob", "boxes": ["Shared/Rescue"], "rights": "lr"}
    adapter.apply(StepKind.GIVE, detail)
    odd = {"who": 'zoë \\ "z"', "boxes": ["Shared/Rescue"], "rights": "lr"}
    adapter.apply(StepKind.GIVE, odd)
    assert "still holds lr" in str(adapter.confirm(StepKind.REMOVE, detail))
    assert {"bob", "cy"} <= {h.holder for h in Reading.of(adapter.read()).holdings if h.account == "Shared/Rescue"}
    # Nobody can sign in by that name, as other tests do with whoever stands in a list.
    adapter.apply(StepKind.REMOVE, odd)


@pytest.mark.parametrize(
    "answer",
    [
        [],
        [b'"Shared/Desk" ann'],
        [b'"Shared/Other" ann lr'],
        [b'"Shared/Desk" ann l(r'],
        [(b'"Shared/Desk" {9}', b"ann"), b" lr"],
        [(b'"Shared/Desk" {3}', b"\xff\xfe\xfd"), b" lr"],
        [b'"Shared/Desk" "" lr'],
    ],
)
def test_a_list_that_is_not_understood_is_not_an_empty_list(answer: list[Any]) -> None:
    """It is refused, and confirms nothing."""
    with pytest.raises(SystemRefused, match="not understood"):
        parse("Shared/Desk", answer)


def test_a_mailbox_that_is_not_shown_any_more_is_not_gone(
    server: mailboxes.MailboxServer, adapter: MailboxAdapter
) -> None:
    """Renamed, everybody still gets in by the new name; the server says of it what it says of one that is deleted."""
    detail = {"who": "flo", "boxes": ["Shared/Desk/Refunds"]}
    with signed_in(server, mailboxes.ADAPTER_LOGIN, ADAPTER_PASSWORD) as mail:
        mail.rename(quoted("Shared/Desk/Refunds"), quoted("Shared/Desk/Elsewhere"))
        with pytest.raises(SystemRefused, match="does not show"):
            adapter.confirm(StepKind.REMOVE, detail)
        mail.rename(quoted("Shared/Desk/Elsewhere"), quoted("Shared/Desk/Refunds"))
    assert "still holds" in str(adapter.confirm(StepKind.REMOVE, detail))


def test_one_list_that_may_not_be_seen_makes_its_mailbox_partial(
    server: mailboxes.MailboxServer, adapter: MailboxAdapter, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The others are read; what was known of that one stays, and nothing in it is confirmed."""
    real = MailboxAdapter.read.__globals__["_acl"]

    def acl(mail: imaplib.IMAP4, box: str) -> Any:
        if box == "Shared/Desk/Refunds":
            raise SystemRefused("The mail server refused GETACL.", "Look.")
        return real(mail, box)

    monkeypatch.setitem(MailboxAdapter.read.__globals__, "_acl", acl)
    coverage = {c.account: c for c in Reading.of(adapter.read()).coverage}
    assert coverage["Shared/Desk"].is_partial
    assert [gap.why for gap in coverage["Shared/Desk"].gaps] == [Why.NOT_PERMITTED]
    assert not coverage["Shared/Open"].is_partial
    with pytest.raises(SystemRefused):
        adapter.confirm(StepKind.REMOVE, {"who": "flo", "boxes": ["Shared/Desk/Refunds"]})


def test_every_shared_namespace_is_read(server: mailboxes.MailboxServer, adapter: MailboxAdapter) -> None:
    """When no prefix is set; two of one name are told apart, and access is taken in the right one."""
    settings = {key: value for key, value in mailboxes.usual(server).items() if key != "prefix"}
    whole = MailboxAdapter(settings, ADAPTER_PASSWORD)
    whole.check()
    with signed_in(server, mailboxes.ADAPTER_LOGIN, ADAPTER_PASSWORD) as mail:
        for box in ELSEWHERE:
            assert mail._simple_command("SETACL", quoted(box), quoted("ann"), "lrs")[0] == "OK"
    reading = Reading.of(whole.read())
    named = {account.handle: account.comment for account in reading.accounts if account.kind == "mailbox"}
    assert named["Board/Minutes"] == "Minutes"
    assert (named["Board/Desk"], named["Shared/Desk"]) == ("Board/Desk", "Shared/Desk")
    held = next(h for h in reading.holdings if (h.account, h.holder) == ("Board/Desk", "ann"))
    for move in whole.plan(StepKind.REMOVE, held.handle):
        whole.apply(move.kind, move.detail)
        assert whole.confirm(move.kind, move.detail) is None
    left = {h.account for h in Reading.of(whole.read()).holdings if h.holder == "ann"}
    assert "Board/Desk" not in left
    assert {"Shared/Desk", "Board/Minutes"} <= left
    assert {a.handle for a in Reading.of(adapter.read()).accounts if a.kind == "mailbox"} == set(named) - {
        "Board/Minutes",
        "Board/Desk",
    }
