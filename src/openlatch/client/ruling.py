"""The calls about rules, flags and who can do what."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from typing import Any
from uuid import UUID

from openlatch import wire
from openlatch.client.asking import Asking


class Ruling(Asking):
    """Rules, flags, access at any instant."""

    # Rules.

    def rules(self) -> wire.RulesPage:
        """Every rule, and how they are set."""
        return self._ask(wire.RulesPage, "GET", "/rules")

    def preview_rules(self, wish: wire.SetRules) -> Sequence[wire.RuleEffect]:
        """What other settings would raise and clear."""
        return self._ask(wire.RuleEffects, "POST", "/rules/preview", wish).effects

    def set_rules(self, wish: wire.SetRules) -> wire.RulesPage:
        """Set the rules."""
        return self._ask(wire.RulesPage, "PUT", "/rules", wish)

    def check_own_rules(self, text: str) -> wire.OwnRulesChecked:
        """Try the examples of a file of own rules, and count what it would raise."""
        return self._ask(wire.OwnRulesChecked, "POST", "/rules/own/check", wire.RulesFile(text=text))

    def keep_own_rules(self, text: str) -> wire.RulesPage:
        """Let a file of own rules go live."""
        return self._ask(wire.RulesPage, "POST", "/rules/own", wire.RulesFile(text=text))

    def own_rule(self, key: str) -> wire.OwnRuleSource:
        """The file that an own rule came in."""
        return self._ask(wire.OwnRuleSource, "GET", f"/rules/own/{key}")

    def drop_own_rule(self, key: str) -> wire.RulesPage:
        """Take an own rule out of use."""
        return self._ask(wire.RulesPage, "DELETE", f"/rules/own/{key}")

    def facts(self, person: UUID | None = None) -> Sequence[Any]:
        """What the rules are told of somebody; of oneself when nobody is named."""
        return self._get(wire.FactsAbout, "/facts", person=person).subjects

    def want_digest(self, wants: bool) -> None:
        """Get the weekly letter about flags, or not."""
        self._ask(wire.Done, "POST", "/me/digest", wire.WantDigest(wants=wants))

    # Flags.

    def accept_flags(self, flags: Sequence[UUID], reason: str, until: datetime) -> Sequence[wire.FlagRow]:
        """Accept several flags until a day."""
        body = wire.AcceptFlags(flags=list(flags), reason=reason, until=until)
        return self._ask(wire.Flags, "POST", "/flags/accept", body).flags

    def reopen_flag(self, ident: UUID) -> wire.FlagRow:
        """Take the acceptance of a flag back."""
        return self._ask(wire.FlagRow, "POST", f"/flags/{ident}/reopen")

    def assign_flags(self, flags: Sequence[UUID], person: UUID | None) -> Sequence[wire.FlagRow]:
        """Say who sees to flags, or nobody."""
        return self._ask(wire.Flags, "POST", "/flags/assign", wire.AssignFlags(flags=list(flags), person=person)).flags

    # Who can do what.

    def access(self, person: UUID, account: UUID, **question: Any) -> wire.Paths:
        """By which paths a person can act in an account. ``question``: at, believed, permission, resource, shortest."""
        return self._get(wire.Paths, "/access", person=person, account=account, **question)

    def account_access(self, account: UUID, **question: Any) -> wire.Paths:
        """Everyone who can act in an account."""
        return self._get(wire.Paths, f"/accounts/{account}/access", **question)

    def person_access(self, person: UUID, **question: Any) -> wire.Paths:
        """Everything that a person can act in."""
        return self._get(wire.Paths, f"/people/{person}/access", **question)

    def matrix(self, account: UUID, **question: Any) -> wire.Matrix:
        """Everyone in an account against everything that can be done there."""
        return self._get(wire.Matrix, f"/accounts/{account}/matrix", **question)

    def difference(
        self, account: UUID, one: datetime, other: datetime, believed: datetime | None = None
    ) -> Sequence[wire.AccessShift]:
        """Whose rights in an account were others at a second instant than at a first."""
        path = f"/accounts/{account}/difference"
        return self._get(wire.Difference, path, one=one, other=other, believed=believed).shifts

    def suppose(self, changes: Sequence[wire.SupposedChange]) -> wire.Supposed:
        """What changes would do to who can do what; nothing is changed."""
        return self._ask(wire.Supposed, "POST", "/access/suppose", wire.Suppose(changes=list(changes)))

    def use(self, grant: UUID, days: int = 180) -> wire.UseOf:
        """Use of a grant by permission, and the smallest level that would have covered it."""
        return self._get(wire.UseOf, f"/grants/{grant}/use", days=days)

    def risk_map(self) -> wire.RiskMap:
        """All live grants by danger and by how long unused."""
        return self._get(wire.RiskMap, "/map")

    def ends(self, since: datetime | None = None, months: int = 3) -> wire.Calendar:
        """What ends day by day."""
        return self._get(wire.Calendar, "/ends", since=since, months=months)
