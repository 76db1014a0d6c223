"""A register of a given size, as files that the import takes: skewed like a real one, and the same every time."""

from __future__ import annotations

import random
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

SYSTEMS = 12
LEVELS = (("see", "observe"), ("change", "operate"), ("pay", "spend"), ("run", "steward"))


@dataclass(frozen=True)
class Size:
    """How much of everything, in the proportions of a large organisation."""

    grants: int

    @property
    def people(self) -> int:
        """A tenth."""
        return max(self.grants // 10, 20)

    @property
    def accounts(self) -> int:
        """A hundredth."""
        return max(self.grants // 100, 10)

    @property
    def teams(self) -> int:
        """A two-hundredth, nested."""
        return max(self.grants // 200, 5)

    @property
    def apps(self) -> int:
        """A two-thousandth."""
        return max(self.grants // 2000, 3)

    @property
    def sessions(self) -> int:
        """Three tenths."""
        return self.grants * 3 // 10


def _day(now: datetime, back: int) -> str:
    return (now - timedelta(days=back)).strftime("%Y-%m-%d")


def people(size: Size, now: datetime) -> Iterator[str]:
    """One in fifty has left, one in ten is outside."""
    yield "key,name,address,inside,standing,leaves_on,second_factor\n"
    for n in range(size.people):
        left = n % 50 == 7
        ends = _day(now, n % 300 + 1) if left else ""
        inside, standing = "no" if n % 10 == 3 else "yes", "left" if left else "current"
        domain = "freemail.example" if n % 40 == 3 else "example.org"
        yield f"p{n},Person {n},p{n}@{domain},{inside},{standing},{ends},{'no' if n % 3 == 0 else 'yes'}\n"


def levels(size: Size, now: datetime) -> Iterator[str]:
    """Four a system."""
    yield "system,key,name,sentence,permissions\n"
    for system in range(SYSTEMS):
        for key, reach in LEVELS:
            yield f"System {system},{key},Can {key},Can {key}.,{key}|Can {key}|{reach}\n"


def accounts(size: Size, now: datetime) -> Iterator[str]:
    """Each with an owner."""
    yield "key,name,system,sensitivity,owner\n"
    for n in range(size.accounts):
        yield f"a{n},Account {n},System {n % SYSTEMS},{n % 4 + 1},p{n * 7 % size.people}\n"


def teams(size: Size, now: datetime) -> Iterator[str]:
    """Groups of people."""
    yield "key,name\n"
    for n in range(size.teams):
        yield f"t{n},Team {n}\n"


def apps(size: Size, now: datetime) -> Iterator[str]:
    """One in ten names no publisher."""
    yield "key,name,publisher\n"
    for n in range(size.apps):
        yield f"x{n},App {n},{'Publisher' if n % 10 else ''}\n"


def places(size: Size, now: datetime) -> Iterator[str]:
    """A ring of networks round a country, and a few abroad."""
    yield "network,place,country,latitude,longitude\n"
    for n in range(64):
        country = "AB" if n % 16 == 0 else "CD"
        yield f"10.{n}.0.0/16,Place {n},{country},{40 + n % 8},{n - 32}\n"


def memberships(size: Size, now: datetime) -> Iterator[str]:
    """Teams nested up to six deep, and people in them."""
    yield "team,member_kind,member\n"
    for n in range(size.teams):
        if n % 6:
            yield f"t{n - 1},team,t{n}\n"
    dice = random.Random(7)
    met = set()
    for _ in range(size.people * 2):
        pair = dice.randrange(size.teams), dice.randrange(size.people)
        if pair not in met:
            met.add(pair)
            yield f"t{pair[0]},person,p{pair[1]}\n"


def grants(size: Size, now: datetime) -> Iterator[str]:
    """A few accounts have many holders, most have few."""
    yield "account,holder_kind,holder,level,until,given_by,given_at,last_used_at,reason\n"
    dice = random.Random(11)
    met = set()
    count = 0
    while count < size.grants:
        account = int(size.accounts * dice.random() ** 2.2)
        lot = dice.random()
        if lot < 0.03:
            holder, kind = f"t{dice.randrange(size.teams)}", "team"
        elif lot < 0.05:
            holder, kind = f"x{dice.randrange(size.apps)}", "app"
        else:
            holder, kind = f"p{dice.randrange(size.people)}", "person"
        level = LEVELS[min(int(dice.expovariate(1.4)), 3)][0]
        key = account, holder, level
        if key in met:
            continue
        met.add(key)
        count += 1
        until = "" if dice.random() < 0.6 else _day(now, -dice.randrange(1, 300))
        used = "" if dice.random() < 0.15 else _day(now, dice.randrange(1, 400))
        given = _day(now, dice.randrange(1, 900))
        yield f"a{account},{kind},{holder},{level},{until},p{dice.randrange(size.people)},{given},{used},Needed.\n"


def sessions(size: Size, now: datetime) -> Iterator[str]:
    """Most of them young."""
    yield "key,account,holder,device,address,started_at\n"
    dice = random.Random(13)
    for n in range(size.sessions):
        started = (now - timedelta(days=int(dice.expovariate(1 / 12)), hours=1)).isoformat()
        person = dice.randrange(size.people)
        # People are in one place, and now and then in another.
        place = person % 64 if dice.random() < 0.97 else dice.randrange(64)
        account = dice.randrange(size.accounts)
        yield f"s{n},a{account},p{person},Laptop,10.{place}.{n % 250}.{n // 250 % 250},{started}\n"


def use(size: Size, now: datetime) -> Iterator[str]:
    """Every fourth grant is watched: used on a few days."""
    yield "account,holder_kind,holder,permission,last_used_at\n"
    dice = random.Random(17)
    for n, line in enumerate(grants(size, now)):
        if n % 4 == 1:
            account, kind, holder, level, *_ = line.split(",")
            for back in dice.sample(range(1, 700), 3):
                yield f"{account},{kind},{holder},{level},{_day(now, back)}\n"


FILES = {
    "places": places,
    "people": people,
    "teams": teams,
    "memberships": memberships,
    "accounts": accounts,
    "levels": levels,
    "apps": apps,
    "grants": grants,
    "sessions": sessions,
    "use": use,
}


def today() -> datetime:
    """Midnight of this day in UTC."""
    return datetime.now(UTC).replace(hour=0, minute=0, second=0, microsecond=0)
