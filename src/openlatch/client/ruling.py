"""The calls about rules, flags and who can do what."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from typing import Any
from uuid import UUID

from openlatch import schemas
from openlatch.client.asking import Asking


class Ruling(Asking):
    """Rules, flags, access at any instant."""

    # Rules.

    def rules(self) -> schemas.RulesPage:
        """Every rule, and how they are set."""
        return self._ask(schemas.RulesPage, "GET", "/rules")

    def preview_rules(self, wish: schemas.SetRules) -> Sequence[schemas.RuleEffect]:
        """What other settings would raise and clear."""
        return self._ask(schemas.RuleEffects, "POST", "/rules/preview", wish).effects

    def set_rules(self, wish: schemas.SetRules) -> schemas.RulesPage:
        """Set the rules."""
        return self._ask(schemas.RulesPage, "PUT", "/rules", wish)

    def check_own_rules(self, text: str) -> schemas.OwnRulesChecked:
        """Try the examples of a file of own rules, and count what it would raise."""
        return self._ask(schemas.OwnRulesChecked, "POST", "/rules/own/check", schemas.RulesFile(text=text))

    def keep_own_rules(self, text: str) -> schemas.RulesPage:
        """Let a file of own rules go live."""
        return self._ask(schemas.RulesPage, "POST", "/rules/own", schemas.RulesFile(text=text))

    def own_rule(self, key: str) -> schemas.OwnRuleSource:
        """The file that an own rule came in."""
        return self._ask(schemas.OwnRuleSource, "GET", f"/rules/own/{key}")

    def drop_own_rule(self, key: str) -> schemas.RulesPage:
        """Take an own rule out of use."""
        return self._ask(schemas.RulesPage, "DELETE", f"/rules/own/{key}")

    def facts(self, person: UUID | None = None) -> Sequence[Any]:
        """What the rules are told of somebody; of oneself when nobody is named."""
        return self._get(schemas.FactsAbout, "/facts", person=person).subjects

    def want_digest(self, wants: bool) -> None:
        """Get the weekly letter about flags, or not."""
        self._ask(schemas.Done, "POST", "/me/digest", schemas.WantDigest(wants=wants))

    # Flags.

    def accept_flags(self, flags: Sequence[UUID], reason: str, until: datetime) -> Sequence[schemas.FlagRow]:
        """Accept several flags until a day."""
        body = schemas.AcceptFlags(flags=list(flags), reason=reason, until=until)
        return self._ask(schemas.Flags, "POST", "/flags/accept", body).flags

    def reopen_flag(self, ident: UUID) -> schemas.FlagRow:
        """Take the acceptance of a flag back."""
        return self._ask(schemas.FlagRow, "POST", f"/flags/{ident}/reopen")

    def assign_flags(self, flags: Sequence[UUID], person: UUID | None) -> Sequence[schemas.FlagRow]:
        """Say who sees to flags, or nobody."""
        return self._ask(
            schemas.Flags, "POST", "/flags/assign", schemas.AssignFlags(flags=list(flags), person=person)
        ).flags

    # Who can do what.

    def access(self, person: UUID, account: UUID, **question: Any) -> schemas.Paths:
        """By which paths a person can act in an account. ``question``: at, believed, permission, resource, shortest."""
        return self._get(schemas.Paths, "/access", person=person, account=account, **question)

    def account_access(self, account: UUID, **question: Any) -> schemas.Paths:
        """Everyone who can act in an account."""
        return self._get(schemas.Paths, f"/accounts/{account}/access", **question)

    def person_access(self, person: UUID, **question: Any) -> schemas.Paths:
        """Everything that a person can act in."""
        return self._get(schemas.Paths, f"/people/{person}/access", **question)

    def matrix(self, account: UUID, **question: Any) -> schemas.Matrix:
        """Everyone in an account against everything that can be done there."""
        return self._get(schemas.Matrix, f"/accounts/{account}/matrix", **question)

    def difference(
        self, account: UUID, one: datetime, other: datetime, believed: datetime | None = None
    ) -> Sequence[schemas.AccessShift]:
        """Whose rights in an account were others at a second instant than at a first."""
        path = f"/accounts/{account}/difference"
        return self._get(schemas.Difference, path, one=one, other=other, believed=believed).shifts

    def suppose(self, changes: Sequence[schemas.SupposedChange]) -> schemas.Supposed:
        """What changes would do to who can do what; nothing is changed."""
        return self._ask(schemas.Supposed, "POST", "/access/suppose", schemas.Suppose(changes=list(changes)))

    def use(self, grant: UUID, days: int = 180) -> schemas.UseOf:
        """Use of a grant by permission, and the smallest level that would have covered it."""
        return self._get(schemas.UseOf, f"/grants/{grant}/use", days=days)

    def risk_map(self) -> schemas.RiskMap:
        """All live grants by danger and by how long unused."""
        return self._get(schemas.RiskMap, "/map")

    def ends(self, since: datetime | None = None, months: int = 3) -> schemas.Calendar:
        """What ends day by day."""
        return self._get(schemas.Calendar, "/ends", since=since, months=months)
