"""The calls about the settings of the organisation, and its first set-up."""

from __future__ import annotations

from flask import Response

from openlatch import schemas
from openlatch.api.routes.identity import signed_in
from openlatch.api.routing import api, origin, the_service
from openlatch.service.accounts import settings
from openlatch.service.identity import set_up
from openlatch.service.notifications import mail_server
from openlatch.service.unit import Unit


@api.add("GET", "/settings", "How the organisation gives access", schemas.Settings)
def get_settings(unit: Unit) -> schemas.Settings:
    """Its hours for offers, its own domains, and what everybody needs to accept."""
    return settings.shown(unit)


@api.add("PUT", "/settings", "Set how the organisation gives access", schemas.Settings, body=schemas.SetSettings)
def set_settings(unit: Unit, body: schemas.SetSettings) -> schemas.Settings:
    """For administrators."""
    return settings.change(
        unit,
        body.offer_hours,
        body.inside_domains,
        list(body.prerequisites),
        body.auditors,
        body.remind_days,
        body.keep_left_months,
        body.when_deactivated,
    )


@api.add("GET", "/set-up", "Whether the service is to be set up", schemas.SetUpState, open=True)
def get_set_up() -> schemas.SetUpState:
    """It is while there is no organisation."""
    return schemas.SetUpState(needed=set_up.is_needed(the_service()))


@api.add("POST", "/set-up", "Set up the first organisation", schemas.Me, body=schemas.SetUp, open=True)
def carry_out_set_up(body: schemas.SetUp) -> Response:
    """With the code that the start printed; whoever does is its administrator, and signed in."""
    who = set_up.set_up(
        the_service(), body.code, body.organisation, body.time_zone, body.name, body.address, body.password, origin()
    )
    return signed_in(who)


@api.add(
    "PUT", "/organisation", "Name the organisation, and set its time zone", schemas.Me, body=schemas.SetOrganisation
)
def set_organisation(unit: Unit, body: schemas.SetOrganisation) -> schemas.Me:
    """From then on days and times are shown in that time zone."""
    return settings.set_organisation(unit, body.name, body.time_zone)


@api.add("GET", "/settings/mail", "Which server mail goes through", schemas.MailSettings)
def get_mail_settings(unit: Unit) -> schemas.MailSettings:
    """Without its password; with what became of the last test message."""
    return mail_server.shown(unit)


@api.add("PUT", "/settings/mail", "Set which server mail goes through", schemas.MailSettings, body=schemas.SetMail)
def set_mail_settings(unit: Unit, body: schemas.SetMail) -> schemas.MailSettings:
    """Without a host the worker's configuration counts."""
    return mail_server.change(unit, body.host, body.port, body.user, body.password, body.sender, body.starttls)


@api.add("POST", "/settings/mail/test", "Send yourself a test message", schemas.MailSettings, status=202)
def test_mail_settings(unit: Unit) -> schemas.MailSettings:
    """What becomes of it is shown with the settings."""
    return mail_server.send_test(unit)
