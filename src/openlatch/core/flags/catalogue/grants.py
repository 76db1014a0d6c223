"""The rules on grants. Links, which are grants that apps hold, have more of their own in ``links``."""

from __future__ import annotations

from openlatch.core.flags.expressions import Number, Truth
from openlatch.core.flags.facts import GrantFacts
from openlatch.core.flags.rule import Book, Limits, Remedy, When, past
from openlatch.core.flags.score import CRITICAL_FROM
from openlatch.core.vocabulary import Reach

GRANTS = Book("grant", GrantFacts)
Grant = type[GrantFacts]
# By so many days a pause may be longer than the one before and still be the same season's.
SEASONS_DIFFER = 30


def seasonal(pause: Number, before: Number, limit: Number) -> Truth:
    """Whether a pause is one that was made before and came to an end by itself, past the limit as it was."""
    return (before > limit) & (before >= pause - SEASONS_DIFFER)


@GRANTS.rule(
    1,
    "Unused for too long",
    Remedy("Revoke it, or ask the holder whether it is still needed.", "revoke"),
    "{holder} has not used “{level}” on {account} since {last_used_at:day}; the limit here is {limit:#day}.",
)
def unused(grant: Grant, limit: Limits) -> When:
    """It was used, but not for longer than this. Access that paused for as long before and came into use again is
    seasonal, and left alone.
    """
    idle = (grant.idle_days > limit.unused) & ~seasonal(grant.idle_days, grant.pause_days, limit.unused)
    return When(grant.live & ~grant.is_link & idle, past(grant.idle_days, limit.unused), limit=limit.unused)


@GRANTS.rule(
    2,
    "Never used since given",
    Remedy("Revoke it; it can be offered again when needed.", "revoke"),
    "{holder} was given “{level}” on {account} on {given_at:day}, and has never used it.",
)
def never_used(grant: Grant, limit: Limits) -> When:
    """It was given longer ago than this and never used. What nobody recorded was given at an unknown time, and is left
    alone. Not every system tells when something is used, so it is less certain.
    """
    waits = ~(grant.idle_days >= 0) & (grant.given_days > limit.never_used)
    return When(grant.live & grant.recorded & waits, past(grant.given_days, limit.never_used), 75)


@GRANTS.rule(
    3,
    "In use again after a long pause",
    Remedy("Ask the holder whether it was them.", ""),
    "{holder} used “{level}” on {account} on {used_again:day}, for the first time since {used_before:day}.",
)
def used_again(grant: Grant, limit: Limits) -> When:
    """It was used in the last 30 days, and before that not for longer than this, and this is not seasonal."""
    season = seasonal(grant.dormant_days, grant.other_pause_days, limit.dormant)
    return When(
        grant.live & (grant.dormant_days > limit.dormant) & ~season, past(grant.dormant_days, limit.dormant), 70
    )


@GRANTS.rule(
    4,
    "More rights than are used",
    Remedy("Trim it to the smallest level that covers what is used.", "trim"),
    "{holder} used {rights_used} of the {rights_held} rights that “{level}” on {account} gives.",
)
def excess_rights(grant: Grant, limit: Limits) -> When:
    """Of its rights more than this number went unused, though use of it has been watched by permission for long
    enough.
    """
    spare = grant.rights_held - grant.rights_used > limit.excess
    known = (grant.watched_days >= limit.watched) & (grant.rights_used > 0)
    return When(grant.live & ~grant.is_link & known & spare, 0, 60)


@GRANTS.rule(
    5,
    "No end date on a sensitive account",
    Remedy("Trim it to an end date.", "trim"),
    "{holder} holds “{level}” on {account} without an end date; its sensitivity is {sensitivity:sensitivity}.",
)
def no_end_date(grant: Grant, limit: Limits) -> When:
    """It has no end, on an account of high or critical sensitivity."""
    return When(grant.live & ~grant.has_end & (grant.given_days >= limit.open_end))


@GRANTS.rule(
    6,
    "Given for far too long",
    Remedy("Trim it to an earlier end.", "trim"),
    "{holder} holds “{level}” on {account} until {until:day}: {window_days} days, where {limit} are the most.",
)
def long_window(grant: Grant, limit: Limits) -> When:
    """From its start to its end are more days than access may be given for at once."""
    return When(
        grant.live & (grant.window_days > limit.window), past(grant.window_days, limit.window), limit=limit.window
    )


@GRANTS.rule(
    7,
    "Said to be gone, and there after all",
    Remedy("Revoke it again, and look why the system kept it.", ""),
    "“{level}” of {holder} on {account} has ended here, and {system} showed it on {seen_at:day} all the same.",
)
def still_there(grant: Grant, limit: Limits) -> When:
    """It has ended in the register, and a later read of the system shows it: its end is contradicted."""
    return When(grant.still_there, 100, least=CRITICAL_FROM)


@GRANTS.rule(
    8,
    "An outsider who can spend or steward",
    Remedy("Trim it to a lower level, or replace the holder by somebody inside.", "trim"),
    "{holder} is outside the organisation; on {account} they {reach:reach} (“{level}”).",
)
def outsider_far_reach(grant: Grant, limit: Limits) -> When:
    """The holder is outside, and can spend or steward."""
    return When(grant.live & ~grant.inside & (grant.reach >= Reach.SPEND), 40)


@GRANTS.rule(
    9,
    "A private address",
    Remedy("Have them come in by an address of the organisation they work for.", ""),
    "{holder} holds “{level}” on {account} by {address}, an address at a mail service for everybody.",
)
def private_address(grant: Grant, limit: Limits) -> When:
    """The holder can change something, and their address is at a mail service where anyone gets one."""
    return When(grant.live & grant.private_address & (grant.reach >= Reach.OPERATE), 0, 80)


@GRANTS.rule(
    10,
    "The holder has left",
    Remedy("Revoke it.", "revoke"),
    "{holder} left on {leaves_at:day} and still holds “{level}” on {account}.",
)
def holder_left(grant: Grant, limit: Limits) -> When:
    """The holder has left, or the day on which they leave has come."""
    return When(grant.live & grant.holder_left, 100)


@GRANTS.rule(
    11,
    "The holder is leaving",
    Remedy("Trim it to their last day, and find out who takes over.", "trim"),
    "{holder} leaves on {leaves_at:day}; “{level}” on {account} goes on after that.",
)
def holder_leaving(grant: Grant, limit: Limits) -> When:
    """The holder leaves within this many days, and the access continues after that."""
    soon = (grant.leaves_in_days >= 0) & (grant.leaves_in_days <= limit.leaving)
    return When(grant.live & soon & grant.outlives_holder)


@GRANTS.rule(
    12,
    "The giver has left",
    Remedy("Have the owner confirm it in a review, or revoke it.", "revoke"),
    "{given_by} gave {holder} “{level}” on {account} and left on {giver_left_at:day}; nobody answers for it now.",
)
def giver_left(grant: Grant, limit: Limits) -> When:
    """Whoever gave it has left."""
    return When(grant.live & ~grant.is_link & grant.giver_left, 20)


@GRANTS.rule(
    13,
    "Given to oneself",
    Remedy("Have somebody else who answers for the account confirm it, or revoke it.", "revoke"),
    "{holder} gave themselves “{level}” on {account} on {given_at:day}.",
)
def given_to_self(grant: Grant, limit: Limits) -> When:
    """The holder gave it to themselves, and it can change something. Emergency access has a rule of its own."""
    return When(grant.live & grant.given_to_self & ~grant.emergency & (grant.reach >= Reach.OPERATE), 40)


@GRANTS.rule(
    14,
    "Unrecorded access",
    Remedy("Find out who gave it; revoke it if nobody did.", "revoke"),
    "{holder} can reach {account} in {system} (“{level}”), and nobody recorded that it was given.",
)
def unrecorded(grant: Grant, limit: Limits) -> When:
    """A system has it, and nobody recorded that it was given."""
    return When(grant.live & ~grant.recorded, 80)


@GRANTS.rule(
    15,
    "Left undecided in a review",
    Remedy("Decide on it: open a round, or revoke it.", "revoke"),
    "Nobody decided on “{level}” of {holder} on {account} in the review that closed on {left_undecided_at:day}.",
)
def review_overdue(grant: Grant, limit: Limits) -> When:
    """Nobody decided on it in the last review that it was in, so that it was kept without anyone's judgement."""
    return When(grant.live & (grant.undecided_days >= 0) & (grant.undecided_days >= limit.undecided), 20)


@GRANTS.rule(
    16,
    "Kept in reviews without being used",
    Remedy("Revoke it; it can be offered again when needed.", "revoke"),
    "“{level}” of {holder} on {account} was kept in {kept_unused:#review} since it was last used.",
)
def kept_unused(grant: Grant, limit: Limits) -> When:
    """More reviews than this kept it since it was last used."""
    return When(grant.live & (grant.kept_unused > limit.kept), past(grant.kept_unused, limit.kept))


@GRANTS.rule(
    17,
    "Emergency access left open",
    Remedy("End it; the emergency is over or needs access given in the open.", "revoke"),
    "{holder} opened “{level}” on {account} in an emergency on {given_at:day}, and it is open still.",
)
def emergency_left_open(grant: Grant, limit: Limits) -> When:
    """Access opened in an emergency has stayed for longer than this."""
    return When(
        grant.live & grant.emergency & (grant.emergency_hours > limit.emergency),
        past(grant.emergency_hours, limit.emergency),
    )


@GRANTS.rule(
    18,
    "Reached only through a long chain",
    Remedy("Give those who need it access of their own, and take the chain away.", ""),
    "Through {holder} people come into {account} over {chain} steps; hardly anyone can see that they do.",
)
def long_chain(grant: Grant, limit: Limits) -> When:
    """People come in by it over more steps than this, and over no fewer: by teams in teams, or through accounts."""
    return When(grant.live & (grant.chain > limit.chain), past(grant.chain, limit.chain))


@GRANTS.rule(
    19,
    "Recorded, and missing in the system",
    Remedy("Give it in the system again, or end it here.", ""),
    "{system} has not shown “{level}” of {holder} on {account} since {missing_since:day}.",
)
def missing(grant: Grant, limit: Limits) -> When:
    """It was recorded, and the system does not show it any more."""
    return When(grant.live & grant.missing, 0, 60)


@GRANTS.rule(
    27,
    "Otherwise in the system than recorded",
    Remedy("Record what the system has, or have it brought to what is recorded.", ""),
    "{system} gives {holder} “{shown_level}” on {account}, where “{level}” is recorded.",
)
def changed(grant: Grant, limit: Limits) -> When:
    """The system gives more, less or something else than is recorded."""
    return When(grant.live & grant.differs, 60)


@GRANTS.rule(
    28,
    "Said to be gone, and there",
    Remedy("Look why the system keeps it; the step is tried again meanwhile.", ""),
    "{system} said that “{level}” of {holder} on {account} was taken away, and a read on {contradicted_at:day} "
    "showed it.",
)
def contradicted(grant: Grant, limit: Limits) -> When:
    """It is being revoked, the system said that it was gone, and a read showed that it is not."""
    return When(grant.live & grant.contradicted, 80, least=CRITICAL_FROM)


@GRANTS.rule(
    29,
    "Reported by another service",
    Remedy("Find out what happened there; end the access, or say that it is dealt with.", "revoke"),
    "{holder}, who holds “{level}” on {account}, was reported on {reported_at:day}. {reported}.",
)
def reported(grant: Grant, limit: Limits) -> When:
    """Another service told that the holder's sign-in there was disabled or deleted, or that others know a credential of
    theirs, and nobody has said that it is dealt with.
    """
    return When(grant.live & grant.is_reported, 90)
