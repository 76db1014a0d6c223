"""The calls about flags, rules and what rules know."""

from __future__ import annotations

from uuid import UUID

from openlatch import schemas
from openlatch.api.routing import api
from openlatch.core.flags import Weights
from openlatch.service.flags import known_facts, rule_settings, weekly_letter
from openlatch.service.flags import manage as manage_flags
from openlatch.service.next_actions import choose, matters
from openlatch.service.unit import Unit


@api.add("GET", "/flags/<uuid:ident>", "A flag", schemas.FlagRow, inside=True)
def get_flag(unit: Unit, ident: UUID) -> schemas.FlagRow:
    """With its facts and the parts of its score."""
    return manage_flags.shown(unit, ident)


@api.add(
    "POST",
    "/flags/<uuid:ident>/accept",
    "Accept a flag until a day",
    schemas.FlagRow,
    body=schemas.AcceptFlag,
    inside=True,
)
def accept_flag(unit: Unit, ident: UUID, body: schemas.AcceptFlag) -> schemas.FlagRow:
    """It opens again when the time is over."""
    return manage_flags.accept(unit, [ident], body.reason, body.until, body.last_day)[0]


@api.add("POST", "/flags/<uuid:ident>/reopen", "Take the acceptance of a flag back", schemas.FlagRow, inside=True)
def reopen_flag(unit: Unit, ident: UUID) -> schemas.FlagRow:
    """It is open at once."""
    return manage_flags.open_again(unit, ident)


@api.add("POST", "/flags/accept", "Accept flags until a day", schemas.Flags, body=schemas.AcceptFlags, inside=True)
def accept_flags(unit: Unit, body: schemas.AcceptFlags) -> schemas.Flags:
    """All of them, or none."""
    return schemas.Flags(flags=manage_flags.accept(unit, body.flags, body.reason, body.until, body.last_day))


@api.add("POST", "/flags/assign", "Say who sees to flags", schemas.Flags, body=schemas.AssignFlags, inside=True)
def assign_flags(unit: Unit, body: schemas.AssignFlags) -> schemas.Flags:
    """All of them, or none."""
    return schemas.Flags(flags=manage_flags.assign(unit, body.flags, body.person))


@api.add("GET", "/next", "What to do first", schemas.NextActions, query=schemas.NextQuery)
def get_next_actions(unit: Unit, query: schemas.NextQuery) -> schemas.NextActions:
    """The fewest actions that take away most of the risk that you answer for, with the flags that each would clear."""
    return choose.page(unit, query.limit, query.postponed)


@api.add("POST", "/next/postpone", "Put an action off", schemas.Done, body=schemas.PostponeAction)
def postpone_action(unit: Unit, body: schemas.PostponeAction) -> schemas.Done:
    """For yourself, until a day."""
    choose.postpone(unit, body.key, body.reason, body.until, body.last_day)
    return schemas.Done(done=True)


@api.add("GET", "/matters/<key>", "A matter", schemas.MatterPage)
def get_matter(unit: Unit, key: str) -> schemas.MatterPage:
    """The flags of a holder in an account, with what could be done about them and what was said."""
    return matters.page(unit, key)


@api.add(
    "POST", "/matters/<key>/comments", "Comment on a matter", schemas.CommentOf, body=schemas.AddComment, status=201
)
def add_comment(unit: Unit, key: str, body: schemas.AddComment) -> schemas.CommentOf:
    """Whoever is mentioned is told."""
    return matters.comment(unit, key, body.text, body.mentions)


def _settings(body: schemas.SetRules) -> rule_settings.Wish:
    weights = None
    if body.weights is not None:
        four = {name: tuple(getattr(body.weights, name)) for name in ("reach", "sensitivity")}
        weights = Weights(
            **four, outside=body.weights.outside, staleness=body.weights.staleness, doubt=body.weights.doubt
        )
    pairs = None if body.never_together is None else [(one, other) for one, other in body.never_together]
    return rule_settings.Wish(body.limits, weights, body.off, pairs, body.known_publishers)


@api.add("GET", "/rules", "Every rule, and how they are set", schemas.RulesPage)
def get_rules(unit: Unit) -> schemas.RulesPage:
    """For everybody who is signed in."""
    return rule_settings.page(unit)


@api.add(
    "POST", "/rules/preview", "What other settings would raise and clear", schemas.RuleEffects, body=schemas.SetRules
)
def preview_rules(unit: Unit, body: schemas.SetRules) -> schemas.RuleEffects:
    """Nothing changes yet."""
    return rule_settings.preview(unit, _settings(body))


@api.add("PUT", "/rules", "Set the rules", schemas.RulesPage, body=schemas.SetRules)
def set_rules(unit: Unit, body: schemas.SetRules) -> schemas.RulesPage:
    """Flags follow within moments."""
    return rule_settings.change(unit, _settings(body))


@api.add("POST", "/rules/own/check", "Check a file of own rules", schemas.OwnRulesChecked, body=schemas.RulesFile)
def check_rules(unit: Unit, body: schemas.RulesFile) -> schemas.OwnRulesChecked:
    """Its examples are tried, and what it would raise is counted; nothing goes live."""
    return rule_settings.check(unit, body.text)


@api.add("POST", "/rules/own", "Let a file of own rules go live", schemas.RulesPage, body=schemas.RulesFile)
def keep_rules(unit: Unit, body: schemas.RulesFile) -> schemas.RulesPage:
    """A rule with the key of an earlier one takes its place."""
    return rule_settings.keep(unit, body.text)


@api.add("GET", "/rules/own/<key>", "The file that an own rule came in", schemas.OwnRuleSource)
def get_own_rule(unit: Unit, key: str) -> schemas.OwnRuleSource:
    """As it was brought."""
    return rule_settings.source(unit, key)


@api.add("DELETE", "/rules/own/<key>", "Take an own rule out of use", schemas.RulesPage)
def drop_rule(unit: Unit, key: str) -> schemas.RulesPage:
    """Its flags clear."""
    return rule_settings.drop(unit, key)


@api.add("GET", "/facts", "What the rules are told of somebody", schemas.FactsAbout, query=schemas.FactsQuery)
def get_facts(unit: Unit, query: schemas.FactsQuery) -> schemas.FactsAbout:
    """Of yourself, or of somebody whom you may see: only what you may see of their access."""
    return schemas.FactsAbout(subjects=known_facts.about(unit, query.person))


@api.add("POST", "/me/digest", "Get the weekly letter about flags, or not", schemas.Done, body=schemas.WantDigest)
def want_digest(unit: Unit, body: schemas.WantDigest) -> schemas.Done:
    """It comes on Mondays, when something changed."""
    weekly_letter.set_wanted(unit, body.wants)
    return schemas.Done(done=True)
