"""The settings of the organisation."""

from __future__ import annotations

from openlatch import schemas
from openlatch.client.base import Calls


class SettingsCalls(Calls):
    """The settings of the organisation."""

    def settings(self) -> schemas.Settings:
        """How the organisation gives access."""
        return self._ask(schemas.Settings, "GET", "/settings")

    def set_settings(self, settings: schemas.SetSettings) -> schemas.Settings:
        """Set it."""
        return self._ask(schemas.Settings, "PUT", "/settings", settings)

    def is_set_up(self) -> bool:
        """Whether there is an organisation already."""
        return not self._get(schemas.SetUpState, "/set-up").needed

    def set_up(self, wish: schemas.SetUp) -> schemas.Me:
        """Set up the first organisation, with the code that the start printed."""
        return self._ask(schemas.Me, "POST", "/set-up", wish)

    def set_organisation(self, name: str, time_zone: str) -> schemas.Me:
        """Name the organisation, and say in which time zone it is."""
        return self._ask(schemas.Me, "PUT", "/organisation", schemas.SetOrganisation(name=name, time_zone=time_zone))

    def mail_settings(self) -> schemas.MailSettings:
        """Which server mail goes through."""
        return self._ask(schemas.MailSettings, "GET", "/settings/mail")

    def set_mail(self, wish: schemas.SetMail) -> schemas.MailSettings:
        """Set which server mail goes through."""
        return self._ask(schemas.MailSettings, "PUT", "/settings/mail", wish)

    def test_mail(self) -> schemas.MailSettings:
        """Have a test message sent to oneself."""
        return self._ask(schemas.MailSettings, "POST", "/settings/mail/test")
