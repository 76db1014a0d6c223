"""The rules on accounts, on people, and on offers."""

from __future__ import annotations

from openlatch.core.flags.facts import AccountFacts, OfferFacts, PersonFacts
from openlatch.core.flags.rule import Book, Limits, Remedy, When, past
from openlatch.core.flags.score import CRITICAL_FROM

ACCOUNTS = Book("account", AccountFacts)
PEOPLE = Book("person", PersonFacts)
OFFERS = Book("offer", OfferFacts)
Account = type[AccountFacts]
Person = type[PersonFacts]
Offer = type[OfferFacts]


@ACCOUNTS.rule(
    50,
    "Open, and not judged",
    Remedy("Look whether it is meant to be open: call it intended, or close it.", ""),
    "{account} has {exposed_new:#exposure} that nobody has judged.",
)
def exposure_new(account: Account, limit: Limits) -> When:
    """Access rules let outsiders in, which nobody has judged and no rule expects."""
    return When(account.exposed_new > 0, 20)


@ACCOUNTS.rule(
    51,
    "Open to more people than before",
    Remedy("Look who gets in by now, and judge it again.", ""),
    "{account} has {exposed_grown:#exposure} by which more people get in than before.",
)
def exposure_grown(account: Account, limit: Limits) -> When:
    """Access rules now let in more outsiders, and nobody has judged that."""
    return When(account.exposed_grown > 0, 50)


@ACCOUNTS.rule(
    52,
    "Anyone can change it",
    Remedy("Close it, or say why it is intended.", ""),
    "By {open_changes:#exposure} anyone can change what is in {account}.",
)
def anyone_changes(account: Account, limit: Limits) -> When:
    """Access rules let anyone change something, perhaps after signing in, and nobody called it intended."""
    return When(account.open_changes > 0, 100)


@ACCOUNTS.rule(
    53,
    "Sensitive and open",
    Remedy("Close it, or say why it is intended.", ""),
    "{account} is sensitive, and anyone gets in by {open_to_anyone:#exposure}.",
)
def sensitive_open(account: Account, limit: Limits) -> When:
    """Access rules of an account of high or critical sensitivity let anyone in, and nobody called it intended."""
    return When((account.open_to_anyone > 0) & (account.sensitivity >= 3), 60)


@ACCOUNTS.rule(
    54,
    "Intended, and not used",
    Remedy("Ask whether it is still needed, and close it if not.", ""),
    "{account} has {intended_unused:#exposure} intended for more than 90 days, without a use that is known.",
)
def intended_unused(account: Account, limit: Limits) -> When:
    """Something is open because it is intended, and no use by an outsider is known for 90 days."""
    return When(account.intended_unused > 0, 40)


@ACCOUNTS.rule(
    55,
    "Intended for a time that is over",
    Remedy("Close it, or say until when it is intended now.", ""),
    "The day is over until which {intended_over:#exposure} of {account} had been called intended.",
)
def intended_over(account: Account, limit: Limits) -> When:
    """Something is open after the last day for which it was called intended."""
    return When(account.intended_over > 0, 60)


@ACCOUNTS.rule(
    56,
    "Open under conditions not understood",
    Remedy("Look at the rules in the system; until then it counts as open.", ""),
    "{account} has {exposed_unclear:#exposure} under conditions that are not understood; they count as open.",
)
def exposure_unclear(account: Account, limit: Limits) -> When:
    """Access rules have conditions that Open Latch does not understand, and that therefore count as open."""
    return When(account.exposed_unclear > 0, 50)


@ACCOUNTS.rule(
    57,
    "Open against a guard",
    Remedy("Close it in the system, or lift the guard.", ""),
    "{account} has {forbidden:#exposure} against a guard of the organisation.",
)
def guard_broken(account: Account, limit: Limits) -> When:
    """Access rules let outsiders in although a guard of the organisation forbids it."""
    return When(account.forbidden > 0, 80)


@ACCOUNTS.rule(
    58,
    "A guard was switched off",
    Remedy("Find out who switched it off, and set it again.", ""),
    "The system of {account} no longer has {guards_off:#guard} of the organisation.",
)
def guard_off(account: Account, limit: Limits) -> When:
    """A guard that the account's system had been told of is not shown by it any more."""
    return When(account.guards_off > 0, 80)


@ACCOUNTS.rule(
    60,
    "Latch broken",
    Remedy("End or trim what breaks it, or change the latch.", ""),
    "{account} breaks the latch {breach}",
)
def latch_broken(account: Account, limit: Limits) -> When:
    """Something in an account breaks a latch of it that is on ([latches](latches.md)). A latch on warn weighs less."""
    return When(account.broken > 0, account.breach_weight)


@ACCOUNTS.rule(
    62,
    "The owner has left",
    Remedy("Hand the account over.", ""),
    "{owner}, who owns {account}, left on {leaves_at:day}.",
)
def owner_left(account: Account, limit: Limits) -> When:
    """The account's owner has left."""
    return When(account.owner_left, 100)


@ACCOUNTS.rule(
    63,
    "The owner is alone",
    Remedy("Give one more person the right to decide who gets in.", ""),
    "Only {owner} decides who gets into {account}; when they are away, nobody does.",
)
def owner_alone(account: Account, limit: Limits) -> When:
    """Nobody besides the owner of an account of high or critical sensitivity that is shared can decide who gets in."""
    alone = account.has_owner & ~(account.stewards > 0)
    return When(alone & (account.sensitivity >= 3) & account.shared, 0, 50)


@ACCOUNTS.rule(
    64,
    "Nobody decides who gets in",
    Remedy("Name an owner.", ""),
    "Nobody answers for {account}: it has no owner who is there, and nobody decides who else gets in.",
)
def no_steward(account: Account, limit: Limits) -> When:
    """The account has no owner who is there, and no steward."""
    return When(~account.has_owner & ~(account.stewards > 0), 60)


@ACCOUNTS.rule(
    65,
    "Too many decide who gets in",
    Remedy("Trim those to a lower level who do not need it.", ""),
    "{stewards} people besides the owner decide who gets into {account}; the limit here is {limit}.",
)
def many_stewards(account: Account, limit: Limits) -> When:
    """More people than this, besides the owner, decide who else gets in, by whichever paths."""
    return When(account.stewards > limit.stewards, past(account.stewards, limit.stewards), limit=limit.stewards)


@ACCOUNTS.rule(
    66,
    "Said to be closed, and open after all",
    Remedy("Close it again, and look who opened it.", ""),
    "{reopened:#part} of {account} had been closed to everyone outside, and a read shows it open again.",
)
def part_still_open(account: Account, limit: Limits) -> When:
    """Something was closed to everyone outside, and a later read of the system shows it open."""
    return When(account.reopened > 0, 100, least=CRITICAL_FROM)


@ACCOUNTS.rule(
    67,
    "Read only in part",
    Remedy("Look at the place named, fix it there or grant the right to read it, and read the system again.", ""),
    "Since {partial_since:day} not all of {account} can be read ({unknown}): what is not shown may be there.",
)
def read_in_part(account: Account, limit: Limits) -> When:
    """A reading met something that it could not understand, or may not see. What was known stays, and nothing there is
    confirmed gone.
    """
    return When(account.partial, 60, 90)


@ACCOUNTS.rule(
    68,
    "Its payer has left",
    Remedy("Name another payer, and see what was paid for it.", ""),
    "{payer}, who pays for {account}, left on {payer_leaves_at:day}.",
)
def payer_left(account: Account, limit: Limits) -> When:
    """The person who pays for the account has left. Nobody knows whether it will still be paid."""
    return When(account.payer_left, 60)


@ACCOUNTS.rule(
    69,
    "What is paid ends",
    Remedy("See to it that it is paid for longer, and write down until when.", ""),
    "{account} is paid for until {paid_until:day}; who pays after that is not known.",
)
def payment_ends(account: Account, limit: Limits) -> When:
    """What is paid for the account ends within so many days, or has ended."""
    return When((account.paid_days >= 0) & (account.paid_days <= limit.payment), limit=limit.payment)


@PEOPLE.rule(
    70,
    "No second factor, far reach",
    Remedy("Have them set a second factor up.", ""),
    "{holder} has no second factor, and {reach:reach} on {far_accounts:#account} of high or critical sensitivity.",
)
def no_second_factor(person: Person, limit: Limits) -> When:
    """Somebody has no second factor, and can spend or steward on an account of high or critical sensitivity."""
    return When(~person.gone & ~person.second_factor & (person.far_accounts > 0), 40)


@PEOPLE.rule(
    71,
    "An outsider in many accounts",
    Remedy("Look through what they hold, and end what is not needed.", ""),
    "{holder} is outside the organisation and reaches {accounts:#account}; the limit is {limit}.",
)
def outsider_wide(person: Person, limit: Limits) -> When:
    """Somebody outside reaches more accounts than this, by whichever paths."""
    return When(
        ~person.gone & ~person.inside & (person.accounts > limit.wide),
        past(person.accounts, limit.wide),
        limit=limit.wide,
    )


@PEOPLE.rule(
    72,
    "Two permissions in one hand",
    Remedy("End one of the two.", ""),
    "{holder} holds {pair}, which must never be in one hand.",
)
def never_together(person: Person, limit: Limits) -> When:
    """Somebody holds two permissions that the organisation has said must never be in one hand, be it in different
    accounts, and by whichever paths.
    """
    return When(~person.gone & person.together, 60)


@OFFERS.rule(
    80,
    "An offer that nobody answers",
    Remedy("Ask the person whom it is for, or withdraw it.", ""),
    "The offer of {account} to {holder}, first sent on {sent_at:day}, is not answered; the limit is {limit:#day}.",
)
def offer_waiting(offer: Offer, limit: Limits) -> When:
    """An offer has waited for its answer for longer than this, or ran out and was not sent again."""
    return When(
        offer.waiting & (offer.waiting_days > limit.offer), past(offer.waiting_days, limit.offer), limit=limit.offer
    )
