"""The rescue liaison directory: a real OpenLDAP server with people, groups in groups, owners and locks."""

from __future__ import annotations

import shutil
from collections.abc import Iterator, Sequence
from contextlib import contextmanager

import ldap3

from openlatch.json_values import JsonObject
from openlatch.test_systems.server import Server

BASE = "dc=hollinfell,dc=example,dc=org"
PEOPLE, GROUPS, APPS = f"ou=people,{BASE}", f"ou=groups,{BASE}", f"ou=apps,{BASE}"
ADAPTER_LOGIN = f"cn=open latch,{BASE}"
OWNER = f"cn=keeper,{BASE}"
LOGIN_PASSWORD = "made-up-for-the-demo"  # noqa: S105  every login of a demo server that listens on loopback only
_SETTINGS = """
include /etc/ldap/schema/core.schema
include /etc/ldap/schema/cosine.schema
include /etc/ldap/schema/inetorgperson.schema
include /etc/ldap/schema/nis.schema
include /etc/ldap/schema/dyngroup.schema
modulepath /usr/lib/ldap
moduleload back_mdb
moduleload ppolicy
pidfile {folder}/slapd.pid
argsfile {folder}/slapd.args
database mdb
suffix "{base}"
rootdn "{owner}"
rootpw {word}
directory {folder}/entries
maxsize 268435456
index objectClass,member,uid eq
lastbind on
overlay ppolicy
ppolicy_default "cn=policy,{base}"
access to attrs=userPassword by anonymous auth by * none
access to attrs=member,uniqueMember,roleOccupant,memberUid,owner,pwdAccountLockedTime
  by dn.exact="{adapter}" write by users read
access to * by dn.exact="{adapter}" read by users read
"""


class DirectoryServer(Server):
    """An OpenLDAP of our own."""

    program = "slapd"
    package = "slapd"

    def write(self) -> None:
        """Write its configuration, with the least rights for Open Latch's login."""
        (self.folder / "entries").mkdir(exist_ok=True)
        word = LOGIN_PASSWORD
        settings = _SETTINGS.format(folder=self.folder, base=BASE, owner=OWNER, word=word, adapter=ADAPTER_LOGIN)
        (self.folder / "slapd.conf").write_text(settings)

    def arguments(self) -> Sequence[str]:
        """The command that runs it in the foreground, on loopback."""
        return ["-d", "0", "-f", str(self.folder / "slapd.conf"), "-h", f"ldap://127.0.0.1:{self.port}"]

    @contextmanager
    def signed_in(self, who: str, word: str = LOGIN_PASSWORD) -> Iterator[ldap3.Connection]:
        """A connection signed in as somebody; the owner may do everything."""
        server = ldap3.Server("127.0.0.1", self.port, get_info=ldap3.NONE)
        directory = ldap3.Connection(server, who, word, raise_exceptions=True, check_names=False)
        try:
            directory.bind()
            yield directory
        finally:
            directory.unbind()

    def prepare(self, plan: JsonObject, adapter_password: str) -> None:
        """Create people, apps and groups, and sign some of them in once, so that the directory records it."""
        with self.signed_in(OWNER) as directory:
            directory.add(BASE, ["organization", "dcObject"], {"o": "Hollin Fell Huts", "dc": "hollinfell"})
            for place in (PEOPLE, GROUPS, APPS):
                directory.add(place, "organizationalUnit")
            # Without a password policy that locks, a lock has no effect.
            policy = {"pwdAttribute": "userPassword", "pwdLockout": "TRUE"}
            directory.add(f"cn=policy,{BASE}", ["applicationProcess", "pwdPolicy"], policy)
            word = {"userPassword": adapter_password}
            directory.add(ADAPTER_LOGIN, ["applicationProcess", "simpleSecurityObject"], word)
            for uid, name, address in plan["people"]:
                values = {"cn": name, "sn": name.split()[-1], "mail": address, "userPassword": LOGIN_PASSWORD}
                directory.add(named(uid), "inetOrgPerson", {k: v for k, v in values.items() if v})
            for name in plan["apps"]:
                directory.add(f"cn={name},{APPS}", "applicationProcess")
            for name, about, members, owners in plan["groups"]:
                values = {"description": about, "member": [named(m) for m in members]}
                directory.add(
                    group(name), "groupOfNames", {**values, "owner": [named(o) for o in owners]} if owners else values
                )
        for uid in plan["signed_in"]:
            with self.signed_in(named(uid)):
                pass
        (self.folder / "made").touch()

    def reset(self) -> None:
        """Remove everything that was created."""
        shutil.rmtree(self.folder, ignore_errors=True)


def named(uid: str) -> str:
    """The distinguished name of somebody by their uid, of ``group:`` and a name, or of ``app:`` and a name."""
    kind, _, name = uid.rpartition(":")
    return {"group": group(name), "app": f"cn={name},{APPS}"}.get(kind, f"uid={name},{PEOPLE}")


def group(name: str) -> str:
    """The distinguished name of a group."""
    return f"cn={name},{GROUPS}"


def usual(server: DirectoryServer) -> JsonObject:
    """The settings by which Open Latch connects to it."""
    return {
        "host": "127.0.0.1",
        "port": server.port,
        "tls": "none",
        "user": ADAPTER_LOGIN,
        "people": PEOPLE,
        "groups": GROUPS,
        "apps": APPS,
    }
