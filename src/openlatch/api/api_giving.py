"""The calls about giving access. They go into the same table as the others."""

from __future__ import annotations

from typing import Any
from uuid import UUID

from flask import Response, request

from openlatch import schemas
from openlatch.api.api import DEVICE, signed_in
from openlatch.api.api_access import latch_setting
from openlatch.api.api_reviews import api
from openlatch.api.routing import if_match, origin, perhaps_viewer, the_service
from openlatch.core.vocabulary import Reach
from openlatch.service.access import my_access
from openlatch.service.accounts import settings
from openlatch.service.acting import visits
from openlatch.service.grants import change_types, changes, hand_tasks, large_changes, levels, lifecycle, terms
from openlatch.service.grants.terms import TermWish
from openlatch.service.identity import authentication, second_factor
from openlatch.service.latches import guard
from openlatch.service.offers import answer as offer_answer
from openlatch.service.offers import offers, preview
from openlatch.service.records import edit
from openlatch.service.requests import requests
from openlatch.service.unit import Unit

__all__ = ["api"]


def _choice(body: Any) -> lifecycle.Choice:
    hours = lifecycle.weekly_hours(body.hours.days, body.hours.begins, body.hours.ends) if body.hours else None
    singles = tuple(lifecycle.Single(p.key, p.until, p.last_day) for p in body.permissions)
    return lifecycle.Choice(
        tuple(body.levels), singles, tuple(body.parts), body.since, body.until, body.last_day, hours
    )


# Offers.


def _proposal(body: schemas.OfferProposal) -> preview.Proposal:
    to = tuple(preview.To(t.person, t.team, t.address, t.name, t.handle, t.inside) for t in body.to)
    return preview.Proposal(body.account, to, _choice(body), body.reason)


@api.add(
    "POST",
    "/offers/preview",
    "What an offer would come to",
    schemas.OfferPreview,
    body=schemas.OfferProposal,
    inside=True,
)
def preview_offer(unit: Unit, body: schemas.OfferProposal) -> dict[str, Any]:
    """For each of those it is for. Nothing happens yet."""
    return preview.preview(unit, _proposal(body))


@api.add("POST", "/offers", "Send an offer", schemas.OffersSent, body=schemas.OfferSend, status=201, inside=True)
def send_offer(unit: Unit, body: schemas.OfferSend) -> dict[str, Any]:
    """To one or several people or teams, by mail and in the console."""
    return {"offers": offers.send(unit, _proposal(body), body.fingerprint)}


@api.add("GET", "/offers/<uuid:ident>", "An offer, with what it comes to", schemas.OfferPage, inside=True)
def get_offer(unit: Unit, ident: UUID) -> dict[str, Any]:
    """For its sender's side, and for whoever it is for."""
    return offers.one(unit, ident)


@api.add(
    "PUT", "/offers/<uuid:ident>", "Change a pending offer", schemas.OfferPage, body=schemas.ChangeOffer, inside=True
)
def change_offer(unit: Unit, ident: UUID, body: schemas.ChangeOffer) -> dict[str, Any]:
    """Whoever has opened it meanwhile reads it again before they can accept."""
    return offers.change(unit, ident, _choice(body), if_match())


@api.add("POST", "/offers/<uuid:ident>/again", "Send an offer again", schemas.OfferPage, inside=True)
def send_offer_again(unit: Unit, ident: UUID) -> dict[str, Any]:
    """With a fresh link; the old one is dead."""
    return offers.send_again(unit, ident)


@api.add("POST", "/offers/<uuid:ident>/withdraw", "Withdraw an offer", schemas.OfferPage, inside=True)
def withdraw_offer(unit: Unit, ident: UUID) -> dict[str, Any]:
    """Before it is answered."""
    return offers.withdraw(unit, ident, if_match())


@api.add("POST", "/offers/<uuid:ident>/accept", "Accept an offer to you", schemas.OfferPage, body=schemas.Accept)
def accept_offer(unit: Unit, ident: UUID, body: schemas.Accept) -> dict[str, Any]:
    """In the version that you read."""
    offer_answer.accept(unit, ident, offer_answer.Answer(body.version))
    return offers.one(unit, ident)


@api.add("POST", "/offers/<uuid:ident>/decline", "Decline an offer to you", schemas.OfferPage, body=schemas.Accept)
def decline_offer(unit: Unit, ident: UUID, body: schemas.Accept) -> dict[str, Any]:
    """Or say that you do not know the sender."""
    offer_answer.decline(unit, ident, offer_answer.Answer(body.version, words=body.words), body.unknown_sender)
    return offers.one(unit, ident)


@api.add("POST", "/link/read", "Read an offer by its link", schemas.OpenOffer, body=schemas.LinkToken, open=True)
def read_link(body: schemas.LinkToken) -> dict[str, Any]:
    """The token comes from the link that was mailed; it is never part of an address that is sent anywhere."""
    return offer_answer.read(the_service(), body.token, origin(), perhaps_viewer())


@api.add("POST", "/link/accept", "Accept an offer by its link", schemas.Me, body=schemas.LinkAnswer, open=True)
def accept_link(body: schemas.LinkAnswer) -> Response | dict[str, Any]:
    """Whoever has no sign-in makes one with a password, and is signed in."""
    before = perhaps_viewer()
    answer = offer_answer.Answer(body.version, body.password, body.words)
    who, found = offer_answer.accept_by_link(the_service(), body.token, answer, origin(), before)
    if before is None:
        return signed_in(who, accepted=found)
    with the_service().unit(before) as unit:
        return {**authentication.describe(unit), "accepted": found}


@api.add("POST", "/link/decline", "Decline an offer by its link", schemas.Done, body=schemas.LinkAnswer, open=True)
def decline_link(body: schemas.LinkAnswer) -> dict[str, Any]:
    """Or say that you do not know the sender. Needs no sign-in."""
    answer = offer_answer.Answer(body.version, words=body.words)
    offer_answer.decline_by_link(the_service(), body.token, answer, origin(), body.unknown_sender)
    return {"done": True}


@api.add(
    "POST",
    "/accounts/<uuid:ident>/hand-over",
    "Offer an account's ownership",
    schemas.OfferPage,
    body=schemas.HandOver,
    status=201,
)
def hand_over(unit: Unit, ident: UUID, body: schemas.HandOver) -> dict[str, Any]:
    """Nothing changes until the new owner accepts by the link that is mailed to them."""
    return offers.offer_ownership(unit, ident, body.to, body.keeps, body.reason, if_match())


@api.add(
    "PUT",
    "/accounts/<uuid:ident>/giving",
    "How access to an account is given",
    schemas.AccountRow,
    body=schemas.SetAccount,
    inside=True,
)
def set_account(unit: Unit, ident: UUID, body: schemas.SetAccount) -> dict[str, Any]:
    """In an emergency, and what people need before they can accept."""
    return settings.set_account(unit, ident, body.emergency_hours, list(body.prerequisites), if_match())


@api.add("PUT", "/teams/<uuid:ident>/speaker", "Say who speaks for a team", schemas.TeamRow, body=schemas.SetSpeaker)
def set_speaker(unit: Unit, ident: UUID, body: schemas.SetSpeaker) -> dict[str, Any]:
    """They answer offers to it."""
    return settings.set_speaker(unit, ident, body.speaker)


@api.add("GET", "/settings", "How the organisation gives access", schemas.Settings)
def get_settings(unit: Unit) -> dict[str, Any]:
    """Its hours for offers, its own domains, and what everybody needs to accept."""
    return settings.shown(unit)


@api.add("PUT", "/settings", "Set how the organisation gives access", schemas.Settings, body=schemas.SetSettings)
def set_settings(unit: Unit, body: schemas.SetSettings) -> dict[str, Any]:
    """For administrators."""
    return settings.change(
        unit,
        body.offer_hours,
        body.inside_domains,
        list(body.prerequisites),
        body.auditors,
        body.remind_days,
        body.keep_left_months,
    )


# Requests.


@api.add("POST", "/requests", "Ask for access", schemas.RequestRow, body=schemas.AskAccess, status=201)
def ask_access(unit: Unit, body: schemas.AskAccess) -> dict[str, Any]:
    """The same again, while it waits for an answer, changes the request that is there."""
    given = body.model_dump()
    return requests.ask(unit, requests.Wish(**{**given, "parts": tuple(body.parts)}))


@api.add("GET", "/requests/<uuid:ident>", "A request for access", schemas.RequestRow, inside=True)
def get_request(unit: Unit, ident: UUID) -> dict[str, Any]:
    """Yours, or one that you may answer."""
    return requests.one(unit, ident)


@api.add(
    "POST",
    "/requests/<uuid:ident>/grant",
    "Grant a request",
    schemas.RequestRow,
    body=schemas.GrantRequest,
    inside=True,
)
def grant_request(unit: Unit, ident: UUID, body: schemas.GrantRequest) -> dict[str, Any]:
    """As it was asked, or less, or for a shorter time."""
    return requests.grant(unit, ident, _choice(body), body.words, body.account, if_match())


@api.add(
    "POST", "/requests/<uuid:ident>/decline", "Decline a request", schemas.RequestRow, body=schemas.Words, inside=True
)
def decline_request(unit: Unit, ident: UUID, body: schemas.Words) -> dict[str, Any]:
    """With a word about why."""
    return requests.decline(unit, ident, body.words, if_match())


@api.add("POST", "/requests/<uuid:ident>/withdraw", "Withdraw your request", schemas.RequestRow)
def withdraw_request(unit: Unit, ident: UUID) -> dict[str, Any]:
    """Before it is answered."""
    return requests.withdraw(unit, ident, if_match())


# Levels.


def _draft(body: schemas.LevelDraft) -> levels.Draft:
    new = tuple(levels.NewPermission(p.key, p.sentence, Reach.from_word(p.reach)) for p in body.new)
    return levels.Draft(body.name, body.sentence, tuple(body.keys), new)


@api.add("POST", "/levels", "Make a level", schemas.LevelRow, body=schemas.MakeLevel, status=201)
def make_level(unit: Unit, body: schemas.MakeLevel) -> dict[str, Any]:
    """A named set of permissions in one system."""
    return levels.make(unit, body.system, body.key, _draft(body))


@api.add(
    "POST",
    "/levels/<uuid:ident>/preview",
    "What changing a level would do",
    schemas.LevelPreview,
    body=schemas.LevelDraft,
)
def preview_level(unit: Unit, ident: UUID, body: schemas.LevelDraft) -> dict[str, Any]:
    """Whose rights would grow or shrink. Nothing happens yet."""
    return levels.preview(unit, ident, _draft(body))


@api.add("PUT", "/levels/<uuid:ident>", "Change a level", schemas.LevelRow, body=schemas.ChangeLevel)
def change_level(unit: Unit, ident: UUID, body: schemas.ChangeLevel) -> dict[str, Any]:
    """At once for everybody who holds it."""
    return levels.change(unit, ident, _draft(body), body.fingerprint, if_match())


@api.add("DELETE", "/levels/<uuid:ident>", "Remove a level", schemas.Done)
def remove_level(unit: Unit, ident: UUID) -> dict[str, Any]:
    """Only while nothing refers to it; otherwise the answer lists what does."""
    edit.remove(unit, "levels", ident, if_match())
    return {"done": True}


@api.add("PUT", "/levels/<uuid:ident>/archived", "Archive a level", schemas.Done)
def archive_level(unit: Unit, ident: UUID) -> dict[str, Any]:
    """Out of lists and choices. Only while no live grant gives it."""
    edit.archive(unit, "levels", ident, True)
    return {"done": True}


@api.add("DELETE", "/levels/<uuid:ident>/archived", "Take a level out of the archive", schemas.Done)
def unarchive_level(unit: Unit, ident: UUID) -> dict[str, Any]:
    """Back among the others."""
    edit.archive(unit, "levels", ident, False)
    return {"done": True}


@api.add(
    "GET",
    "/levels/compare",
    "Two levels side by side",
    schemas.LevelComparison,
    query=schemas.CompareLevels,
    inside=True,
)
def compare_levels(unit: Unit, query: schemas.CompareLevels) -> dict[str, Any]:
    """What both give, and what only the one or the other does."""
    return levels.compare(unit, query.first, query.second)


@api.add("GET", "/systems/<uuid:ident>/permissions", "Every permission of a system", schemas.PermissionRow, inside=True)
def get_permissions(unit: Unit, ident: UUID) -> dict[str, Any]:
    """The furthest reaching first."""
    return {"permissions": levels.permissions(unit, ident)}


# Changes to grants.


def _change(body: schemas.ChangeWish) -> change_types.Change:
    return change_types.Change(
        change_types.ChangeKind(body.kind),
        body.reason,
        tuple(body.grants),
        body.filter,
        dict(body.versions),
        body.until,
        body.last_day,
        body.no_end,
        body.level,
        body.successor,
        tuple(_term(term) for term in body.terms),
    )


def _term(wish: schemas.TermWish) -> TermWish:
    hours = lifecycle.weekly_hours(wish.hours.days, wish.hours.begins, wish.hours.ends) if wish.hours else None
    return TermWish(wish.level, wish.permission, wish.part, wish.since, wish.until, wish.last_day, hours)


@api.add(
    "POST",
    "/changes/preview",
    "What a change would do to each grant",
    schemas.ChangePreview,
    body=schemas.ChangeWish,
    inside=True,
)
def preview_change(unit: Unit, body: schemas.ChangeWish) -> dict[str, Any]:
    """Nothing happens yet."""
    return changes.preview(unit, _change(body))


@api.add("POST", "/changes", "Change grants, one or many", schemas.ChangeResult, body=schemas.ChangeWish, inside=True)
def change_grants(unit: Unit, body: schemas.ChangeWish) -> dict[str, Any]:
    """Suspend, resume, move the end, change the level, hand to a successor, or end; with a line for each."""
    return changes.carry_out(unit, _change(body), body.fingerprint)


@api.add(
    "POST", "/changes/large", "Change many grants", schemas.LargeChangePage, body=schemas.LargeChangeWish, status=202
)
def change_many(unit: Unit, body: schemas.LargeChangeWish) -> dict[str, Any]:
    """More than one call has time for. The worker makes it in the background, or only looks what it would do."""
    return large_changes.ask(unit, _change(body), body.only_preview, body.seen)


@api.add("GET", "/changes/large/<uuid:ident>", "How far a large change is", schemas.LargeChangePage)
def get_large_change(unit: Unit, ident: UUID) -> dict[str, Any]:
    """What was done, what was refused and why."""
    return large_changes.one(unit, ident)


@api.add("POST", "/changes/large/<uuid:ident>/stop", "Stop a large change", schemas.LargeChangePage)
def stop_large_change(unit: Unit, ident: UUID) -> dict[str, Any]:
    """It goes no further; what was done stays."""
    return large_changes.stop(unit, ident)


@api.add(
    "POST",
    "/grants/<uuid:ident>/give-up",
    "Give up access of your own",
    schemas.GivenUp,
    body=schemas.GiveUp,
    inside=True,
)
def give_up(unit: Unit, ident: UUID, body: schemas.GiveUp) -> dict[str, Any]:
    """It ends in its system like any other access, without anyone's leave."""
    return changes.give_up(unit, ident, body.reason)


@api.add("POST", "/sessions/<uuid:ident>/end", "End a session of your own", schemas.GivenUp)
def end_session(unit: Unit, ident: UUID) -> dict[str, Any]:
    """In the system where it is, where sessions can be ended from here."""
    return changes.end_own_session(unit, ident)


@api.add("GET", "/grants/<uuid:ident>/terms", "The terms of a grant", schemas.TermsNow, inside=True)
def get_terms(unit: Unit, ident: UUID) -> dict[str, Any]:
    """As a form that changes them begins."""
    return terms.shown(unit, ident)


# What a person does by hand.


@api.add(
    "POST",
    "/tasks/<uuid:ident>/done",
    "Say that something was done by hand",
    schemas.TaskRow,
    body=schemas.TaskDone,
    inside=True,
)
def task_done(unit: Unit, ident: UUID, body: schemas.TaskDone) -> dict[str, Any]:
    """In your own words; the register says whose word it is."""
    return hand_tasks.done(unit, ident, body.words, if_match())


@api.add(
    "POST",
    "/tasks/<uuid:ident>/assign",
    "Say who does something by hand",
    schemas.TaskRow,
    body=schemas.TaskAssign,
    inside=True,
)
def assign_task(unit: Unit, ident: UUID, body: schemas.TaskAssign) -> dict[str, Any]:
    """They are told."""
    return hand_tasks.assign(unit, ident, body.person, if_match())


# Latches.


@api.add(
    "POST",
    "/latches/preview",
    "What breaks a latch as things are",
    schemas.LatchPreview,
    body=schemas.SetLatch,
    inside=True,
)
def preview_latch(unit: Unit, body: schemas.SetLatch) -> dict[str, Any]:
    """Before it is switched on."""
    return guard.preview(unit, latch_setting(body))


@api.add("PUT", "/latches", "Set a latch", schemas.LatchPreview, body=schemas.SetLatch)
def set_latch(unit: Unit, body: schemas.SetLatch) -> dict[str, Any]:
    """To off, warn or hold. What breaks it already stays, and is flagged."""
    return guard.switch(unit, latch_setting(body))


@api.add(
    "GET", "/accounts/<uuid:ident>/latches", "Every latch of an account", schemas.Rows[schemas.LatchState], inside=True
)
def get_latches(unit: Unit, ident: UUID) -> dict[str, Any]:
    """How each is set, and what breaks it."""
    return {"rows": guard.of_account(unit, ident)}


# One's own side.


@api.add("GET", "/mine", "What you can reach, and who can reach yours", schemas.Mine)
def get_mine(unit: Unit) -> dict[str, Any]:
    """With the offers that wait for you."""
    return my_access.page(unit)


@api.add("POST", "/me/switch", "Switch into an account", schemas.Me, body=schemas.Switch, inside=True)
def switch_in(unit: Unit, body: schemas.Switch) -> dict[str, Any]:
    """What you do from then on is put down as done on behalf of its owner."""
    return authentication.describe(visits.enter(unit, body.account))


@api.add("DELETE", "/me/switch", "Switch out again", schemas.Done, inside=True)
def switch_out(unit: Unit) -> dict[str, Any]:
    """Nothing happens to somebody who is not inside."""
    visits.leave(unit)
    return {"done": True}


@api.add("POST", "/me/proof", "Prove afresh that it is you", schemas.Proved, body=schemas.ProveWith, inside=True)
def prove(unit: Unit, body: schemas.ProveWith) -> dict[str, Any]:
    """Counts for ten minutes."""
    return {"until": authentication.prove(unit, body.password, body.code, origin(), request.cookies.get(DEVICE, ""))}


@api.add("PUT", "/me/offers", "Take offers, or refuse to be sent any", schemas.Done, body=schemas.SetOffers)
def set_offers(unit: Unit, body: schemas.SetOffers) -> dict[str, Any]:
    """For yourself."""
    my_access.set_offers(unit, body.refuses)
    return {"done": True}


@api.add("POST", "/me/address", "Have a link sent that confirms your address", schemas.Done, status=202)
def ask_for_proof(unit: Unit) -> dict[str, Any]:
    """It works once, for a day."""
    my_access.ask_for_proof(unit)
    return {"done": True}


@api.add(
    "POST", "/link/confirm", "Confirm an address by its link", schemas.Done, body=schemas.ConfirmAddress, open=True
)
def confirm_address(body: schemas.ConfirmAddress) -> dict[str, Any]:
    """The token comes from the link that was mailed."""
    my_access.confirm_address(the_service(), body.token, origin())
    return {"done": True}


@api.add("POST", "/me/factor", "Begin to set up a second factor", schemas.Factor, status=201, secret=True)
def begin_factor(unit: Unit) -> dict[str, Any]:
    """A secret for an app that shows codes; it counts once you have given one."""
    return dict(second_factor.begin(unit))


@api.add("PUT", "/me/factor", "Give the first code of a second factor", schemas.Done, body=schemas.CodeWith)
def confirm_factor(unit: Unit, body: schemas.CodeWith) -> dict[str, Any]:
    """From then on it is asked for at every sign-in."""
    second_factor.confirm(unit, body.code)
    return {"done": True}


@api.add("DELETE", "/me/factor", "Do without a second factor", schemas.Done)
def remove_factor(unit: Unit) -> dict[str, Any]:
    """After a fresh proof."""
    second_factor.remove(unit)
    return {"done": True}


@api.add("POST", "/notices/read", "Mark notices as read", schemas.Done, body=schemas.ReadNotices)
def read_notices(unit: Unit, body: schemas.ReadNotices) -> dict[str, Any]:
    """Your own; all of them when none is named."""
    my_access.read_notices(unit, body.notices)
    return {"done": True}
