"""A directory with odd names and every way of being in a group: for each person and group the directory is asked."""

from __future__ import annotations

import base64
import subprocess
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from openlatch.adapters import Reading
from openlatch.adapters.coverage import Why
from openlatch.adapters.directory.adapter import DirectoryAdapter
from openlatch.adapters.directory.names import dn
from openlatch.core.vocabulary import StepKind
from openlatch.errors import SystemRefused
from openlatch.test_systems import directory
from tests.conftest import ADAPTER_PASSWORD

WORLD = Path(__file__).parent / "data" / "directory.ldif"
ASKED = {"member": "member", "uniqueMember": "member", "roleOccupant": "member", "owner": "owner"}
# The number that uniqueMember may have is a part of the value: the directory is asked with it, too.
NUMBERED = "#'0101'B"


@pytest.fixture
def server(folder: Path, tmp_path_factory: pytest.TempPathFactory) -> Iterator[directory.DirectoryServer]:
    place = folder / f"directory-world-{tmp_path_factory.mktemp('world').name}"
    place.mkdir()
    place.chmod(0o755)
    running = directory.DirectoryServer(place / "directory")
    running.start()
    running.prepare({"people": [], "apps": [], "groups": [], "signed_in": []}, ADAPTER_PASSWORD)
    tool(running, "ldapadd", "-M", "-f", str(WORLD))
    yield running
    running.stop()


@pytest.fixture
def adapter(server: directory.DirectoryServer) -> DirectoryAdapter:
    return DirectoryAdapter(directory.usual(server), ADAPTER_PASSWORD)


def tool(server: directory.DirectoryServer, *words: str) -> subprocess.CompletedProcess[str]:
    """One of OpenLDAP's own clients, as the directory's owner."""
    command = [
        words[0],
        "-x",
        "-H",
        f"ldap://127.0.0.1:{server.port}",
        "-D",
        directory.OWNER,
        "-w",
        directory.LOGIN_PASSWORD,
        *words[1:],
    ]
    return subprocess.run(command, capture_output=True, text=True, check=words[0] == "ldapadd")


def entries(server: directory.DirectoryServer, what: str) -> list[str]:
    found = tool(server, "ldapsearch", "-LLL", "-o", "ldif-wrap=no", "-b", directory.BASE, what, "1.1").stdout
    return [decoded(line) for line in found.splitlines() if line.startswith("dn:")]


def decoded(line: str) -> str:
    _, coded, text = line.partition(":: ")
    return base64.b64decode(text).decode() if coded else line.partition(": ")[2]


def asked(server: directory.DirectoryServer, group: str, who: str) -> set[str]:
    """What the directory says that somebody is to a group, when it is asked by name."""
    found = set()
    for key, says in ASKED.items():
        for value in (who, who + NUMBERED) if key == "uniqueMember" else (who,):
            if tool(server, "ldapcompare", "-z", group, f"{key}:{value}").returncode == 6:
                found.add(says)
    return found


def shown(reading: Reading, group: str, who: str) -> set[str]:
    level = next((h.level for h in reading.holdings if (h.account, h.holder) == (dn(group), dn(who))), "")
    return {"member": {"member"}, "owner": {"owner"}, "owning_member": {"member", "owner"}, "": set[str]()}[level]


def test_what_a_reading_says_is_what_the_directory_says(
    server: directory.DirectoryServer,
    adapter: DirectoryAdapter,
    record_testsuite_property: Callable[[str, object], None],
) -> None:
    """Whatever way a name is written in, and whatever attribute it stands in."""
    reading = Reading.of(adapter.read())
    people = entries(server, "(|(objectClass=inetOrgPerson)(objectClass=applicationProcess))")
    kinds = ("groupOfNames", "groupOfUniqueNames", "organizationalRole")
    groups = entries(server, f"(|{''.join(f'(objectClass={kind})' for kind in kinds)})")
    compared = 0
    for who in [*people, *groups]:
        for group in groups:
            assert shown(reading, group, who) == asked(server, group, who), (group, who)
            compared += len(ASKED)
    record_testsuite_property("facts in the directory", compared)
    assert compared >= 200
    by_uid = {(h.account, h.holder) for h in reading.holdings}
    ann = dn(directory.named("ann"))
    assert {(dn(directory.group("posix")), ann), (dn(directory.group("primary")), ann)} <= by_uid
    (login,) = [x for x in reading.logins if x.handle == ann]
    assert login.marks["address"] == "ann@example.org a.lee@example.net"
    assert any(x.handle.startswith("uid=flo,ou=contractors") for x in reading.logins)
    gaps = {gap.what for c in reading.coverage for gap in c.gaps}
    assert {
        "a member whose entry is not among the people",
        "somebody named in a group, with no entry that is shown",
        "what is in another directory",
        "1 groups whose members are found by a search",
    } <= gaps


def test_what_is_confirmed_gone_is_gone_and_comes_back_as_it_was(
    server: directory.DirectoryServer, adapter: DirectoryAdapter
) -> None:
    """Every holding, taken by the value as it is written; a primary group is refused, with what to do."""
    before = Reading.of(adapter.read())
    gone = 0
    for holding in before.holdings:
        (move,) = adapter.plan(StepKind.REMOVE, holding.handle)
        if "gidNumber" in holding.handle["values"]:
            with pytest.raises(SystemRefused, match="primary group"):
                adapter.apply(move.kind, move.detail)
            assert adapter.confirm(move.kind, move.detail)
            continue
        assert adapter.confirm(move.kind, move.detail)
        adapter.apply(move.kind, move.detail)
        assert adapter.confirm(move.kind, move.detail) is None
        assert asked(server, holding.account, holding.holder) == set()
        back = adapter.again(holding.handle)
        assert back is not None
        adapter.apply(StepKind.GIVE, back)
        assert adapter.confirm(StepKind.GIVE, back) is None
        gone += 1
    assert gone >= 13
    after = Reading.of(adapter.read())
    assert sorted(map(str, after.holdings)) == sorted(map(str, before.holdings))


def test_what_can_not_be_changed_is_said_before_it_has_to_be(server: directory.DirectoryServer) -> None:
    """By asking for what changes nothing: with the documented rights nothing is lacking."""
    whole = ("ldapsearch", "-LLL", "-o", "ldif-wrap=no", "-b", directory.BASE)
    before = tool(server, *whole).stdout
    able = Reading.of(DirectoryAdapter(directory.usual(server), ADAPTER_PASSWORD).read())
    assert [one for told in able.coverage for one in told.unable] == []
    assert tool(server, *whole).stdout == before
    reader = f"cn=reader,{directory.APPS}"
    with server.signed_in(directory.OWNER) as owner:
        owner.add(reader, ["applicationProcess", "simpleSecurityObject"], {"userPassword": ADAPTER_PASSWORD})
    theirs = DirectoryAdapter({**directory.usual(server), "user": reader}, ADAPTER_PASSWORD)
    told = [one for c in Reading.of(theirs.read()).coverage for one in c.unable]
    for what in ("member of", "uniqueMember of", "roleOccupant of", "memberUid of", "owner of", "locking people"):
        assert any(one.startswith(what) and "the right to write it" in one for one in told), (what, told)


@pytest.mark.parametrize(
    "hidden", ['attrs=member by dn.exact="{who}" none by * read', 'dn.subtree="{group}" by * none']
)
def test_what_is_hidden_from_us_is_not_gone(server: directory.DirectoryServer, hidden: str) -> None:
    """A group, or who is in it, that the directory no longer shows to Open Latch's login."""
    group = directory.group("names")
    rule = hidden.format(who=directory.ADAPTER_LOGIN, group=group)
    settings = server.folder / "slapd.conf"
    server.stop()
    # The first rule that fits an entry is the one that counts.
    first = "access to attrs=userPassword"
    settings.write_text(server_settings(server).replace(first, f"access to {rule}\n{first}"))
    restart(server)
    adapter = DirectoryAdapter(directory.usual(server), ADAPTER_PASSWORD)
    with pytest.raises(SystemRefused):
        adapter.confirm(StepKind.REMOVE, {"group": group, "holder": directory.named("ann")})
    coverage = {c.account: c for c in Reading.of(adapter.read()).coverage}
    if "attrs" in hidden:
        assert [gap.why for gap in coverage[dn(group)].gaps] == [Why.NOT_PERMITTED]
        assert coverage[dn(group)].is_partial


def test_whoever_is_named_in_another_way_by_now_is_not_gone(
    server: directory.DirectoryServer, adapter: DirectoryAdapter
) -> None:
    """By their uid, by their primary group; and a person who was renamed may be there by the new name."""
    eve, group = directory.named("eve"), directory.group("posix")
    detail = {"group": group, "holder": eve}
    assert adapter.confirm(StepKind.REMOVE, detail) is None
    change(server, f"dn: {group}\nchangetype: modify\nadd: memberUid\nmemberUid: eve\n")
    assert "still member" in str(adapter.confirm(StepKind.REMOVE, detail))
    adapter.apply(StepKind.REMOVE, detail)
    assert adapter.confirm(StepKind.REMOVE, detail) is None
    ann = {"group": directory.group("primary"), "holder": directory.named("ann")}
    assert "still member" in str(adapter.confirm(StepKind.REMOVE, ann))
    change(server, f"dn: {eve}\nchangetype: modrdn\nnewrdn: uid=evelyn\ndeleteoldrdn: 1\n")
    with pytest.raises(SystemRefused, match="may be gone, renamed"):
        adapter.confirm(StepKind.REMOVE, {"group": directory.group("unique"), "holder": eve})


def change(server: directory.DirectoryServer, text: str) -> None:
    """Change the directory as its owner, by LDIF."""
    file = server.folder / "change.ldif"
    file.write_text(text)
    done = tool(server, "ldapmodify", "-f", str(file))
    assert done.returncode == 0, done.stderr


def server_settings(server: directory.DirectoryServer) -> str:
    return (server.folder / "slapd.conf").read_text()


def restart(server: directory.DirectoryServer) -> None:
    """Start it again with its settings as they are now."""
    kept = server_settings(server)
    server.write = lambda: (server.folder / "slapd.conf").write_text(kept)  # type: ignore[assignment, method-assign]
    server.start()


def test_a_limit_of_the_directory_is_told_with_what_helps(server: directory.DirectoryServer) -> None:
    """Pages alone do not lift it."""
    server.stop()
    limited = server_settings(server).replace("lastbind on", "lastbind on\nsizelimit size=2 size.prtotal=2")
    (server.folder / "slapd.conf").write_text(limited)
    restart(server)
    with pytest.raises(SystemRefused, match="only so many entries") as refused:
        Reading.of(DirectoryAdapter(directory.usual(server), ADAPTER_PASSWORD).read())
    assert "limits dn.exact" in refused.value.remedy


plain = st.text(st.characters(codec="utf-8", exclude_categories=("Cc", "Cs", "Cn", "Co")), min_size=1, max_size=12)


@given(plain, plain)
def test_every_way_of_writing_a_name_is_one(first: str, second: str) -> None:
    """All in hexadecimal, in capitals, in another order: the same; and reading a name again changes nothing."""

    def hexed(text: str) -> str:
        return "".join(f"\\{byte:02x}" for byte in text.encode())

    name = dn(f"cn={hexed(first)}+uid={hexed(second)},ou=people")
    assert dn(f"UID={hexed(second)}+CommonName={hexed(first)},  OU=PEOPLE") == name
    assert dn(name) == name


@pytest.mark.parametrize("name", ["", "cn", "cn=a,,dc=b", "cn=a\\", "cn=a\\zz", "no name at all"])
def test_what_is_no_name_is_refused(name: str) -> None:
    with pytest.raises(SystemRefused):
        dn(name)
