"""Notifying people: notices in the console, and mail through an outbox from which the worker sends.

Mail is written in the transaction that it is about, so nobody hears of what did not happen. Its content can hold a link
that opens something, so it is encrypted until it is sent, and then deleted.
"""

from __future__ import annotations

import json
import smtplib
import ssl
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from datetime import timedelta
from email.message import EmailMessage
from email.utils import formatdate, make_msgid
from uuid import UUID

from jinja2 import Environment, PackageLoader, StrictUndefined
from sqlalchemy import select

from openlatch.core.access.paths import everyone_reaching
from openlatch.core.retries import wait_after
from openlatch.core.vocabulary import HolderKind, MailState, Reach
from openlatch.json_values import JsonObject
from openlatch.languages import ENGLISH, language_of
from openlatch.languages.catalogue import Catalogue, catalogue_of
from openlatch.service.unit import Service, Unit, Viewer
from openlatch.store.access import subgraph
from openlatch.store.database import alone
from openlatch.store.due import is_over
from openlatch.store.tables import Account, Mail, Notice, Person, SignIn

_TEMPLATES = Environment(
    loader=PackageLoader("openlatch.service.notifications", "."), autoescape=True, undefined=StrictUndefined
)
SMTP_SECONDS = 20
GIVE_UP_AFTER = timedelta(days=3)
MOST_AT_ONCE = 50
# What people may want no mail of, by the kinds of notices; they see the notices all the same. Of what concerns who they
# are and who decides about their accounts they get mail in any case.
OPTIONAL = ("review", "offer", "request", "grant", "ending", "flag", "account")
# Tries of a message that can't be composed.
HOPELESS_TRIES = 3


@dataclass(frozen=True, slots=True)
class Letter:
    """A message to one person: paragraphs, and optionally one link with its label."""

    subject: str
    paragraphs: tuple[str, ...]
    link: str = ""
    link_words: str = ""
    language: str = ENGLISH

    def translated(self, catalogue: Catalogue | None) -> Letter:
        """The same message in a language; as it is without one."""
        if catalogue is None:
            return self
        say, language = catalogue.say, catalogue.language
        paragraphs = tuple(map(say, self.paragraphs))
        return Letter(say(self.subject), paragraphs, self.link, say(self.link_words), language)

    @property
    def plain(self) -> str:
        """As plain text."""
        parts = [*self.paragraphs, *([f"{self.link_words}:\n{self.link}"] if self.link else [])]
        return "\n\n".join(parts) + "\n"

    @property
    def html(self) -> str:
        """As HTML without pictures; nothing is fetched."""
        return _TEMPLATES.get_template("letter.html").render(letter=self)


@dataclass(frozen=True, slots=True)
class Post:
    """The mail server (SMTP, RFC 5321) and the sender's address."""

    host: str
    port: int
    sender: str
    user: str = ""
    password: str = ""
    starttls: bool = False

    def send(self, recipient: str, letter: Letter) -> None:
        """Send one message; OSError or SMTPException when the server does not take it."""
        message = EmailMessage()
        message["Subject"], message["From"], message["To"] = _in_one_line(letter.subject), self.sender, recipient
        message["Date"], message["Message-ID"] = formatdate(), make_msgid(domain=self.sender.rpartition("@")[2])
        message["Auto-Submitted"] = "auto-generated"
        message.set_content(letter.plain)
        message.add_alternative(letter.html, subtype="html")
        with smtplib.SMTP(self.host, self.port, timeout=SMTP_SECONDS) as server:
            if self.starttls:
                server.starttls(context=ssl.create_default_context())
            if self.user:
                server.login(self.user, self.password)
            server.send_message(message)


def tell(unit: Unit, people: Iterable[UUID | None], kind: str, sentence: str, page: str = "") -> None:
    """Show a notice to each of these people."""
    for person in dict.fromkeys(people):
        if person is not None:
            unit.db.add(
                Notice(
                    organisation_id=unit.viewer.organisation,
                    person_id=person,
                    kind=kind,
                    sentence=sentence,
                    page=page,
                    at=unit.now,
                )
            )
            unit.kinds.add("notice")


def write(unit: Unit, recipient: str | None, letter: Letter) -> None:
    """Put a message into the outbox; nothing for somebody without an address."""
    if not recipient:
        return
    content = json.dumps({"paragraphs": letter.paragraphs, "link": letter.link, "link_words": letter.link_words})
    unit.db.add(
        Mail(
            organisation_id=unit.viewer.organisation,
            recipient=recipient,
            subject=letter.subject,
            content=unit.service.cipher.encrypt(content.encode()),
            next_try_at=unit.now,
        )
    )
    unit.wake("send_mail")


def tell_and_write(
    unit: Unit,
    people: Iterable[UUID | None],
    kind: str,
    sentence: str,
    page: str = "",
    known: Mapping[UUID, str | None] | None = None,
) -> None:
    """Show a notice to each of these people, and mail it to them; ``known`` are addresses already looked up."""
    tell_each(unit, [(people, sentence)], kind, page, known)


def tell_each(
    unit: Unit,
    messages: Iterable[tuple[Iterable[UUID | None], str]],
    kind: str,
    page: str = "",
    known: Mapping[UUID, str | None] | None = None,
) -> None:
    """Show each of these sentences to its people, and mail it to them; who they are is looked up once for all."""
    wanted = [([p for p in dict.fromkeys(people) if p is not None], sentence) for people, sentence in messages]
    everybody = {person for people, _ in wanted for person in people}
    found = addresses(unit, everybody) if known is None else known
    quiet = _without_mail(unit, everybody, kind)
    link = unit.service.address + page if page else ""
    for people, sentence in wanted:
        tell(unit, people, kind, sentence, page)
        letter = Letter(sentence.rstrip("."), (sentence,), link, "Look at it" if link else "")
        for person in sorted(set(people) - quiet):
            write(unit, found.get(person), letter)


def _without_mail(unit: Unit, people: Iterable[UUID], kind: str) -> set[UUID]:
    """Those of these people who want no mail of a kind."""
    if kind not in OPTIONAL:
        return set()
    wanted = select(SignIn.person_id).where(
        SignIn.person_id.in_(list(people)), SignIn.preferences["no_mail"].contains([kind])
    )
    return set(unit.db.scalars(wanted))


def addresses(unit: Unit, people: Iterable[UUID]) -> dict[UUID, str | None]:
    """The addresses of people."""
    return dict(unit.db.execute(select(Person.id, Person.address).where(Person.id.in_(list(people)))).all())


def stewards(unit: Unit, account: UUID) -> set[UUID]:
    """The people who decide who gets into an account, its owner among them."""
    paths = everyone_reaching(subgraph.around_accounts(unit.db, [account]), account, unit.now)
    return {p.holder.id for p in paths if p.holder.kind is HolderKind.PERSON and p.reach is Reach.STEWARD}


def answerers(unit: Unit, account: UUID | None) -> set[UUID]:
    """Who answers for an account: its owner, else the administrators."""
    owner = unit.db.scalar(select(Account.owner_id).where(Account.id == account)) if account else None
    return {owner} if owner else administrators(unit)


def administrators(unit: Unit) -> set[UUID]:
    """The people who administer the organisation."""
    return set(unit.db.scalars(select(SignIn.person_id).where(SignIn.administrator.is_(True))))


def waiting(unit: Unit) -> bool:
    """Whether any mail is due to be sent."""
    due = select(Mail.id).where(Mail.state == MailState.WAITING, is_over(Mail.next_try_at, unit.now))
    return unit.db.scalar(due.limit(1)) is not None


def send_due(service: Service, organisation: UUID, post: Post | None) -> int:
    """Send the waiting mail of an organisation; returns how many were sent.

    Each message is taken in one transaction, sent outside of any, and its outcome committed in another. One worker at a
    time sends for an organisation. A process killed between sending and committing sends a message again: better twice
    than never.
    """
    sent = 0
    viewer = Viewer.itself(organisation)
    with alone(service.engine, f"send mail {organisation}") as only_us:
        for _ in range(MOST_AT_ONCE if only_us else 0):
            taken = _take(service, viewer)
            if taken is None:
                break
            ident, recipient, letter = taken
            failure = _try(post, recipient, letter)
            sent += failure is None
            with service.unit(viewer) as unit:
                _put_away(unit, unit.db.get_one(Mail, ident, with_for_update=True), failure)
    return sent


def _take(service: Service, viewer: Viewer) -> tuple[UUID, str, Letter] | None:
    """The next due message, with one more try counted; not due again for a while, even if this process dies."""
    with service.unit(viewer) as unit:
        due = select(Mail).where(Mail.state == MailState.WAITING, is_over(Mail.next_try_at, unit.now))
        row = unit.db.scalars(due.order_by(Mail.next_try_at).limit(1).with_for_update(skip_locked=True)).first()
        if row is None:
            return None
        row.tries, row.next_try_at = row.tries + 1, unit.now + wait_after(row.tries + 1)
        assert row.content is not None
        letter = Letter(row.subject, **_content(unit, row.content))
        return row.id, row.recipient, letter.translated(catalogue_of(_language(unit, row.recipient)))


def _language(unit: Unit, recipient: str) -> str:
    """The language that whoever has an address has chosen for themselves; English where nothing is known of one."""
    chosen = select(SignIn.preferences["locale"].astext).join(Person, Person.id == SignIn.person_id)
    return language_of(unit.db.scalar(chosen.where(Person.address == recipient).limit(1)))


def _try(post: Post | None, recipient: str, letter: Letter) -> Exception | None:
    """Send one message; returns the error, so that a message that can't be sent fails alone."""
    try:
        if post is None:
            raise OSError("no mail server is configured (smtp_host)")
        post.send(recipient, letter)
    except (OSError, smtplib.SMTPException, ValueError, LookupError) as error:
        return error
    return None


def _in_one_line(text: str) -> str:
    """Text for a header: control characters would begin another one (RFC 5322, 2.2)."""
    return " ".join("".join(c if c.isprintable() else " " for c in text).split())


def _put_away(unit: Unit, row: Mail, failure: Exception | None) -> None:
    if failure is None:
        row.state, row.sent_at, row.content, row.answer = MailState.SENT, unit.now, None, ""
        return
    row.answer, row.next_try_at = str(failure)[:500], unit.now + wait_after(row.tries)
    # A message that can't be composed stays so; a server may recover.
    is_hopeless = isinstance(failure, (ValueError, LookupError)) and row.tries >= HOPELESS_TRIES
    if is_hopeless or isinstance(failure, smtplib.SMTPRecipientsRefused) or unit.now - row.created_at > GIVE_UP_AFTER:
        row.state, row.content = MailState.FAILED, None
        unit.record("mail.failed", "mail", row.id, row.subject, answer=row.answer)
        sentence = f"Mail to {row.recipient} could not be sent: “{_in_one_line(row.subject)}”. {row.answer}"
        tell(unit, administrators(unit), "mail_failed", sentence)


def _content(unit: Unit, encrypted: bytes) -> JsonObject:
    held = json.loads(unit.service.cipher.decrypt(encrypted))
    return {**held, "paragraphs": tuple(held["paragraphs"])}
