"""Systems, their logins, and tasks by hand."""

from __future__ import annotations

import time
from collections.abc import Mapping, Sequence
from uuid import UUID

from openlatch import schemas
from openlatch.client.base import Calls

TRIAL_SECONDS = 60


class SystemsCalls(Calls):
    """Systems, their logins, and tasks by hand."""

    def read_system(self, ident: UUID, fully: bool = False) -> None:
        """Schedule a read now; ``fully`` also of what its change tokens say is unchanged."""
        self._transport.call("POST", f"/systems/{ident}/read", params={"fully": str(fully).lower()})

    def set_reading(self, ident: UUID, minutes: int) -> schemas.SystemRow:
        """Say every how many minutes a system is read."""
        return self._ask(schemas.SystemRow, "PUT", f"/systems/{ident}/reading", schemas.SetReading(read_every=minutes))

    def set_matching(self, ident: UUID, rules: Sequence[tuple[str, bool]]) -> schemas.SystemRow:
        """Say by which marks people are told in a system, each with whether it is enough alone."""
        body = schemas.SetMatching.model_validate({"matching": rules})
        return self._ask(schemas.SystemRow, "PUT", f"/systems/{ident}/matching", body)

    def doubts(self) -> Sequence[schemas.Doubt]:
        """Logins that may be somebody's, for a person to decide."""
        return self._get(schemas.Doubts, "/doubts").doubts

    def decide_doubt(self, ident: UUID, person: UUID | None) -> None:
        """Say whose a login is; nobody's whom the register knows with None."""
        self._ask(schemas.Done, "POST", f"/doubts/{ident}/decide", schemas.DecideDoubt(person=person))

    def permissions(self, system: UUID) -> list[schemas.PermissionOf]:
        """Every permission of a system."""
        return self._ask(schemas.PermissionRow, "GET", f"/systems/{system}/permissions").permissions

    def task_done(self, ident: UUID, words: str, version: int | None = None) -> schemas.TaskRow:
        """Say that something was done by hand, in one's own words."""
        return self._ask(schemas.TaskRow, "POST", f"/tasks/{ident}/done", schemas.TaskDone(words=words), version)

    def assign_task(self, ident: UUID, person: UUID | None, version: int | None = None) -> schemas.TaskRow:
        """Say who does something by hand."""
        return self._ask(schemas.TaskRow, "POST", f"/tasks/{ident}/assign", schemas.TaskAssign(person=person), version)

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
