"""What rules are told of each kind of subject. Everything comes from the register; nothing is asked for on the side.

A number that can be missing is -1 then, and its sentence says so. Days are whole ones that have passed.
"""

from __future__ import annotations

from openlatch.core.rules.rule import number, said, truth


class SubjectFacts:
    """What is told of every subject."""

    reach = number("How far it goes: 1 observe, 2 operate, 3 spend, 4 steward.")
    sensitivity = number("How sensitive the account is, 1 low to 4 critical.")
    inside = truth("Whether the holder is inside the trust boundary.")
    holder = said("The holder's name.")
    account = said("The account's name.")


class GrantFacts(SubjectFacts):
    """One grant or link."""

    live = truth("Whether it is active, suspended or being revoked.")
    is_link = truth("Whether an app holds it.")
    by_person = truth("Whether a person holds it.")
    given_days = number("Days since it was given.")
    idle_days = number("Days since it was last used; -1 when it never was.")
    has_end = truth("Whether it ends by itself.")
    window_days = number("Days from its start to its end; -1 without an end.")
    recorded = truth("Whether somebody recorded that it was given.")
    missing = truth("Whether the system has lost it.")
    differs = truth("Whether the system has something else than is recorded.")
    contradicted = truth("Whether a read showed it after the system had said that it was gone.")
    still_there = truth("Whether it has ended here and the system shows it all the same.")
    emergency = truth("Whether it was opened in an emergency.")
    emergency_hours = number("Hours since it was given.")
    undecided_days = number("Days since a review left it undecided; -1 when none did.")
    kept_unused = number("How many reviews kept it since it was last used.")
    holder_left = truth("Whether the holder has left.")
    leaves_in_days = number("Days until the holder leaves; -1 when they have no such day before them.")
    outlives_holder = truth("Whether it goes on after the holder has left.")
    giver_left = truth("Whether whoever gave it has left.")
    given_to_self = truth("Whether the holder gave it to themselves.")
    private_address = truth("Whether the holder's address is at a mail service for everybody.")
    rights_held = number("How many permissions it gives.")
    rights_used = number("How many of them were used while watched lately.")
    watched_days = number("Days since use of it has been watched by permission; -1 when it is not.")
    dormant_days = number("Days of pause before it came into use again in the last 30 days; -1 without.")
    pause_days = number("The longest pause after which it came into use again, in days; 0 without one.")
    other_pause_days = number("The longest but one of such pauses.")
    chain = number("Over how many steps the farthest person comes in by it; 1 for a person or an app.")
    publisher_known = truth("Whether the app's publisher is known.")
    grown = truth("Whether the level was given more permissions after the app was linked.")
    credential_days = number("Age of the app's token in days; -1 when it is not known.")
    level = said("What it gives.")
    system = said("The system where the account lives.")
    given_at = said("When it was given.")
    given_by = said("Who gave it.")
    last_used_at = said("When it was last used.")
    until = said("When it ends.")
    leaves_at = said("When the holder leaves, or left.")
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

    going_on = truth("Whether it has not ended.")
    age_days = number("Days since it began.")
    idle_days = number("Days since it was last seen.")
    holder_left = truth("Whether the holder has left.")
    apart_km = number("Kilometres to the farthest other session of the same sign-in at the same time; -1 without one.")
    travel_km = number("Kilometres from the session before; -1 when a place is not known.")
    travel_kmh = number("Kilometres an hour that this took; -1 when a place is not known.")
    new_country = truth("Whether the holder was never seen in this country before, and was elsewhere.")
    new_device = truth("Whether the holder never used this device before, and used another.")
    by_person = truth("Whether a person is signed in.")
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

    has_owner = truth("Whether it has an owner who is there.")
    owner_left = truth("Whether its owner has left.")
    stewards = number("How many people and teams besides the owner decide who else gets in.")
    broken = number("How many facts break latches of it that are on.")
    breach_weight = number("How much that weighs, in percent: 80 when one of those latches is on hold, else 20.")
    shared = truth("Whether anybody holds access to it besides its owner.")
    owner = said("The owner's name.")
    leaves_at = said("When the owner left.")
    breach = said("What breaks a latch first, in words.")


class PersonFacts(SubjectFacts):
    """One person, with all that they hold, themselves or in teams."""

    gone = truth("Whether they have left.")
    second_factor = truth("Whether they have a second factor.")
    accounts = number("How many accounts they hold access to, for somebody outside; 0 for others.")
    far_accounts = number("On how many accounts of high or critical sensitivity they can spend or steward.")
    together = truth("Whether they hold two permissions that must never be in one hand.")
    pair = said("Those two permissions.")


class OfferFacts(SubjectFacts):
    """One offer of access."""

    waiting = truth("Whether it has not been answered, and its grant waits.")
    waiting_days = number("Days since it was first sent.")
    times_sent = number("How often it was sent.")
    sender = said("Who sent it.")
    sent_at = said("When it was first sent.")
