"""The rules on sessions. What a session reaches is up to its holder's grants, so it counts as being able to see."""

from __future__ import annotations

from openlatch.core.flags.facts import SessionFacts
from openlatch.core.flags.rule import Book, Limits, Remedy, When, past
from openlatch.core.flags.score import CRITICAL_FROM

SESSIONS = Book("session", SessionFacts)
Session = type[SessionFacts]
END = "end_session"
# Nearer than this, one place says little: addresses are not known that finely.
NEAR_KM = 200


@SESSIONS.rule(
    40,
    "A session open for too long",
    Remedy("End the session.", END),
    "{holder} has been signed in to {account} on {device} since {started_at:day}; the limit here is {limit:#day}.",
)
def session_too_old(session: Session, limit: Limits) -> When:
    """A session has been open for longer than this."""
    return When(
        session.going_on & (session.age_days > limit.session_age),
        past(session.age_days, limit.session_age),
        limit=limit.session_age,
    )


@SESSIONS.rule(
    41,
    "A session that has gone silent",
    Remedy("End the session.", END),
    "The session of {holder} in {account} on {device} was last seen on {last_seen_at:day}, and has not ended.",
)
def session_idle(session: Session, limit: Limits) -> When:
    """A session that has not ended was not seen for longer than this."""
    return When(
        session.going_on & (session.idle_days > limit.session_idle), past(session.idle_days, limit.session_idle)
    )


@SESSIONS.rule(
    42,
    "One sign-in in two places at once",
    Remedy("Ask the holder; end the sessions if one is not theirs, and give each person a sign-in of their own.", END),
    "{holder} is signed in to {account} from {place} and at once from {other_place}, {apart_km} kilometres off.",
)
def shared_credential(session: Session, limit: Limits) -> When:
    """Two sessions of one person overlap, farther apart than this: several people may use one credential."""
    return When(session.going_on & session.by_person & (session.apart_km > limit.apart), 60, 70)


@SESSIONS.rule(
    43,
    "Impossible travel",
    Remedy("Ask the holder; end the session if it is not theirs.", END),
    "{holder} came to {account} from {place}, {travel_km} kilometres from {before_place}, at {travel_kmh} km/h.",
)
def impossible_travel(session: Session, limit: Limits) -> When:
    """Between the session before and this one the holder would have gone faster than this."""
    far = session.travel_km > NEAR_KM
    return When(session.going_on & session.by_person & far & (session.travel_kmh > limit.speed), 80, 60)


@SESSIONS.rule(
    44,
    "From a country never seen before",
    Remedy("Ask the holder whether it is them.", END),
    "{holder} is signed in to {account} from {country}, where they were never seen before.",
)
def new_country(session: Session, limit: Limits) -> When:
    """A session in an account of high or critical sensitivity comes from a country new to its holder."""
    return When(session.going_on & session.new_country & (session.sensitivity >= 3), 40, 60)


@SESSIONS.rule(
    45,
    "On a device never seen before",
    Remedy("Ask the holder whether it is them.", END),
    "{holder} is signed in to {account} on {device}, which they never used before.",
)
def new_device(session: Session, limit: Limits) -> When:
    """A session in a critical account is on a device new to its holder."""
    return When(session.going_on & session.by_person & session.new_device & (session.sensitivity >= 4), 0, 40)


@SESSIONS.rule(
    46,
    "Signed in after leaving",
    Remedy("End the session, and look how they still come in.", END),
    "{holder} left on {leaves_at:day} and is signed in to {account} on {device}.",
)
def left_signed_in(session: Session, limit: Limits) -> When:
    """A session of somebody who has left is still open."""
    return When(session.going_on & session.holder_left, 100)


@SESSIONS.rule(
    47,
    "Said to have ended, and going on",
    Remedy("End it again, and look why the system kept it.", END),
    "The session of {holder} in {account} on {device} was said to have ended, and a read on {proved_at:day} showed it.",
)
def session_still_there(session: Session, limit: Limits) -> When:
    """A session had ended in the register, and a later read of the system shows it."""
    return When(session.going_on & session.contradicted, 100, least=CRITICAL_FROM)
