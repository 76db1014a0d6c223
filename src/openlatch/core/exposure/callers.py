"""Who asks, as a dimension: not signed in, each holder and organisation that rules name, and all others."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field

from openlatch.core.exposure.rules import Boundary, Caller, Holder, Who, WhoKind


@dataclass(frozen=True, slots=True)
class Callers:
    """A set of outsiders: those not signed in; of those signed in, the members of some organisations, some named
    holders, and all others.

    A holder or organisation that is not named counts as its organisation, or as all others.
    """

    signed_out: bool = False
    others: bool = False
    organisations: Mapping[str, bool] = field(default_factory=dict)
    holders: Mapping[str, bool] = field(default_factory=dict)

    def has(self, caller: Caller) -> bool:
        """Whether one outsider is in it."""
        if not caller.signed_in:
            return self.signed_out
        return self.holders.get(caller.holder, self.organisations.get(caller.organisation, self.others))

    @property
    def everyone(self) -> bool:
        """Whether every outsider is in it."""
        return self.signed_out and self.everyone_signed_in

    @property
    def everyone_signed_in(self) -> bool:
        """Whether every outsider who has signed in is in it."""
        return self.others and all(self.organisations.values()) and all(self.holders.values())


class CallerAxis:
    """The classes of callers that no rule distinguishes.

    Cell 0 is whoever is not signed in, followed by holders, the other members of organisations, any other outsider who
    is signed in, and any other insider.
    """

    def __init__(self, who: Iterable[Who], known: Mapping[str, Holder], boundary: Boundary) -> None:
        names: dict[WhoKind, set[str]] = {WhoKind.HOLDER: set(), WhoKind.ORGANISATION: set()}
        for each in who:
            if each.kind in names:
                names[each.kind].add(each.name)
        self.holders = [known.get(key) or _unknown(key, boundary) for key in sorted(names[WhoKind.HOLDER])]
        self.organisations = sorted(
            names[WhoKind.ORGANISATION] | {h.organisation for h in self.holders if h.organisation}
        )
        self._of_holders, self._of_organisations = 1, 1 + len(self.holders)
        self._others = self._of_organisations + len(self.organisations)
        self.size = self._others + 2
        self._full = (1 << self.size) - 1
        self._inside = self._bits(h.inside for h in self.holders) << self._of_holders
        self._inside |= self._bits(boundary.has(name) for name in self.organisations) << self._of_organisations
        self._inside |= 1 << self._others + 1
        self.no_others = boundary.members_only and not boundary.outsiders_known

    @staticmethod
    def _bits(truths: Iterable[bool]) -> int:
        return sum(1 << at for at, truth in enumerate(truths) if truth)

    def mask(self, who: Who) -> int:
        """The classes that one kind of who covers; all of them if it is about something else."""
        match who.kind:
            case WhoKind.SIGNED_IN:
                return self._full & ~1
            case WhoKind.INSIDE:
                return self._inside
            case WhoKind.HOLDER:
                return self._bits(h.key == who.name for h in self.holders) << self._of_holders
            case WhoKind.ORGANISATION:
                members = self._bits(h.organisation == who.name for h in self.holders) << self._of_holders
                return members | 1 << self._of_organisations + self.organisations.index(who.name)
            case WhoKind.ANYONE | WhoKind.LINK | WhoKind.NETWORK:
                return self._full

    @property
    def outside(self) -> int:
        """The classes of people outside, with whoever has not signed in.

        Where only people inside can sign in, those are nobody else but holders who are named.
        """
        outside = self._full & ~self._inside
        return outside & ((1 << self._of_organisations) - 1) if self.no_others else outside

    def holder_cells(self) -> Iterable[tuple[int, Holder]]:
        """Each holder with their class."""
        return ((self._of_holders + at, holder) for at, holder in enumerate(self.holders))

    def callers(self, mask: int) -> Callers:
        """The outsiders of some classes, without what is implied."""
        others = bool(mask >> self._others & 1)
        organisations = {
            name: bool(mask >> self._of_organisations + at & 1)
            for at, name in enumerate(self.organisations)
            if self.outside >> self._of_organisations + at & 1
        }
        holders = {
            holder.key: bool(mask >> cell & 1) for cell, holder in self.holder_cells() if self.outside >> cell & 1
        }
        usual = {h.key: organisations.get(h.organisation, others) for h in self.holders}
        return Callers(
            bool(mask & 1),
            others,
            {name: truth for name, truth in organisations.items() if truth != others},
            {key: truth for key, truth in holders.items() if truth != usual[key]},
        )

    def mask_of(self, callers: Callers) -> int:
        """The classes of people outside that lie in a set. The axis has to know all whom the set names."""

        def of(organisation: str) -> bool:
            return callers.organisations.get(organisation, callers.others)

        found = int(callers.signed_out) | callers.others << self._others
        found |= self._bits(of(name) for name in self.organisations) << self._of_organisations
        found |= self._bits(callers.holders.get(h.key, of(h.organisation)) for h in self.holders) << self._of_holders
        return found & self.outside


def _unknown(key: str, boundary: Boundary) -> Holder:
    """A holder whom the register does not know: inside by the domain of their address at most."""
    _, at, domain = key.rpartition("@")
    organisation = domain.lower() if at else ""
    return Holder(key, bool(organisation) and boundary.has(organisation), organisation)
