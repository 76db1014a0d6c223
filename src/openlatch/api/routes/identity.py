"""The calls about sign-ins: those of the organisation, invitations, forgotten passwords, and one's own."""

from __future__ import annotations

from uuid import UUID

from flask import Response, request
from structlog import get_logger

from openlatch import schemas
from openlatch.api.routing import COOKIE, JSON, PREFIX, api, as_json, if_match, origin, the_service
from openlatch.core.vocabulary import Role, TokenScope
from openlatch.errors import NotAllowed, OpenLatchError
from openlatch.service.identity import (
    authentication,
    invitations,
    passwords,
    provider_sign_in,
    providers,
    recovery,
    second_factor,
    sign_ins,
)
from openlatch.service.own import my_access, own_page
from openlatch.service.unit import Unit, Viewer

ONE = "/sign-ins/<uuid:ident>"
INVITATION = "/invitations/<uuid:ident>"
PROVIDER = "/identity-providers/<uuid:ident>"
log = get_logger()


# Marks a device that has signed in before, which other people's tries don't delay.
DEVICE = "openlatch_device"

DEVICE_SECONDS = 365 * 24 * 3600


@api.add("GET", "/sign-ins", "Who signs in, in which role", schemas.SignIns)
def list_sign_ins(unit: Unit) -> schemas.SignIns:
    """With when each was last seen, and how many sessions and tokens are open."""
    return schemas.SignIns(rows=sign_ins.rows(unit))


@api.add("PUT", f"{ONE}/role", "Give a sign-in another role", schemas.SignInOf, body=schemas.SetRole)
def set_role(unit: Unit, ident: UUID, body: schemas.SetRole) -> schemas.SignInOf:
    """There is always somebody who administers."""
    return sign_ins.set_role(unit, ident, Role(body.role))


@api.add("PUT", f"{ONE}/suspended", "Suspend a sign-in", schemas.SignInOf)
def suspend_sign_in(unit: Unit, ident: UUID) -> schemas.SignInOf:
    """Its sessions and tokens end at once."""
    return sign_ins.set_suspended(unit, ident, True)


@api.add("DELETE", f"{ONE}/suspended", "Let a suspended sign-in in again", schemas.SignInOf)
def resume_sign_in(unit: Unit, ident: UUID) -> schemas.SignInOf:
    """With its password and second factor as they were."""
    return sign_ins.set_suspended(unit, ident, False)


@api.add("DELETE", f"{ONE}/sessions", "End all sessions of a sign-in", schemas.SignInOf)
def end_sign_in_sessions(unit: Unit, ident: UUID) -> schemas.SignInOf:
    """At once."""
    return sign_ins.end_sessions(unit, ident)


@api.add("DELETE", f"{ONE}/tokens", "End all API tokens of a sign-in", schemas.SignInOf)
def end_sign_in_tokens(unit: Unit, ident: UUID) -> schemas.SignInOf:
    """At once."""
    return sign_ins.end_tokens(unit, ident)


@api.add("DELETE", f"{ONE}/factor", "Reset somebody's second factor", schemas.SignInOf)
def reset_sign_in_factor(unit: Unit, ident: UUID) -> schemas.SignInOf:
    """They sign in with their password alone until they set up another."""
    return sign_ins.reset_factor(unit, ident)


@api.add("DELETE", ONE, "Take a sign-in away", schemas.Done)
def take_sign_in_away(unit: Unit, ident: UUID) -> schemas.Done:
    """The person stays in the register."""
    sign_ins.take_away(unit, ident)
    return schemas.Done(done=True)


@api.add("GET", "/identity-providers", "Identity providers by which people sign in", schemas.Providers)
def list_providers(unit: Unit) -> schemas.Providers:
    """With what has to be registered there."""
    return schemas.Providers(rows=providers.rows(unit))


@api.add(
    "POST",
    "/identity-providers",
    "Let people sign in by an identity provider",
    schemas.ProviderOf,
    body=schemas.SetProvider,
    status=201,
)
def add_provider(unit: Unit, body: schemas.SetProvider) -> schemas.ProviderOf:
    """It is asked first what it says of itself (OpenID Connect Discovery)."""
    return providers.add(unit, body)


@api.add("PUT", PROVIDER, "Change an identity provider", schemas.ProviderOf, body=schemas.SetProvider)
def change_provider(unit: Unit, ident: UUID, body: schemas.SetProvider) -> schemas.ProviderOf:
    """With another issuer or client, whose subjects are whose is forgotten."""
    return providers.change(unit, ident, body, if_match())


@api.add("DELETE", PROVIDER, "Remove an identity provider", schemas.Done)
def remove_provider(unit: Unit, ident: UUID) -> schemas.Done:
    """Sessions that it has opened end."""
    providers.remove(unit, ident)
    return schemas.Done(done=True)


@api.add(
    "GET",
    "/sign-in/providers",
    "By which identity providers one can sign in",
    schemas.ProviderChoices,
    query=schemas.AtOrganisation,
    open=True,
)
def provider_choices(query: schemas.AtOrganisation) -> schemas.ProviderChoices:
    """A sign-in begins at /oidc/start/ and its id."""
    return schemas.ProviderChoices(rows=providers.choices(the_service(), query.organisation))


@api.add("GET", "/invitations", "Invitations that are not accepted yet", schemas.Invitations)
def list_invitations(unit: Unit) -> schemas.Invitations:
    """The latest first, those that ran out among them."""
    return schemas.Invitations(rows=invitations.rows(unit))


@api.add("POST", "/invitations", "Invite somebody to sign in", schemas.InvitationOf, body=schemas.Invite, status=201)
def invite(unit: Unit, body: schemas.Invite) -> schemas.InvitationOf:
    """A link is mailed to them that opens once, within a week."""
    return invitations.invite(unit, body.person, body.name, body.address, Role(body.role))


@api.add("POST", f"{INVITATION}/again", "Send an invitation again", schemas.InvitationOf)
def invite_again(unit: Unit, ident: UUID) -> schemas.InvitationOf:
    """The link before opens nothing any more."""
    return invitations.send_again(unit, ident)


@api.add("DELETE", INVITATION, "Withdraw an invitation", schemas.Done)
def withdraw_invitation(unit: Unit, ident: UUID) -> schemas.Done:
    """Its link opens nothing any more."""
    invitations.withdraw(unit, ident)
    return schemas.Done(done=True)


# By a link, before anybody is signed in.


@api.add(
    "POST",
    "/link/invitation/read",
    "Read an invitation by its link",
    schemas.InvitationToYou,
    body=schemas.OpenInvitation,
    open=True,
)
def read_invitation(body: schemas.OpenInvitation) -> schemas.InvitationToYou:
    """To what, as what, and by whom."""
    return invitations.read(the_service(), body.token, origin())


@api.add(
    "POST",
    "/link/invitation/accept",
    "Accept an invitation by its link",
    schemas.Me,
    body=schemas.AcceptInvitation,
    open=True,
)
def accept_invitation(body: schemas.AcceptInvitation) -> Response:
    """With a password; whoever accepts is signed in."""
    return signed_in(invitations.accept(the_service(), body.token, body.password, origin()))


@api.add(
    "POST",
    "/password/forgotten",
    "Have a link sent for a forgotten password",
    schemas.Done,
    body=schemas.ForgottenPassword,
    open=True,
    status=202,
)
def forgotten_password(body: schemas.ForgottenPassword) -> schemas.Done:
    """The answer is the same whether anybody signs in with the address or not."""
    passwords.ask_for_link(the_service(), body.address, origin())
    return schemas.Done(done=True)


@api.add(
    "POST", "/password/new", "Replace a forgotten password by a link", schemas.Done, body=schemas.NewPassword, open=True
)
def new_password(body: schemas.NewPassword) -> schemas.Done:
    """Every session and token ends; then one signs in, with the second factor as before."""
    passwords.set_by_link(the_service(), body.token, body.password, origin())
    return schemas.Done(done=True)


# One's own.


@api.add("GET", "/me/sign-in", "Your own sign-in", schemas.OwnPage)
def own_sign_in(unit: Unit) -> schemas.OwnPage:
    """Addresses, sessions, tokens, and how you want to be told."""
    return own_page.page(unit)


@api.add("PUT", "/me/profile", "Set your name, and how you want to be told", schemas.OwnPage, body=schemas.Profile)
def set_profile(unit: Unit, body: schemas.Profile) -> schemas.OwnPage:
    """Mail about who you are and who decides about your accounts comes in any case."""
    return own_page.set_profile(unit, body.name, body.time_zone, body.locale, body.no_mail, body.wants_digest)


@api.add("PUT", "/me/password", "Change your password", schemas.Done, body=schemas.ChangePassword)
def change_password(unit: Unit, body: schemas.ChangePassword) -> schemas.Done:
    """After a fresh proof; your other sessions end."""
    passwords.change(unit, body.password, origin())
    return schemas.Done(done=True)


@api.add("POST", "/me/recovery-codes", "Make recovery codes", schemas.RecoveryCodes, status=201, secret=True)
def make_recovery_codes(unit: Unit) -> schemas.RecoveryCodes:
    """Ten codes, each of which replaces the second factor once. Earlier codes stop working."""
    return schemas.RecoveryCodes(codes=recovery.make(unit))


@api.add("POST", "/me/addresses", "Add an address of yours", schemas.Done, body=schemas.AddAddress, status=202)
def add_address(unit: Unit, body: schemas.AddAddress) -> schemas.Done:
    """It counts once it is confirmed by the link that is sent to it."""
    own_page.add_address(unit, body.address)
    return schemas.Done(done=True)


@api.add("PUT", "/me/addresses/first", "Use another of your addresses", schemas.OwnPage, body=schemas.AddressNamed)
def make_address_first(unit: Unit, body: schemas.AddressNamed) -> schemas.OwnPage:
    """Mail goes there, and you sign in with it."""
    return own_page.make_first(unit, body.address)


@api.add("POST", "/me/addresses/remove", "Remove one of your addresses", schemas.OwnPage, body=schemas.AddressNamed)
def remove_address(unit: Unit, body: schemas.AddressNamed) -> schemas.OwnPage:
    """Any but the first."""
    return own_page.remove_address(unit, body.address)


@api.add("DELETE", "/me/sessions/<uuid:ident>", "End one of your sessions", schemas.Done)
def end_own_session(unit: Unit, ident: UUID) -> schemas.Done:
    """At once."""
    own_page.end_session(unit, ident)
    return schemas.Done(done=True)


@api.add("DELETE", "/me/sessions", "End all of your other sessions", schemas.OwnPage)
def end_other_sessions(unit: Unit) -> schemas.OwnPage:
    """All but the one that asks."""
    own_page.end_others(unit)
    return own_page.page(unit)


@api.add(
    "POST",
    "/me/tokens",
    "Make an API token of yours",
    schemas.Token,
    body=schemas.MakeOwnToken,
    status=201,
    secret=True,
)
def make_own_token(unit: Unit, body: schemas.MakeOwnToken) -> schemas.Token:
    """It may do what you may, or only read, until it runs out. The token itself is shown only now."""
    unit.require_proof("Making an API token")
    if unit.viewer.sign_in is None:
        raise NotAllowed("Only somebody who signs in can make tokens.")
    ident, token, ends = authentication.make_token_in(unit, body.name, body.scope, body.days)
    return schemas.Token(id=ident, token=token, expires_at=ends)


@api.add(
    "POST",
    "/directory-tokens",
    "Make a token for a directory",
    schemas.Token,
    body=schemas.MakeDirectoryToken,
    status=201,
    secret=True,
)
def make_directory_token(unit: Unit, body: schemas.MakeDirectoryToken) -> schemas.Token:
    """It is good for /scim/v2 alone, while you administer. It can be ended among your own tokens."""
    unit.sight.require_administrator()
    unit.require_proof("Making a token for a directory")
    ident, token, ends = authentication.make_token_in(unit, body.name, TokenScope.SCIM, body.days)
    return schemas.Token(id=ident, token=token, expires_at=ends)


@api.add("POST", "/session", "Sign in with a browser", schemas.Me, body=schemas.OpenSession, open=True)
def sign_in(body: schemas.OpenSession) -> Response:
    """Sets the session's cookie."""
    service = the_service()
    if body.passkey is not None and not body.address and not body.password:
        return signed_in(authentication.check_passkey(service, body.passkey, origin()))
    device = request.cookies.get(DEVICE, "")
    factor = authentication.Factor(body.code, body.passkey)
    who = authentication.check_password(
        service, body.address, body.password, origin(), factor, device, body.organisation
    )
    return signed_in(who)


def signed_in(who: Viewer, proved: bool = True) -> Response:
    """The answer to somebody who is signed in from now on: the session's cookie, and who they are."""
    service = the_service()
    opened = authentication.open_session(service, who, request.user_agent.string, origin(), proved)
    with service.unit(who) as unit:
        found = authentication.describe(unit).model_copy(update={"csrf": authentication.csrf_of(opened.token)})
    response = Response(as_json(found), content_type=JSON)
    set_cookies(response, who, opened)
    return response


def set_cookies(response: Response, who: Viewer, opened: authentication.Opened) -> None:
    """The cookie of a session just opened, and the one that marks the device."""
    service = the_service()
    response.set_cookie(
        COOKIE,
        opened.token,
        expires=opened.expires_at,
        httponly=True,
        samesite="Strict",
        secure=request.is_secure,
    )
    response.set_cookie(
        DEVICE,
        authentication.remember_device(service, who),
        max_age=DEVICE_SECONDS,
        path=f"{PREFIX}/",
        httponly=True,
        samesite="Strict",
        secure=request.is_secure,
    )


@api.add("DELETE", "/session", "Sign out", schemas.SignedOut, inside=True)
def sign_out(unit: Unit) -> Response:
    """Ends the session at once; whoever came by an identity provider is told where to sign out there, too."""
    token, then = request.cookies.get(COOKIE), ""
    if token:
        try:
            then = provider_sign_in.address_to_sign_out(unit.service, unit.viewer)
        except OpenLatchError as error:
            # One signs out here in any case.
            log.warning("provider.unreachable", error=error.detail)
        authentication.close_session(unit.service, unit.viewer, token)
    response = Response(as_json(schemas.SignedOut(then=then)), content_type=JSON)
    response.delete_cookie(COOKIE)
    return response


@api.add("GET", "/me", "Who is signed in, and as what", schemas.Me, inside=True)
def me(unit: Unit) -> schemas.Me:
    """With the token that calls from a page have to carry."""
    token = request.cookies.get(COOKIE)
    return authentication.describe(unit).model_copy(update={"csrf": authentication.csrf_of(token) if token else ""})


@api.add("POST", "/tokens", "Make an API token", schemas.Token, body=schemas.MakeToken, status=201, open=True)
def make_token(body: schemas.MakeToken) -> schemas.Token:
    """By address and password."""
    service = the_service()
    factor = authentication.Factor(body.code)
    who = authentication.check_password(service, body.address, body.password, origin(), factor, at=body.organisation)
    ident, token, ends = authentication.make_token(service, who, body.name, body.scope)
    return schemas.Token(id=ident, token=token, expires_at=ends)


@api.add("DELETE", "/tokens/<uuid:ident>", "End one of your API tokens", schemas.Done)
def end_token(unit: Unit, ident: UUID) -> schemas.Done:
    """At once."""
    authentication.end_token(unit, ident)
    return schemas.Done(done=True)


@api.add("POST", "/me/proof", "Prove afresh that it is you", schemas.Proved, body=schemas.ProveWith, inside=True)
def prove(unit: Unit, body: schemas.ProveWith) -> schemas.Proved:
    """Counts for ten minutes."""
    factor = authentication.Factor(body.code, body.passkey)
    return schemas.Proved(
        until=authentication.prove(unit, body.password, factor, origin(), request.cookies.get(DEVICE, ""))
    )


@api.add("PUT", "/me/offers", "Take offers, or refuse to be sent any", schemas.Done, body=schemas.SetOffers)
def set_offers(unit: Unit, body: schemas.SetOffers) -> schemas.Done:
    """For yourself."""
    my_access.set_offers(unit, body.refuses)
    return schemas.Done(done=True)


@api.add("POST", "/me/address", "Have a link sent that confirms your address", schemas.Done, status=202)
def ask_for_proof(unit: Unit) -> schemas.Done:
    """It works once, for a day."""
    my_access.ask_for_proof(unit)
    return schemas.Done(done=True)


@api.add(
    "POST", "/link/confirm", "Confirm an address by its link", schemas.Done, body=schemas.ConfirmAddress, open=True
)
def confirm_address(body: schemas.ConfirmAddress) -> schemas.Done:
    """The token comes from the link that was mailed."""
    my_access.confirm_address(the_service(), body.token, origin())
    return schemas.Done(done=True)


@api.add("POST", "/me/factor", "Begin to set up a second factor", schemas.Factor, status=201, secret=True)
def begin_factor(unit: Unit) -> schemas.Factor:
    """A secret for an app that shows codes; it counts once you have given one."""
    return schemas.Factor.model_validate(second_factor.begin(unit))


@api.add("PUT", "/me/factor", "Give the first code of a second factor", schemas.Done, body=schemas.CodeWith)
def confirm_factor(unit: Unit, body: schemas.CodeWith) -> schemas.Done:
    """From then on every sign-in asks for it."""
    second_factor.confirm(unit, body.code)
    return schemas.Done(done=True)


@api.add("DELETE", "/me/factor", "Do without a second factor", schemas.Done)
def remove_factor(unit: Unit) -> schemas.Done:
    """After a fresh proof."""
    second_factor.remove(unit)
    return schemas.Done(done=True)
