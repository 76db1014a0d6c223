"""Flags, rules, and what the rules know."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date, datetime
from uuid import UUID

from openlatch import schemas
from openlatch.client.base import Calls, end


class FlagsCalls(Calls):
    """Flags, rules, and what the rules know."""

    def flag(self, ident: UUID) -> schemas.FlagRow:
        """A flag."""
        return schemas.FlagRow.model_validate(self._transport.call("GET", f"/flags/{ident}"))

    def accept_flag(self, ident: UUID, reason: str, until: datetime) -> schemas.FlagRow:
        """Accept a flag until an instant."""
        body = {"reason": reason, "until": until.isoformat()}
        return schemas.FlagRow.model_validate(self._transport.call("POST", f"/flags/{ident}/accept", json=body))

    def next_actions(self, limit: int = 7, postponed: bool = False) -> schemas.NextActions:
        """What to do first: the fewest actions that take away most risk."""
        asked = {"limit": limit, "postponed": postponed}
        return schemas.NextActions.model_validate(self._transport.call("GET", "/next", params=asked))

    def postpone_action(self, key: str, reason: str, until: date | datetime) -> None:
        """Put an action off, until an instant or to the end of a last day."""
        self._ask(schemas.Done, "POST", "/next/postpone", schemas.PostponeAction(key=key, reason=reason, **end(until)))

    def matter(self, key: str) -> schemas.MatterPage:
        """A matter: the flags of a holder in an account, what could be done about them, and what was said."""
        return self._ask(schemas.MatterPage, "GET", f"/matters/{key}")

    def comment(self, key: str, text: str, mentions: Sequence[UUID] = ()) -> schemas.CommentOf:
        """Comment on a matter; whoever is mentioned is told."""
        body = schemas.AddComment(text=text, mentions=list(mentions))
        return self._ask(schemas.CommentOf, "POST", f"/matters/{key}/comments", body)

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

    def facts(self, person: UUID | None = None) -> Sequence[schemas.FactsOf]:
        """What the rules are told of somebody; of oneself when nobody is named."""
        return self._get(schemas.FactsAbout, "/facts", person=person).subjects

    def want_digest(self, wants: bool) -> None:
        """Get the weekly letter about flags, or not."""
        self._ask(schemas.Done, "POST", "/me/digest", schemas.WantDigest(wants=wants))

    def accept_flags(self, flags: Sequence[UUID], reason: str, until: date | datetime) -> Sequence[schemas.FlagRow]:
        """Accept several flags until a day."""
        body = schemas.AcceptFlags.model_validate({"flags": list(flags), "reason": reason, **end(until)})
        return self._ask(schemas.Flags, "POST", "/flags/accept", body).flags

    def reopen_flag(self, ident: UUID) -> schemas.FlagRow:
        """Take the acceptance of a flag back."""
        return self._ask(schemas.FlagRow, "POST", f"/flags/{ident}/reopen")

    def assign_flags(self, flags: Sequence[UUID], person: UUID | None) -> Sequence[schemas.FlagRow]:
        """Say who sees to flags, or nobody."""
        return self._ask(
            schemas.Flags, "POST", "/flags/assign", schemas.AssignFlags(flags=list(flags), person=person)
        ).flags
