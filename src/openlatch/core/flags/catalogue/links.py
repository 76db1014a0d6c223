"""The rules on links, the grants that apps hold."""

from __future__ import annotations

from openlatch.core.flags.catalogue.grants import GRANTS, seasonal
from openlatch.core.flags.facts import GrantFacts
from openlatch.core.flags.rule import Limits, Remedy, When, past
from openlatch.core.vocabulary import Reach

Link = type[GrantFacts]


@GRANTS.rule(
    20,
    "An app that is not used",
    Remedy("Unlink it.", "revoke"),
    "{holder} has not used its link to {account} since {last_used_at:day}; the limit here is {limit:#day}.",
)
def app_unused(link: Link, limit: Limits) -> When:
    """The app was used with this account, but not for longer than this."""
    idle = (link.idle_days > limit.link_unused) & ~seasonal(link.idle_days, link.pause_days, limit.link_unused)
    return When(link.live & link.is_link & idle, past(link.idle_days, limit.link_unused), limit=limit.link_unused)


@GRANTS.rule(
    21,
    "An app with more scopes than it uses",
    Remedy("Trim the link to the smallest level that covers what it uses.", "trim"),
    "{holder} used {rights_used} of the {rights_held} scopes that it has on {account}.",
)
def app_excess(link: Link, limit: Limits) -> When:
    """Of its scopes more than this number went unused, though use has been watched for long enough."""
    spare = link.rights_held - link.rights_used > limit.excess
    known = (link.watched_days >= limit.watched) & (link.rights_used > 0)
    return When(link.live & link.is_link & known & spare, 0, 70)


@GRANTS.rule(
    22,
    "An app's scopes have grown since it was linked",
    Remedy("Have whoever linked it agree to what is new, or unlink it.", "revoke"),
    "“{level}” of {holder} on {account} may do more since {grown_at:day} than when it was linked on {given_at:day}.",
)
def app_grown(link: Link, limit: Limits) -> When:
    """What the app may do was given more permissions after somebody agreed to it."""
    return When(link.live & link.is_link & link.grown, 60)


@GRANTS.rule(
    23,
    "An app whose publisher is not known",
    Remedy("Find out who publishes it, or unlink it.", "revoke"),
    "Nobody knows who publishes {holder}, which is linked to {account} (“{level}”).",
)
def app_unknown(link: Link, limit: Limits) -> When:
    """It names no publisher, or none that the organisation knows."""
    return When(link.live & link.is_link & ~link.publisher_known, 20)


@GRANTS.rule(
    24,
    "An app's token is too old",
    Remedy("Have the app get a new token, then end the old one.", ""),
    "{holder} has used the same token for {account} since {credential_since:day}; the limit here is {limit:#day}.",
)
def token_too_old(link: Link, limit: Limits) -> When:
    """The token or key by which the app comes in is older than this."""
    return When(
        link.live & (link.credential_days > limit.credential),
        past(link.credential_days, limit.credential),
        limit=limit.credential,
    )


@GRANTS.rule(
    25,
    "Whoever linked the app has left",
    Remedy("Have somebody who is there agree to it, or unlink it.", "revoke"),
    "{given_by} linked {holder} to {account} and left on {giver_left_at:day}; it still acts on their word.",
)
def app_consenter_left(link: Link, limit: Limits) -> When:
    """The person who agreed to what the app may do has left."""
    return When(link.live & link.is_link & link.giver_left, 40)


@GRANTS.rule(
    26,
    "An app that can spend or steward",
    Remedy("Trim the link to a lower level.", "trim"),
    "{holder} {reach:reach} on {account} (“{level}”), and no person stands behind each time that it does.",
)
def app_far_reach(link: Link, limit: Limits) -> When:
    """An app can spend or steward on an account of high or critical sensitivity."""
    return When(link.live & link.is_link & (link.reach >= Reach.SPEND) & (link.sensitivity >= 3), 20)
