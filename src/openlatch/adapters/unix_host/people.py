"""The users and groups of a host, from passwd(5), group(5) and shadow(5)."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass

from openlatch.adapters.contract import Found, FoundLevel, Holding, Login, SharedAccount
from openlatch.adapters.unix_host.lists import List
from openlatch.adapters.unix_host.wording import EVERYONE
from openlatch.json_values import JsonObject

DOOR = "everyone:host"
_NO_SHELL = ("nologin", "false", "sync", "")


@dataclass(frozen=True, slots=True)
class People:
    """Users by name with their fields, groups with number and members, who is locked, and what cron runs for whom.

    ``strange`` are invalid lines of those files.
    """

    users: Mapping[str, list[str]]
    groups: Mapping[str, tuple[int, tuple[str, ...]]]
    locked: frozenset[str] = frozenset()
    jobs: Mapping[str, int] | None = None
    strange: tuple[str, ...] = ()

    def has_shell(self, name: str) -> bool:
        """Whether a user gets a shell when they sign in."""
        return self.users[name][6].rsplit("/", 1)[-1] not in _NO_SHELL

    def is_root(self, name: str) -> bool:
        """Whether a user is the administrator, by whatever name."""
        return name in self.users and self.users[name][2] == "0"

    def user(self, name: str) -> Login:
        """A user as somebody who can sign in; by ``uid:`` and a number if no user has it."""
        fields = self.users.get(name)
        if fields is None:
            number = name.removeprefix("uid:")
            told = f"No user any more (UID {number})" if number != name else name
            return Login(name if number != name else f"user:{name}", told, False)
        jobs = (self.jobs or {}).get(name, 0)
        hangs = (("job", f"cron runs {jobs} job{'s' * (jobs != 1)} of theirs, with nobody there"),) if jobs else ()
        told = fields[4].split(",")[0]
        return Login(f"user:{name}", told or name, False, {"uid": fields[2]}, name in self.locked, hangs)

    def group(self, name: str) -> SharedAccount:
        """A group as an account that its members act as."""
        return SharedAccount(f"group:{name}", f"Group {name}", "group")

    def everyone(self) -> Iterator[Found]:
        """What every user has, as an account that all of them are in."""
        yield SharedAccount(DOOR, "Everyone who is a user of the host", "everyone")
        for name in self.users:
            if self.has_shell(name) and not self.is_root(name):
                yield self.user(name)
                yield Holding(DOOR, f"user:{name}", False, EVERYONE.key, None, {"kind": "everyone", "user": name})

    def groups_of(self, name: str) -> set[str]:
        """The numbers of all groups of a user: the primary one, and those that name them."""
        fields = self.users.get(name)
        named = {str(number) for number, members in self.groups.values() if name in members}
        return named | ({fields[3]} if fields else set())

    def narrower(self, one: List) -> Iterator[str]:
        """Users whose own entry gives less than their groups or everyone have there (acl(5))."""
        for of, number in sorted(one.named()):
            name = self.user_of(number)
            if of == "user" and name in self.users:
                numbers = self.groups_of(name)
                entries = [("group", group) for group in numbers] + ([("group", "")] if one.group in numbers else [])
                given = set(one.entries.get(("other", ""), "")).union(*(one.rights(entry) for entry in entries))
                if given - set(one.rights((of, number))) & {"r", "w"} and not self.is_root(name):
                    yield name

    def user_of(self, number: str) -> str:
        """The name of a user by number, or the number as a name."""
        return next((name for name, fields in self.users.items() if fields[2] == number), f"uid:{number}")

    def group_of(self, number: str) -> str:
        """The name of a group by number, or the number as a name."""
        return next((name for name, (known, _) in self.groups.items() if str(known) == number), f"gid:{number}")

    def holding(
        self,
        who: str,
        account: str,
        level: FoundLevel | None,
        handle: JsonObject,
        parts: tuple[tuple[str, str], ...] = (),
    ) -> Iterator[Found]:
        """That a user, or with a percent sign a group, holds something; also for unknown names."""
        key = level.key if level is not None else ""
        if who.startswith("%"):
            yield self.group(who[1:])
            yield Holding(account, f"group:{who[1:]}", True, key, None, handle, parts)
        else:
            login = self.user(who)
            yield login
            yield Holding(account, login.handle, False, key, None, handle, parts)


def users_of(text: str) -> tuple[dict[str, list[str]], list[str]]:
    """The fields of passwd(5) by name, and invalid lines."""
    found, strange = dict[str, list[str]](), list[str]()
    for number, line in enumerate(text.split("\n"), 1):
        fields = line.split(":")
        if len(fields) == 7 and fields[0] and fields[2].isdigit() and fields[3].isdigit():
            found.setdefault(fields[0], fields)
        elif line.strip() and not line.startswith("#"):
            strange.append(f"etc/passwd, line {number}")
    return found, strange


def groups_of(text: str) -> tuple[dict[str, tuple[int, tuple[str, ...]]], list[str]]:
    """Number and members of each group of group(5), and invalid lines."""
    found, strange = dict[str, tuple[int, tuple[str, ...]]](), list[str]()
    for number, line in enumerate(text.split("\n"), 1):
        fields = line.split(":")
        if len(fields) == 4 and fields[0] and fields[2].isdigit():
            found.setdefault(fields[0], (int(fields[2]), tuple(m for m in fields[3].split(",") if m)))
        elif line.strip() and not line.startswith("#"):
            strange.append(f"etc/group, line {number}")
    return found, strange
