"""The calls of the first set-up, and by which systems and mail are set up. ``Client`` has them all."""

from __future__ import annotations

import time
from collections.abc import Mapping, Sequence
from uuid import UUID

from openlatch import schemas
from openlatch.client.asking import Asking

TRIAL_SECONDS = 60


class SettingUp(Asking):
    """Setting up the service, an organisation, its mail, and its systems."""

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

    def adapters(self) -> Sequence[schemas.AdapterOf]:
        """What each kind of system has to be told."""
        return self._ask(schemas.Adapters, "GET", "/adapters").adapters

    def try_system(
        self, kind: str, settings: Mapping[str, str | int], secret: str | None = None, system: UUID | None = None
    ) -> schemas.SystemTrial:
        """Have the worker try how a system is reached, and wait for what comes of it; a minute at most."""
        wish = schemas.TrySystem(kind=kind, settings=dict(settings), secret=secret, system=system)
        found = self._ask(schemas.SystemTrial, "POST", "/systems/trials", wish)
        deadline = time.monotonic() + TRIAL_SECONDS
        while found.state == "waiting" and time.monotonic() < deadline:
            time.sleep(0.3)
            found = self._ask(schemas.SystemTrial, "GET", f"/systems/trials/{found.id}")
        return found

    def make_system(self, name: str, trial: UUID | None = None) -> schemas.SystemRecord:
        """Add a system: as a trial has shown, or one that is looked after by hand."""
        return self._ask(schemas.SystemRecord, "POST", "/systems", schemas.MakeSystem(name=name, trial=trial))

    def system_record(self, ident: UUID) -> schemas.SystemRecord:
        """A system as it is kept, without its secret."""
        return self._ask(schemas.SystemRecord, "GET", f"/systems/{ident}/record")

    def edit_system(
        self, ident: UUID, name: str | None = None, trial: UUID | None = None, version: int | None = None
    ) -> schemas.SystemRecord:
        """Another name, or another way to reach it that a trial has shown to work."""
        body = schemas.ChangeSystem.model_validate(
            {key: value for key, value in (("name", name), ("trial", trial)) if value is not None}
        )
        return self._ask(schemas.SystemRecord, "PATCH", f"/systems/{ident}", body, version)

    def pause_system(self, ident: UUID, is_paused: bool = True) -> schemas.SystemRecord:
        """Pause the readings of a system, or let it be read again."""
        return self._ask(schemas.SystemRecord, "PUT" if is_paused else "DELETE", f"/systems/{ident}/paused")

    def remove_system(self, ident: UUID) -> None:
        """Remove a system in which no account is."""
        self._ask(schemas.Done, "DELETE", f"/systems/{ident}")
