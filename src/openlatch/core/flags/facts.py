"""The facts that rules know about each kind of subject. All of them come from the register.

A number that can be missing is then -1, and its sentence says so. Days are whole days that have passed. A fact is a
column that the store gathers (``store.flags.sources``), or an expression over such columns.
"""

from __future__ import annotations

from openlatch.core.addresses import FREE_MAIL
from openlatch.core.flags.expressions import (
    NOW,
    AtDomain,
    AtLeast,
    Between,
    First,
    If,
    InstantColumn,
    IsThere,
    Known,
    Later,
    Latest,
    Number,
    NumberColumn,
    Plain,
    TextColumn,
    TimeUnit,
    Truth,
    TruthColumn,
)
from openlatch.core.flags.rule import number, said, truth

LIVE = ("active", "suspended", "revoking")


def since(moment: InstantColumn, unit: TimeUnit = TimeUnit.DAYS) -> Number:
    """The days, or hours, since an instant; 0 when it lies ahead."""
    return AtLeast(Between(unit, moment, NOW), 0)


def since_perhaps(moment: InstantColumn) -> Number:
    """The days since an instant; -1 when it is missing."""
    return If(IsThere(moment), since(moment), Plain(-1))


def left(standing: TextColumn, leaves_at: InstantColumn) -> Truth:
    """Whether a person has left by now; not so for one who is not there."""
    gone = IsThere(leaves_at) & ~Later(leaves_at, NOW) | ~IsThere(leaves_at) & standing.among("left")
    return IsThere(standing) & ~standing.among("current") & gone


_STANDING, _LEAVES_AT = TextColumn("standing"), InstantColumn("leaves_at")
_GIVEN_AT, _ENDED_AT, _SEEN_AT, _READ_AT = (
    InstantColumn("given_at"),
    InstantColumn("ended_at"),
    InstantColumn("seen_at"),
    InstantColumn("read_at"),
)
_SINCE, _UNTIL = InstantColumn("since"), InstantColumn("until")
_PAID_UNTIL = InstantColumn("paid_until")


_REACH = "How far it goes: 1 observe, 2 operate, 3 spend, 4 steward."


class SubjectFacts:
    """Facts about every kind of subject."""

    reach = number(_REACH)
    sensitivity = number("How sensitive the account is, 1 low to 4 critical.")
    inside = truth("Whether the holder is inside the trust boundary.")
    holder = said("The holder's name.")
    account = said("The account's name.")


class GrantFacts(SubjectFacts):
    """One grant or link."""

    reach = number(_REACH, NumberColumn("highest_reach", 1))
    live = truth(
        "Whether it is active, suspended or being revoked, and somebody gave it.",
        TextColumn("state").among(*LIVE) & ~TruthColumn("by_system", missing=False),
    )
    is_link = truth("Whether an app holds it.", TextColumn("holder_kind").among("app"))
    by_person = truth("Whether a person holds it.", TextColumn("holder_kind").among("person"))
    given_days = number("Days since it was given.", since(_GIVEN_AT))
    idle_days = number(
        "Days since it was last used; -1 when it never was.", since_perhaps(InstantColumn("last_used_at"))
    )
    has_end = truth("Whether it ends by itself.", ~TruthColumn("open", missing=True))
    window_days = number(
        "Days from its start to its end; -1 without an end.",
        If(~TruthColumn("open", missing=True), Between(TimeUnit.DAYS, First(_SINCE, _GIVEN_AT), _UNTIL), Plain(-1)),
    )
    recorded = truth("Whether somebody recorded that it was given.")
    missing = truth("Whether the system has lost it.", IsThere(InstantColumn("missing_since")))
    differs = truth("Whether the system has something else than is recorded.")
    contradicted = truth(
        "Whether a read showed it after the system had said that it was gone.",
        IsThere(InstantColumn("contradicted_at")),
    )
    still_there = truth(
        "Whether it has ended here and the system shows it all the same.",
        TextColumn("state").among("ended")
        & Later(_SEEN_AT, _ENDED_AT)
        & IsThere(_READ_AT)
        & ~Later(_READ_AT, _SEEN_AT),
    )
    emergency = truth("Whether it was opened in an emergency.")
    emergency_hours = number("Hours since it was given.", since(_GIVEN_AT, TimeUnit.HOURS))
    undecided_days = number(
        "Days since a review left it undecided; -1 when none did.", since_perhaps(InstantColumn("left_undecided_at"))
    )
    kept_unused = number("How many reviews kept it since it was last used.", NumberColumn("kept", 0))
    holder_left = truth("Whether the holder has left.", left(_STANDING, _LEAVES_AT))
    leaves_in_days = number(
        "Days until the holder leaves; -1 when they have no such day before them.",
        If(_STANDING.among("leaving") & Later(_LEAVES_AT, NOW), Between(TimeUnit.DAYS, NOW, _LEAVES_AT), Plain(-1)),
    )
    outlives_holder = truth(
        "Whether it continues after the holder has left.",
        TruthColumn("open", missing=False) | Later(_UNTIL, _LEAVES_AT),
    )
    is_reported = truth("Whether another service reported the holder.", IsThere(InstantColumn("reported_at")))
    giver_left = truth(
        "Whether whoever gave it has left.", left(TextColumn("giver_standing"), InstantColumn("giver_left_at"))
    )
    given_to_self = truth("Whether the holder gave it to themselves.")
    private_address = truth(
        "Whether the holder's address is at a mail service for everybody.",
        AtDomain(TextColumn("address"), FREE_MAIL),
    )
    rights_held = number(
        "How many permissions it gives.",
        If(NumberColumn("terms", 0) > 1, NumberColumn("rights_of_all", 0), NumberColumn("rights_of_one", 0)),
    )
    rights_used = number("How many of them were used while watched lately.", NumberColumn("used", 0))
    watched_days = number(
        "Days since use of it has been watched by permission; -1 when it is not.", NumberColumn("watched", -1)
    )
    dormant_days = number(
        "Days of pause before it came into use again in the last 30 days; -1 without.", NumberColumn("dormant", -1)
    )
    pause_days = number(
        "The longest pause after which it came into use again, in days; 0 without one.",
        NumberColumn("longest_pause", 0),
    )
    other_pause_days = number("The longest but one of such pauses.", NumberColumn("other_pause", 0))
    chain = number(
        "Over how many steps the farthest person comes in by it; 1 for a person or an app.", NumberColumn("steps", 1)
    )
    publisher_known = truth("Whether the app's publisher is known.", Known(TextColumn("publisher")))
    grown = truth(
        "Whether the level was given more permissions after the app was linked.",
        Later(InstantColumn("grown_at"), Latest(_GIVEN_AT, InstantColumn("kept_at"))),
    )
    credential_days = number(
        "Age of the app's token in days; -1 when it is not known.", since_perhaps(InstantColumn("credential_since"))
    )
    level = said("What it gives.")
    system = said("The system where the account lives.")
    given_at = said("When it was given.")
    given_by = said("Who gave it.")
    last_used_at = said("When it was last used.")
    until = said("When it ends.")
    leaves_at = said("When the holder leaves, or left.")
    reported_at = said("When another service reported the holder.")
    reported = said("What it reported.")
    giver_left_at = said("When the giver left.")
    left_undecided_at = said("When a review left it undecided.")
    seen_at = said("When the system last showed it.")
    missing_since = said("Since when the system has not shown it.")
    shown_level = said("What the system gives instead.")
    contradicted_at = said("When a read showed it after the system had said that it was gone.")
    address = said("The holder's address.")
    publisher = said("The app's publisher.")
    grown_at = said("When the level was given more permissions.")
    credential_since = said("Since when the app has had its token.")
    used_before = said("The last day of use before the pause.")
    used_again = said("The first day of use after the pause.")


class SessionFacts(SubjectFacts):
    """One session."""

    going_on = truth("Whether it has not ended.", ~IsThere(_ENDED_AT))
    age_days = number("Days since it began.", since(InstantColumn("started_at")))
    idle_days = number("Days since it was last seen.", since(InstantColumn("last_seen_at")))
    holder_left = truth("Whether the holder has left.", left(_STANDING, _LEAVES_AT))
    apart_km = number(
        "Kilometres to the farthest other session of the same sign-in at the same time; -1 without one.",
        NumberColumn("apart", -1),
    )
    travel_km = number("Kilometres from the session before; -1 when a place is not known.", NumberColumn("travel", -1))
    travel_kmh = number("Kilometres an hour that this took; -1 when a place is not known.", NumberColumn("speed", -1))
    new_country = truth("Whether the holder was never seen in this country before, and was elsewhere.")
    new_device = truth("Whether the holder never used this device before, and used another.")
    by_person = truth("Whether a person is signed in.", TextColumn("holder_kind").among("person"))
    contradicted = truth(
        "Whether a read shows it although it was said to have ended.", TextColumn("proof").among("contradicted")
    )
    proved_at = said("When a read last showed it although it was said to have ended.")
    device = said("The device.")
    place = said("Where it is.")
    country = said("The country.")
    started_at = said("When it began.")
    last_seen_at = said("When it was last seen.")
    leaves_at = said("When the holder left.")
    other_place = said("Where the other session is.")
    before_place = said("Where the session before was.")


class AccountFacts(SubjectFacts):
    """One account."""

    reach = number(_REACH, NumberColumn("breach_reach", 4))
    has_owner = truth("Whether it has an owner who is there.", IsThere(_STANDING) & ~left(_STANDING, _LEAVES_AT))
    owner_left = truth("Whether its owner has left.", left(_STANDING, _LEAVES_AT))
    stewards = number(
        "How many people besides the owner decide who else gets in, by whichever paths.", NumberColumn("others", 0)
    )
    broken = number("How many facts break latches of it that are on.", NumberColumn("breaches", 0))
    breach_weight = number(
        "How much that weighs, in percent: 80 when one of those latches is on hold, else 20.",
        If(TruthColumn("firm", missing=False), Plain(80), Plain(20)),
    )
    shared = truth("Whether anybody holds access to it besides its owner.")
    partial = truth("Whether a reading could not understand all of it.", IsThere(InstantColumn("partial_since")))
    unknown = said("What the last reading could not look at.")
    partial_since = said("Since when readings could not understand all of it.")
    reopened = number("How many parts were said to be closed and are open.", NumberColumn("reopened_parts", 0))
    exposed_new = number("How many exposures nobody has judged or expects.", NumberColumn("exposed_new_count", 0))
    exposed_grown = number("How many of those reach farther than they did.", NumberColumn("exposed_grown_count", 0))
    open_changes = number(
        "By how many exposures that nobody intended anyone can change something.",
        NumberColumn("open_changes_count", 0),
    )
    open_to_anyone = number(
        "How many exposures that nobody called intended let anyone in.", NumberColumn("open_to_anyone_count", 0)
    )
    intended_unused = number(
        "How many intended exposures are not known to be used for 90 days.",
        NumberColumn("intended_unused_count", 0),
    )
    intended_over = number(
        "How many exposures were intended until a day that is over.", NumberColumn("intended_over_count", 0)
    )
    exposed_unclear = number(
        "How many exposures have conditions that are not understood.", NumberColumn("exposed_unclear_count", 0)
    )
    forbidden = number("How many exposures are against a guard.", NumberColumn("forbidden_count", 0))
    guards_off = number("How many guards were switched off in its system.", NumberColumn("guards_off_count", 0))
    payer_left = truth(
        "Whether the person who pays for it has left.",
        left(TextColumn("payer_standing"), InstantColumn("payer_leaves_at")),
    )
    paid_days = number(
        "In how many days what is paid for it ends; 0 when it has ended, -1 when no end is known.",
        If(IsThere(_PAID_UNTIL), AtLeast(Between(TimeUnit.DAYS, NOW, _PAID_UNTIL), 0), Plain(-1)),
    )
    payer = said("Who pays for it.")
    payer_leaves_at = said("When that person left.")
    paid_until = said("Until when it is paid for.")
    owner = said("The owner's name.")
    leaves_at = said("When the owner left.")
    breach = said("What breaks a latch first, in words.")


class PersonFacts(SubjectFacts):
    """One person, with all that they reach: by grants of their own, in teams, as owners, and through accounts."""

    reach = number(_REACH, NumberColumn("far_reach", 1))
    sensitivity = number(
        "How sensitive the most sensitive account is on which they can spend or steward; 1 without one.",
        NumberColumn("far_sensitivity", 1),
    )
    gone = truth("Whether they have left.", left(_STANDING, _LEAVES_AT))
    second_factor = truth("Whether they have a second factor.")
    accounts = number("How many accounts they reach, for somebody outside; 0 for others.", NumberColumn("held", 0))
    far_accounts = number(
        "On how many accounts of high or critical sensitivity they can spend or steward.", NumberColumn("far", 0)
    )
    together = truth(
        "Whether they hold two permissions that must never be in one hand.", TruthColumn("both_held", missing=False)
    )
    pair = said("Those two permissions.")


class OfferFacts(SubjectFacts):
    """One offer of access."""

    reach = number(_REACH, NumberColumn("highest_reach", 4))
    waiting = truth("Whether it has not been answered, and its grant waits.")
    waiting_days = number("Days since it was first sent.", since(InstantColumn("sent_at")))
    times_sent = number("How often it was sent.")
    sender = said("Who sent it.")
    sent_at = said("When it was first sent.")
