"""The mail server of an organisation: set in the console, and used by the worker. Its password is write-only."""

from __future__ import annotations

import base64

from cryptography.fernet import InvalidToken
from sqlalchemy import select

from openlatch import schemas
from openlatch.core.files.records import BadField
from openlatch.core.files.records import address as read_address
from openlatch.errors import BadInput
from openlatch.json_values import JsonObject
from openlatch.service.notifications import notices
from openlatch.service.notifications.notices import Post
from openlatch.service.unit import Service, Unit, Viewer
from openlatch.store.tables import Mail, Organisation, Person

TEST_SUBJECT = "A test message from Open Latch"


def _held(unit: Unit) -> JsonObject:
    settings = unit.db.get_one(Organisation, unit.viewer.organisation).settings
    found: JsonObject = settings.get("mail", {})
    return found


def shown(unit: Unit) -> schemas.MailSettings:
    """The settings without the password, and the result of the last test message."""
    unit.sight.require_administrator()
    held = _held(unit)
    test = unit.db.scalars(select(Mail).where(Mail.subject == TEST_SUBJECT).order_by(Mail.created_at.desc())).first()
    return schemas.MailSettings(
        host=held.get("host", ""),
        port=held.get("port", 587),
        user=held.get("user", ""),
        sender=held.get("sender", ""),
        starttls=held.get("starttls", True),
        has_password=bool(held.get("password")),
        by_configuration=not held.get("host"),
        test_state=test.state if test else "",
        test_answer=test.answer if test else "",
        test_at=test.created_at if test else None,
    )


def change(
    unit: Unit, host: str, port: int, user: str, password: str | None, sender: str, starttls: bool
) -> schemas.MailSettings:
    """Change the settings; without a host the worker's configuration applies. A password of None stays as it is."""
    unit.sight.require_administrator()
    unit.require_proof("Changing how mail is sent")
    row = unit.db.get_one(Organisation, unit.viewer.organisation, with_for_update=True)
    if host:
        try:
            sender = read_address(sender, unit.zone)
        except BadField as fault:
            raise BadInput(
                f"The sender's address {fault}.", "Write it as access@example.org.", {"sender": str(fault)}
            ) from None
        if any(c.isspace() or c in "/@" for c in host):
            raise BadInput(f"{host!r} is no server's name.", "Write it as mail.example.org.", {"host": "is no name"})
    held = dict(row.settings.get("mail", {}))
    secret = held.get("password", "") if password is None else _sealed(unit, password)
    mail: JsonObject = {
        "host": host,
        "port": port,
        "user": user,
        "sender": sender,
        "starttls": starttls,
        "password": secret,
    }
    row.settings = {**row.settings, "mail": mail if host else {}}
    told = {name: value for name, value in mail.items() if name != "password"}
    unit.record("settings.mail_changed", "organisation", row.id, row.name, server=told)
    unit.db.flush()
    return shown(unit)


def _sealed(unit: Unit, password: str) -> str:
    return base64.b64encode(unit.service.cipher.encrypt(password.encode())).decode() if password else ""


def send_test(unit: Unit) -> schemas.MailSettings:
    """Write a test message to the viewer; its result is shown with the settings."""
    unit.sight.require_administrator()
    person = unit.db.get(Person, unit.viewer.person) if unit.viewer.person else None
    if person is None or not person.address:
        raise BadInput("No address is known of you.", "Add one on your own page.")
    letter = notices.Letter(
        TEST_SUBJECT,
        (f"Hello {person.name},", "This message shows that Open Latch can send mail. There is nothing to do."),
    )
    notices.write(unit, person.address, letter)
    unit.record("settings.mail_tested", "organisation", unit.viewer.organisation, person.name)
    unit.db.flush()
    return shown(unit)


def post_of(service: Service, viewer: Viewer, usual: Post | None) -> Post | None:
    """The mail server for an organisation: its own, or the configured one."""
    with service.unit(viewer) as unit:
        held = _held(unit)
        if not held.get("host"):
            return usual
        try:
            kept = base64.b64decode(held.get("password", ""))
            password = service.cipher.decrypt(kept).decode() if kept else ""
        except InvalidToken:
            password = ""
        return Post(held["host"], held["port"], held["sender"], held["user"], password, held["starttls"])
