"""What is particular to MariaDB: rights on every level, columns, proxies, roles in roles, PUBLIC, hosts, patterns."""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path

import pymysql
import pytest

from openlatch.adapters import Adapter, Holding, Reading, Why
from openlatch.adapters.mariadb import adapter as mariadb
from openlatch.adapters.mariadb import grants
from openlatch.conformance import World
from openlatch.core.vocabulary import StepKind
from openlatch.errors import SystemRefused
from tests.adapters.worlds import maria


@pytest.fixture(scope="module")
def world(folder: Path) -> Iterator[World]:
    place = folder / "mariadb-world"
    place.mkdir()
    place.chmod(0o755)
    made = maria(place, lambda _: pytest.fail("no such server"))
    yield made
    made.stop()


def held(adapter: Adapter, account: str, who: str) -> Holding:
    return next(h for h in Reading.of(adapter.read()).holdings if (h.account, h.holder) == (account, who))


def shown(world: World, who: str) -> list[str]:
    """What the server's owner sees, word by word: columns come in any order."""
    rows = world.extra["server"].run(f"show grants for {who}")
    return sorted(word for (row,) in rows for word in re.findall(r"[^\s,()]+", row))


def test_every_level_is_read_with_its_columns_and_options(world: World) -> None:
    """A table's rights by column, a routine's, a pattern of databases, the server, a proxy, and what everybody has."""
    reading = Reading.of(world.adapter().read())
    by = {(h.account, h.holder): h for h in reading.holdings}
    mailer = by["`bookings`.`stays`", "app_mailer@127.0.0.1"]
    assert (mailer.level, mailer.parts) == ("insert", (("guest", "select+update"), ("id", "select")))
    assert by["FUNCTION `bookings`.`open_days`", "bob@127.%"].level == "execute"
    assert by["login:ann@%", "bob@127.%"].level == "proxy"
    assert by["role:desk", "role:season"].holder_is_account
    assert by["`bookings`.`stays`", "role:PUBLIC"].level == "select"
    assert by["role:PUBLIC", "bob@127.%"].level == "everybody"
    assert by["*.*", "root@127.0.0.1"].level == "all privileges*"
    names = {account.handle: account.comment for account in reading.accounts}
    assert names["`bookings\\_%`.*"] == "databases like bookings_*"
    assert names["`bookings`.*"] == "bookings"
    (ann,) = [login for login in reading.logins if login.handle == "ann@%"]
    assert ann.hangs == (("object", "the view bookings.guests runs with its rights"),)
    assert [login.handle for login in reading.logins if login.is_app] == ["app_mailer@127.0.0.1"]
    (coverage,) = reading.coverage
    assert coverage.unable == ()
    assert not coverage.is_partial


def test_columns_options_and_proxies_are_taken_and_given_again_as_they_were(world: World) -> None:
    """By the server's own word."""
    adapter = world.adapter()
    for account, who, named in (
        ("`bookings`.`stays`", "app_mailer@127.0.0.1", "app_mailer@127.0.0.1"),
        ("login:ann@%", "bob@127.%", "bob@'127.%'"),
        ("role:season", "ann@%", "ann@'%'"),
    ):
        before, handle = shown(world, named), held(adapter, account, who).handle
        adapter.apply(StepKind.REMOVE, handle)
        assert adapter.confirm(StepKind.REMOVE, handle) is None
        assert shown(world, named) != before
        adapter.apply(StepKind.GIVE, adapter.again(handle) or {})
        assert shown(world, named) == before
    season = held(adapter, "role:season", "ann@%").handle
    adapter.apply(StepKind.REDUCE, {**season, "to": "member"})
    assert held(adapter, "role:season", "ann@%").level == "member"
    assert not adapter.can_reduce("all privileges", "select")


def test_what_everybody_has_is_taken_from_everybody(world: World) -> None:
    """Not from one; what PUBLIC has can be."""
    adapter = world.adapter()
    with pytest.raises(SystemRefused, match="Everybody has"):
        adapter.plan(StepKind.REMOVE, held(adapter, "role:PUBLIC", "bob@127.%").handle)
    handle = held(adapter, "`bookings`.`stays`", "role:PUBLIC").handle
    adapter.apply(StepKind.REMOVE, handle)
    assert adapter.confirm(StepKind.REMOVE, handle) is None
    assert not any(h.account == "role:PUBLIC" for h in Reading.of(adapter.read()).holdings)
    adapter.apply(StepKind.GIVE, handle)


def test_a_login_is_dropped_and_one_that_is_renamed_is_not_taken_for_locked(world: World) -> None:
    server, adapter = world.extra["server"], world.adapter()
    server.run("create user gone@'10.%' identified by 'x'")
    with pytest.raises(SystemRefused, match="may have been renamed"):
        adapter.confirm(StepKind.LOCK, {"login": "gone@11.%"})
    assert adapter.confirm(StepKind.DROP, {"login": "gone@10.%"}) == "the login gone@10.% is still there"
    adapter.apply(StepKind.DROP, {"login": "gone@10.%"})
    assert adapter.confirm(StepKind.DROP, {"login": "gone@10.%"}) is None


def test_what_is_not_understood_or_not_told_never_counts_as_absent(world: World) -> None:
    """A statement of another kind; a user of whom the server says nothing, since it does not resolve names."""
    odd = "GRANT ODD §1 ON *.* TO `x`@`%` IDENTIFIED BY 'secret'"
    told = grants.read(["GRANT USAGE ON *.* TO `x`@`%`", odd], "x@%")
    assert told.unknown == ("GRANT ODD §1 ON *.* TO `x`@`%`",)
    with pytest.raises(SystemRefused, match="not understood"):
        mariadb._wrong(StepKind.REMOVE, {"place": "*.*", "member": "x@%"}, told)
    server, adapter = world.extra["server"], world.adapter()
    server.run("create user named@'hut.example.org' identified by 'x'", "flush privileges")
    (coverage,) = Reading.of(adapter.read()).coverage
    assert ("named@hut.example.org", Why.NOT_UNDERSTOOD) in [(gap.place, gap.why) for gap in coverage.gaps]
    with pytest.raises(SystemRefused, match="does not tell"):
        adapter.confirm(StepKind.REMOVE, {"role": "desk", "member": "named@hut.example.org"})
    server.run("delete from mysql.global_priv where User = 'named'", "flush privileges")


def test_what_open_latch_may_not_change_is_said(world: World) -> None:
    """A role that it does not administer: until it is let in, taking it away is refused."""
    server, adapter = world.extra["server"], world.adapter()
    server.run("create role guides", "grant guides to bob@'127.%'")
    try:
        (coverage,) = Reading.of(adapter.read()).coverage
        assert coverage.unable == ("memberships in the role guides: it is not held with admin option",)
        with pytest.raises(SystemRefused, match="does not let open_latch do that"):
            adapter.apply(StepKind.REMOVE, held(adapter, "role:guides", "bob@127.%").handle)
    finally:
        server.run("drop role guides")
    server.run("revoke select on *.* from open_latch@'127.0.0.1'")
    with pytest.raises(SystemRefused, match="lacks ALL PRIVILEGES"):
        adapter.check()
    server.run("grant all privileges on *.* to open_latch@'127.0.0.1' with grant option")
    with pytest.raises(pymysql.OperationalError):
        server.signed_in("open_latch", "wrong")


def test_a_login_that_is_gone_is_not_made_by_giving_it_something(world: World) -> None:
    """Whatever the server is set to; and names are quoted as they are read."""
    server, adapter = world.extra["server"], world.adapter()
    before = server.run("select @@global.sql_mode")[0][0]
    server.run("set global sql_mode = 'ANSI_QUOTES'", "set global sql_quote_show_create = 0")
    try:
        handle = {**held(adapter, "`bookings`.*", "bob@127.%").handle, "member": "nobody@127.%"}
        with pytest.raises(SystemRefused):
            adapter.apply(StepKind.GIVE, handle)
        assert server.run("select count(*) from mysql.global_priv where User = 'nobody'") == [(0,)]
        (coverage,) = Reading.of(adapter.read()).coverage
        assert not coverage.is_partial
    finally:
        server.run(f"set global sql_mode = '{before}'", "set global sql_quote_show_create = 1")


@pytest.mark.parametrize(
    ("address", "login"),
    [
        ("10.1.2.3", "ann@10.1.2.3"),
        ("10.1.2.4", "ann@10.1.%"),
        ("10.9.9.9", "ann@10.0.0.0/8"),
        ("192.0.2.1", "ann@%"),
        ("localhost", "ann@%"),
    ],
)
def test_a_connection_is_by_the_login_with_the_narrowest_host(address: str, login: str) -> None:
    logins = ["ann@%", "ann@10.0.0.0/8", "ann@10.1.%", "ann@10.1.2.3", "bob@10.1.2.3"]
    assert mariadb._signed_in_as("ann", address, logins) == login
    assert mariadb._signed_in_as("cy", address, logins) is None
