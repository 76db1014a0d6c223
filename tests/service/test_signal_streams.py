"""Security events for others: a stream as the standards have it, its events signed, in order, held, or dropped."""

from __future__ import annotations

import asyncio
import contextlib
import functools
import json
import threading
from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import Any
from uuid import UUID, uuid4

import jwt
import psycopg
import pytest
from flask.testing import FlaskClient
from sqlalchemy import select

from openlatch import schemas
from openlatch.api import signal_streams
from openlatch.api.app import make_app
from openlatch.core import sent_signals as core
from openlatch.core.signals import STREAM_UPDATED, VERIFICATION
from openlatch.errors import BadInput, Conflict, NotAllowed, NotFound
from openlatch.processes import free_port
from openlatch.runtime.cluster import Cluster
from openlatch.service.identity import sign_ins
from openlatch.service.itself import inventory
from openlatch.service.people import erasure, leavers
from openlatch.service.revocations import prepare, revoke
from openlatch.service.signals import receivers, sent_events, sources, subscriptions, transmitter
from openlatch.service.unit import Service
from openlatch.service.webhooks import deliver
from openlatch.store.tables import Delivery, Grant, Person, SignalSource, SignIn, Team
from openlatch.test_systems.app_server import AppServer
from openlatch.worker import announcements
from tests.service.conftest import Small
from tests.service.receiving import Receiver, listening
from tests.waiting import SECONDS, until

MARA = {"format": "email", "email": "mara@example.org"}
OWEN = {"format": "email", "email": "owen@example.net"}


@dataclass
class Stream:
    """A receiver of ours, as it calls the service."""

    small: Small
    http: FlaskClient
    ident: str
    token: str

    def call(self, method: str, path: str, body: Any = None, token: str = "") -> Any:
        answer = self.http.open(
            f"/signals/{path}", method=method, json=body, headers={"Authorization": f"Bearer {token or self.token}"}
        )
        return answer.get_json(silent=True) if answer.status_code < 300 and answer.data else answer.status_code

    def make(self, **more: Any) -> Any:
        return self.call("POST", "stream", {"delivery": {"method": core.POLL}, **more})

    def named(self, **more: Any) -> dict[str, Any]:
        return {"stream_id": self.ident, **more}

    def poll(self, **asked: Any) -> dict[str, str]:
        found = self.call("POST", f"poll/{self.ident}", {"returnImmediately": True, **asked})
        sets: dict[str, str] = found["sets"]
        return sets

    def read(self, token: str) -> dict[str, Any]:
        """What a token says, by the keys that the configuration leads to."""
        keys = jwt.PyJWKSet.from_dict(self.http.get("/.well-known/jwks.json").get_json())
        header = jwt.get_unverified_header(token)
        assert header["typ"] == "secevent+jwt"
        asked = {"verify_iat": False}
        claims: dict[str, Any] = jwt.decode(
            token, keys[header["kid"]].key, ["RS256"], audience="https://desk.example.org", options=asked
        )
        assert "exp" not in claims
        assert "sub" not in claims
        return claims

    def told(self, sets: dict[str, str]) -> list[tuple[str, Any]]:
        read = [self.read(token) for token in sets.values()]
        return [(next(iter(one["events"])).rpartition("/")[2], one["sub_id"]) for one in read]

    def send(self) -> None:
        whose = self.small.itself.organisation
        deliver.deliver(self.small.service, whose, UUID(self.ident), sent_events.SECURITY_EVENTS)

    def revoke(self, grant: UUID | None = None) -> None:
        with self.small.acting_as_administrator("ines") as unit:
            wish = prepare.Wish(grants=(grant or self.small.grant_of("mara", "box"),))
            revoke.start(unit, wish, "The season is over.")

    def leave(self) -> None:
        """Owen leaves."""
        with self.small.acting_as_administrator("ines") as unit:
            heirs = {self.small.account("rota"): self.small.person("ines")}
            leavers.start(unit, leavers.Plan(self.small.person("owen"), heirs), "The season is over.")


@pytest.fixture
def stream(small: Small) -> Stream:
    service: Service = replace(small.service, private_receivers=("127.0.0.1",))
    there = replace(small, service=service)
    with service.unit(small.itself) as unit:
        made = receivers.add(unit, schemas.AddSignalReceiver(name="Desk", audience="https://desk.example.org"))
    return Stream(there, make_app(service, "").test_client(), str(made.receiver.id), made.token)


@pytest.fixture
def receiver() -> Iterator[Receiver]:
    with listening() as made:
        yield made


def test_what_happens_is_fetched_signed_and_comes_until_it_is_acknowledged(stream: Stream) -> None:
    """The end of a grant is an event about whoever holds it: before that somebody has to have asked."""
    stream.revoke()
    made = stream.make(events_requested=[core.SESSION_REVOKED, "https://other.example.org/event"])
    assert made["events_delivered"] == [core.SESSION_REVOKED]
    assert made["aud"] == "https://desk.example.org"
    assert stream.poll() == {}
    stream.small.signed_in("mara")
    with stream.small.service.unit(stream.small.itself) as unit:
        mara = unit.db.scalars(select(SignIn).where(SignIn.person_id == stream.small.person("mara"))).one()
        sign_ins.end_sessions(unit, mara.id)
    first = stream.poll()
    assert stream.told(first) == [("session-revoked", MARA)]
    ((ident, token),) = first.items()
    claims = stream.read(token)
    assert claims["jti"] == ident
    assert claims["iss"] == stream.http.get("/.well-known/ssf-configuration").get_json()["issuer"]
    said = claims["events"][core.SESSION_REVOKED]
    assert said["reason_admin"] == {"en": "Their sessions in Open Latch were ended."}
    assert said["initiating_entity"] == "system"
    assert list(stream.poll()) == [ident]
    assert stream.poll(ack=[ident, "no id"]) == {}
    assert stream.poll() == {}


def test_an_end_of_access_is_pushed_within_the_same_moment_in_order_and_again_after_a_failure(
    stream: Stream, receiver: Receiver
) -> None:
    """With the header that the receiver wants; each token has its id whenever it comes."""
    delivery = {"method": core.PUSH, "endpoint_url": receiver.url, "authorization_header": "Bearer of-the-desk"}
    assert stream.make(delivery=delivery)["delivery"] == {"method": core.PUSH, "endpoint_url": receiver.url}
    receiver.answers = [503, 202, 202]
    stream.revoke()
    service, organisation = stream.small.service, stream.small.itself.organisation
    announcements.tell(service, organisation, deliver.receivers(service, organisation))
    stream.small.clock.forward(seconds=30)
    with stream.small.service.unit(stream.small.itself) as unit:
        assert deliver.due(unit, sent_events.SECURITY_EVENTS) == [UUID(stream.ident)]
        assert deliver.due(unit, deliver.ENTRIES) == []
    stream.send()
    refused, taken = receiver.got
    assert (taken.headers["Content-Type"], taken.headers["Authorization"]) == (sent_events.TYPE, "Bearer of-the-desk")
    assert stream.read(refused.body.decode()) == stream.read(taken.body.decode())
    claims = stream.read(taken.body.decode())
    assert claims["sub_id"] == MARA
    said = claims["events"][core.SESSION_REVOKED]
    assert said["reason_admin"] == {"en": "Access to Box is being revoked."}
    assert said["initiating_entity"] == "admin"
    # Who knows it from before posts nothing to a receiver that fetches by now.
    told = deliver.receivers(service, organisation)
    assert stream.call("PATCH", "stream", stream.named(delivery={"method": core.POLL}))
    stream.leave()
    announcements.tell(service, organisation, told)
    assert len(receiver.got) == 2
    with stream.small.service.unit(stream.small.itself) as unit:
        assert unit.db.scalars(select(Delivery.tries).where(Delivery.state == "waiting")).all() == []
    assert stream.call("PATCH", "stream", stream.named(delivery=delivery))
    # Where events are pushed, nothing is fetched.
    assert stream.call("POST", f"poll/{stream.ident}", {}) == 404


def test_what_is_committed_is_told_at_once_and_a_lost_database_is_noticed(
    stream: Stream, receiver: Receiver, app_url: str, cluster: Cluster, database: str
) -> None:
    """By what transactions announce, without any round of the worker; also to a receiver that was not there before."""
    lost = threading.Event()

    async def follow() -> None:
        with contextlib.suppress(psycopg.OperationalError):
            await announcements.follow(stream.small.service, app_url, announcements.Precedence())
        lost.set()

    def await_all(count: int) -> None:
        until(lambda: len(receiver.got) >= count)
        assert len(receiver.got) == count

    follower = threading.Thread(target=asyncio.run, args=(follow(),), daemon=True)
    follower.start()
    with psycopg.connect(cluster.url(database), autocommit=True) as db:
        until(lambda: db.execute("select true from pg_stat_activity where query ~ '^listen'").fetchone())
    stream.leave()
    stream.make(delivery={"method": core.PUSH, "endpoint_url": receiver.url})
    stream.revoke()
    await_all(1)
    with psycopg.connect(cluster.url(database), autocommit=True) as db:
        db.execute("select pg_terminate_backend(pid) from pg_stat_activity where query ~ '^listen'")
    assert lost.wait(SECONDS)
    follower.join(20)


def test_whoever_leaves_is_told_of_and_whoever_holds_by_a_team(stream: Stream) -> None:
    stream.make()
    small = stream.small
    with small.service.unit(small.itself) as unit:
        wardens = unit.db.scalars(select(Grant.id).where(Grant.team_id == small.id(Team, "wardens"))).one()
    stream.revoke(wardens)
    first = stream.poll()
    assert sorted(stream.told(first), key=str) == [("session-revoked", MARA), ("session-revoked", OWEN)]
    stream.leave()
    told = stream.told(stream.poll(ack=list(first)))
    assert ("account-disabled", OWEN) in told
    assert all(whom == OWEN for _, whom in told)


def test_a_receiver_changes_pauses_disables_and_deletes_its_stream(stream: Stream) -> None:
    """Held events come later; those of a disabled stream never do."""
    assert stream.call("GET", "stream") == []
    assert stream.call("GET", f"stream?stream_id={stream.ident}") == 404
    made = stream.make(description="The desk")
    assert stream.make() == 409
    assert stream.call("GET", "stream") == [made]
    changed = stream.call("PATCH", "stream", stream.named(events_requested=[core.CREDENTIAL_CHANGE]))
    assert (changed["events_delivered"], changed["description"]) == ([core.CREDENTIAL_CHANGE], "The desk")
    replaced = stream.call("PUT", "stream", stream.named(aud=made["aud"], delivery={"method": core.POLL}))
    assert (replaced["events_delivered"], replaced.get("description")) == (list(core.EVENTS), None)
    for status, reason in (("paused", "Works here"), ("paused", "")):
        told = stream.call("POST", "status", stream.named(status=status, reason=reason))
        assert told == stream.named(status="paused", **({"reason": reason} if reason else {}))
    stream.revoke()
    assert stream.poll() == {}
    stream.call("POST", "status", stream.named(status="enabled"))
    assert stream.told(stream.poll()) == [("session-revoked", MARA)]
    stream.call("POST", "status", stream.named(status="disabled"))
    stream.leave()
    assert stream.call("GET", f"status?stream_id={stream.ident}") == stream.named(status="disabled")
    stream.call("POST", "status", stream.named(status="enabled"))
    assert stream.poll() == {}
    assert stream.call("DELETE", f"stream?stream_id={stream.ident}") == 204
    assert stream.call("GET", "stream") == []
    assert stream.call("POST", "verify", stream.named()) == 404


def test_about_whom_and_whether_it_works(stream: Stream) -> None:
    """Somebody is left out and added again; a verification tells the state that was sent, once a minute."""
    stream.make()
    assert stream.call("POST", "subjects/remove", stream.named(subject=MARA)) == 204
    stream.revoke()
    assert stream.poll() == {}
    assert stream.call("POST", "subjects/add", stream.named(subject={"format": "complex", "user": MARA})) == 200
    stream.leave()
    sets = stream.poll()
    assert ("account-disabled", OWEN) in stream.told(sets)
    assert MARA not in [whom for _, whom in stream.told(sets)]
    assert stream.call("POST", "verify", stream.named(state="a1")) == 204
    assert stream.call("POST", "verify", stream.named()) == 429
    (token,) = stream.poll(ack=list(sets)).values()
    claims = stream.read(token)
    assert claims["events"] == {VERIFICATION: {"state": "a1"}}
    assert claims["sub_id"] == {"format": "opaque", "id": stream.ident}
    stranger = {"format": "email", "email": "stranger@example.org"}
    assert stream.call("POST", "subjects/remove", stream.named(subject=stranger)) == 404


def test_what_it_could_not_take_is_shown_and_sent_again(stream: Stream) -> None:
    stream.make()
    stream.revoke()
    ((ident, _),) = stream.poll().items()
    stream.poll(setErrs={ident: {"err": "invalid_key", "description": "No such key"}})
    with stream.small.service.unit(stream.small.itself) as unit:
        (shown,) = receivers.events(unit, UUID(stream.ident), "given_up")
        assert (shown.answer, shown.person.name if shown.person else "") == ("invalid_key: No such key", "Mara")
        assert receivers.rows(unit).receivers[0].given_up == 1
        assert receivers.send_again(unit, UUID(stream.ident)) == 1
    assert list(stream.poll(maxEvents=5)) == [ident]
    assert stream.poll(maxEvents=0) == {}


NESTED = functools.reduce(lambda inner, _: {"format": "complex", "user": inner}, range(700), {"format": "email"})


@pytest.mark.parametrize(
    ("method", "path", "body", "status"),
    [
        ("POST", "stream", {"delivery": {"method": "urn:other"}}, 400),
        ("POST", "stream", {"delivery": {"method": core.PUSH, "endpoint_url": "http://10.0.0.1/"}}, 400),
        ("POST", "stream", {"delivery": {"method": core.PUSH, "endpoint_url": 5}}, 400),
        ("POST", "stream", {"events_requested": "all"}, 400),
        ("POST", "stream", [], 400),
        ("PATCH", "stream", {"description": "x"}, 400),
        ("PATCH", "stream", {"stream_id": "another"}, 404),
        ("POST", "status", {"stream_id": "SAME", "status": "asleep"}, 400),
        ("PATCH", "stream", {"stream_id": "SAME", "aud": "https://else.example.org"}, 400),
        ("POST", "subjects/add", {"stream_id": "SAME", "subject": {"format": "phone_number"}}, 400),
        ("POST", "subjects/add", {"stream_id": "SAME", "subject": NESTED}, 400),
        ("POST", "verify", {"stream_id": "SAME", "state": 5}, 400),
        ("POST", "poll/SAME", {"maxEvents": -1}, 400),
        ("POST", "poll/SAME", {"ack": "all"}, 400),
    ],
)
def test_what_can_not_be_used_is_refused(stream: Stream, method: str, path: str, body: Any, status: int) -> None:
    """With the status that the standards have for it, and nothing is changed."""
    if body == [] or ("delivery" not in body and "events_requested" not in body):
        stream.make()
    before = stream.call("GET", "stream")
    written = json.loads(json.dumps(body).replace("SAME", stream.ident))
    assert stream.call(method, path.replace("SAME", stream.ident), written) == status
    assert stream.call("GET", "stream") == before


def test_a_stream_is_its_receivers_alone(stream: Stream) -> None:
    """By its token; what an administrator holds it can't resume, and is told of that."""
    stream.make()
    with stream.small.service.unit(stream.small.itself) as unit:
        other = receivers.add(unit, schemas.AddSignalReceiver(name="Other"))
    for token, status in (("wrong", 401), (other.token, 404)):
        assert stream.call("POST", f"poll/{stream.ident}", {}, token) == status
        assert stream.call("DELETE", f"stream?stream_id={stream.ident}", None, token) == status
    with stream.small.service.unit(stream.small.itself) as unit:
        held = receivers.set_held(unit, UUID(stream.ident), True, "Under attack")
        assert (held.status, held.reason) == ("paused", "Under attack")
    assert stream.call("POST", "status", stream.named(status="enabled")) == 403
    with stream.small.service.unit(stream.small.itself) as unit:
        receivers.set_held(unit, UUID(stream.ident), False, "")
        receivers.verify(unit, UUID(stream.ident))
    told = [next(iter(stream.read(token)["events"].items())) for token in stream.poll().values()]
    paused, enabled = {"status": "paused", "reason": "Under attack"}, {"status": "enabled"}
    assert told == [(STREAM_UPDATED, paused), (STREAM_UPDATED, enabled), (VERIFICATION, {})]
    with stream.small.service.unit(stream.small.itself) as unit:
        receivers.remove(unit, UUID(stream.ident))
        with pytest.raises(NotFound):
            receivers.one(unit, UUID(stream.ident))
    assert stream.call("GET", "stream") == 401


def test_receivers_are_for_administrators_and_stand_in_the_register(stream: Stream) -> None:
    """Those who are told of people are access to them."""
    ident = UUID(stream.ident)
    with stream.small.acting("mara") as unit:
        for call in (receivers.rows, lambda unit: receivers.events(unit, ident, "")):
            with pytest.raises(NotAllowed):
                call(unit)
    unproved = replace(stream.small.signed_in("ines"), administrator=True, proved_at=None)
    for change in (
        lambda unit: receivers.add(unit, schemas.AddSignalReceiver(name="Third")),
        lambda unit: receivers.remove(unit, ident),
        lambda unit: receivers.set_held(unit, ident, True, ""),
        lambda unit: receivers.verify(unit, ident),
        lambda unit: receivers.send_again(unit, ident),
    ):
        with pytest.raises(NotAllowed, match="fresh proof"), stream.small.service.unit(unproved) as unit:
            change(unit)
    with stream.small.service.unit(stream.small.itself) as unit:
        assert "Receiver of signals Desk" in str(list(inventory.found(unit)))


def test_whoever_waits_is_answered_when_something_happens(stream: Stream, monkeypatch: pytest.MonkeyPatch) -> None:
    """Within a while; without room to wait at once."""
    stream.make()
    monkeypatch.setattr(signal_streams.time, "sleep", lambda _: stream.revoke())
    found = stream.call("POST", f"poll/{stream.ident}", {})
    assert stream.told(found["sets"]) == [("session-revoked", MARA)]
    monkeypatch.setattr(signal_streams._WAITING, "acquire", lambda blocking: False)
    assert stream.call("POST", f"poll/{stream.ident}", {"ack": list(found["sets"])}) == {"sets": {}}


def test_what_waits_about_somebody_is_erased_with_them(stream: Stream) -> None:
    stream.make()
    stream.revoke()
    stream.poll()
    with stream.small.service.unit(stream.small.itself) as unit:
        row = unit.db.get_one(Person, stream.small.person("mara"))
        assert unit.db.scalars(select(Delivery)).all()
        erasure._forget_names(unit, row, "Somebody")
        assert unit.db.scalars(select(Delivery).where(Delivery.person_id == row.id)).all() == []


@pytest.fixture
def reached(stream: Stream) -> Iterator[Stream]:
    """The service as others reach it, and as it reaches itself."""
    port = free_port()
    service = replace(stream.small.service, address=f"http://127.0.0.1:{port}")
    server = AppServer(make_app(service, ""), port)
    server.start()
    transmitter._keys.clear()
    yield replace(stream, small=replace(stream.small, service=service))
    server.stop()


@pytest.mark.parametrize("polls", [False, True])
def test_a_stream_is_made_at_a_transmitter_and_deleted_there(reached: Stream, polls: bool) -> None:
    """Its events come here by either way; a token that is no good, or a second stream, is refused at its field."""
    small, itself = reached.small, reached.small.itself
    wish = schemas.SetSignalSource(name="There", issuer=small.service.address, token=reached.token, polls=polls)
    with pytest.raises(BadInput, match="answers 401"), small.service.unit(itself) as unit:
        sources.add(unit, wish.model_copy(update={"token": "wrong", "name": "Other"}))
    with small.service.unit(itself) as unit:
        made = sources.add(unit, wish).source
    assert (made.delivery, made.audience) == ("poll" if polls else "push", "https://desk.example.org")
    other = wish.model_copy(update={"issuer": "https://other.example.org"})
    with pytest.raises(Conflict, match="at another issuer"), small.service.unit(itself) as unit:
        sources.change(unit, made.id, other, None)
    with pytest.raises(BadInput, match="a stream already"), small.service.unit(itself) as unit:
        sources.add(unit, wish.model_copy(update={"name": "Again"}))
    reached.revoke()
    for _ in range(2):
        if polls:
            subscriptions.fetch(small.service, itself.organisation, made.id)
        else:
            reached.send()
    with small.service.unit(itself) as unit:
        (received,) = sources.received(unit).signals
        assert (received.person.name if received.person else "", received.reason) == (
            "Mara",
            "Access to Box is being revoked.",
        )
        assert unit.db.scalars(select(Delivery.state)).all() == ["delivered"]
        assert sources.remove(unit, made.id) == ""
        assert receivers.rows(unit).receivers[0].status == "not_set_up"


def test_what_can_not_be_fetched_is_told_and_left_to_do(reached: Stream) -> None:
    """With the source; a stream that can't be deleted there is named."""
    small, itself = reached.small, reached.small.itself
    wish = schemas.SetSignalSource(name="There", issuer=small.service.address, token=reached.token, polls=True)
    with small.service.unit(itself) as unit:
        made = sources.add(unit, wish).source
        receivers.set_held(unit, UUID(reached.ident), True, "")
    with small.service.unit(itself) as unit:
        unit.db.get_one(SignalSource, made.id).poll_address = f"{small.service.address}/signals/poll/{uuid4()}"
    subscriptions.fetch(small.service, itself.organisation, made.id)
    with small.service.unit(itself) as unit:
        assert "answers 404" in sources.rows(unit).sources[0].failed
        row = unit.db.get_one(SignalSource, made.id)
        row.stream_id = "another"
        row.stream_token = small.service.cipher.encrypt(b"wrong")
        unit.db.flush()
        assert sources.remove(unit, made.id).endswith("could not be deleted; delete it there.")
