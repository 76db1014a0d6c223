"""Every call with every id that can be put into it: one that the asker may see, one that they may not, one of another
organisation, and one that nothing has. The last three are answered alike, and looked up alike, so that nothing tells
what there is. What the calls do is rolled back, so that each is made as it would be for real.
"""

from __future__ import annotations

import copy
import re
import typing
from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from typing import Any
from uuid import UUID, uuid4

import psycopg
import pytest
from cryptography.fernet import Fernet
from flask import Flask
from flask.testing import FlaskClient
from pydantic import BaseModel
from sqlalchemy import event

from openlatch import schemas
from openlatch.api.app import make_app
from openlatch.api.routes import api
from openlatch.api.routing import PREFIX, Route
from openlatch.client import CallFailed, Client
from openlatch.demo.loader import PASSWORD
from openlatch.runtime.demo import DATABASE, Demo, Secrets
from openlatch.service.identity import authentication
from openlatch.service.unit import Service, Unit, Viewer
from openlatch.store.database import engine_for, told_apart, transaction
from openlatch.store.migrate import APP_ROLE, WEB_ROLE
from tests.conftest import ROLES
from tests.seeds import in_turn

Ids = dict[str, str]
SOON = f"{datetime.now(UTC) + timedelta(days=20):%Y-%m-%dT%H:%M:%SZ}"

# What an id in a path names, by the word before it; and what one in a body or a query names, by the field's name.
OF_PATHS = {
    "accounts": "account",
    "people": "person",
    "apps": "app",
    "grants": "grant",
    "sessions": "session",
    "flags": "flag",
    "revocations": "revocation",
    "steps": "step",
    "rounds": "round",
    "items": "item",
    "systems": "system",
    "schedules": "schedule",
    "offers": "offer",
    "teams": "team",
    "requests": "request",
    "levels": "level",
    "questions": "question",
    "doubts": "doubt",
    "tokens": "token",
    "large": "change",
    "memberships": "membership",
    "resources": "resource",
    "groups": "group",
    "merges": "merge",
    "sign-ins": "sign_in",
    "invitations": "invitation",
    "identity-providers": "provider",
    "webhooks": "webhook",
    "signal-sources": "signal_source",
    "signal-receivers": "signal_receiver",
    "passkeys": "passkey",
    "trials": "trial",
    "tasks": "task",
    "filters": "filter",
    "partners": "partner",
    "organisations": "sign_in",
    "exposures": "exposure",
    "expected-exposures": "expected",
    "exposure-guards": "guard",
    "rule-drafts": "draft",
}
OF_FIELDS = {
    "account": "account",
    "person": "person",
    "about": "person",
    "to": "person",
    "deputy": "person",
    "successor": "person",
    "successors": "account",
    "speaker": "person",
    "flags": "flag",
    "grant": "grant",
    "grants": "grant",
    "versions": "grant",
    "sessions": "session",
    "trim_level": "level",
    "level": "level",
    "levels": "level",
    "keeps": "level",
    "first": "level",
    "second": "level",
    "resource": "resource",
    "parts": "resource",
    "team": "team",
    "system": "system",
    "notices": "notice",
    "holder.id": "person",
    "reviewers.[].id": "person",
    "seen": "change",
    "items.[].id": "item",
    "latch.account": "account",
    "manager": "person",
    "owner": "person",
    "holder": "person",
    "given_by": "person",
    "member_team": "team",
    "resources": "resource",
    "payer.id": "person",
    "keep": "person",
    "drop": "person",
    "ids": "person",
    "trial": "trial",
    "extends": "grant",
    "part": "resource",
    "joins": "team",
    "leaves": "team",
    "people": "person",
    "mentions": "person",
    "exposures": "exposure",
    "systems": "system",
    "deliveries": "delivery",
}


@dataclass(frozen=True)
class Slot:
    """A place in a call into which an id goes."""

    where: str
    path: tuple[str, ...]
    kind: str


def slots_of(route: Route) -> list[Slot]:
    """Every place for an id. A KeyError names one that is new, and has to be put into the tables above."""
    found = []
    for word, name in re.findall(r"/([a-z-]+)/<uuid:(\w+)>", route.path):
        found.append(Slot("path", (name,), OF_PATHS[word]))
    for where, model in (("body", route.body), ("query", route.query)):
        for path in _ids_in(model) if model else ():
            kind = OF_FIELDS.get(".".join(path[-2:])) or OF_FIELDS.get(".".join(path[-3:]))
            found.append(Slot(where, path, kind or OF_FIELDS[[part for part in path if part != "[]"][-1]]))
    return list(dict.fromkeys(found))


def _ids_in(of: Any, path: tuple[str, ...] = ()) -> Iterator[tuple[str, ...]]:
    if of is UUID:
        yield path
    elif isinstance(of, type) and issubclass(of, BaseModel):
        for name, known in of.model_fields.items():
            yield from _ids_in(known.annotation, (*path, name))
    else:
        many = typing.get_origin(of) in (list, tuple)
        for part in typing.get_args(of):
            yield from _ids_in(part, (*path, "[]") if many else path)


def bodies(ids: Ids) -> dict[str, Any]:
    """A body for every call that takes one, such that it goes through where it may."""
    account, level, grant, person = ids["account"], ids["level"], ids["grant"], ids["colleague"]
    proposal = {"account": account, "to": [{"address": "x@example.com", "name": "X"}], "levels": [level]}
    review = {
        "name": "x",
        "covers": ["grant"],
        "scope": f'account.id eq "{account}"',
        "days_to_decide": 20,
        "reviewers": [{"kind": "owner"}],
    }
    plan = {**review, "recurrence": "month", "starts": "2030-01-01T09:00"}
    suspend = {"kind": "suspend", "grants": [grant], "reason": "Test."}
    latch = {"kind": "most_delegates", "mode": "warn", "account": account, "number": 40}
    draft = {"name": "X", "sentence": "Can do x.", "new": [{"key": "x", "sentence": "Do x", "reach": "observe"}]}
    keep, why = {"verdict": "keep", "reason": "It is used."}, {"reason": "It is over."}
    return {
        "accept_flag": {**why, "until": SOON},
        "accept_flags": {**why, "until": SOON, "flags": [ids["flag"]]},
        "assign_flags": {"flags": [ids["flag"]], "person": person},
        "add_comment": {"text": "X.", "mentions": [person]},
        "preview_revocation": {"grants": [grant]},
        "revoke": {"grants": [grant], **why},
        "step_done": {"proof": "Seen."},
        "skip_step": why,
        "undo_revocation": why,
        "set_reading": {"read_every": 10},
        "set_matching": {"matching": []},
        "read_system": {},
        "decide_doubt": {"person": person},
        "preview_leaving": {},
        "let_leave": why,
        "suppose": {"changes": [{"kind": "end", "grant": grant}]},
        "preview_schedule": plan,
        "make_schedule": plan,
        "make_schedules": plan,
        "change_schedule": plan,
        "open_round": review,
        "preview_round": review,
        "close_round": {"undecided": "keep"},
        "preview_decision": keep,
        "decide": keep,
        "decide_many": {**keep, "items": [{"id": ids["item"]}]},
        "second": {"agree": True},
        "pass_on": {"to": person, "reason": "They know."},
        "ask": {"question": "Why?"},
        "answer_question": {"answer": "So."},
        "explain": why,
        "set_absence": {"since": SOON, "until": "2100-01-01T00:00:00Z"},
        "preview_offer": proposal,
        "send_offer": proposal,
        "change_offer": {"levels": [level]},
        "accept_offer": {"version": 1},
        "decline_offer": {"version": 1},
        "hand_over": {"to": person},
        "set_account": {"emergency_hours": 8},
        "set_speaker": {"speaker": person},
        "ask_access": {"account": account, "reason": "Work."},
        "grant_request": {"levels": [level], "account": account},
        "decline_request": {"words": "No."},
        "give_up": {},
        "make_level": {**draft, "system": ids["system"], "key": "x"},
        "preview_level": draft,
        "change_level": draft,
        "preview_change": suspend,
        "change_grants": suspend,
        "change_many": {**suspend, "only_preview": True},
        "preview_latch": latch,
        "set_latch": latch,
        "switch_in": {"account": account},
        "read_notices": {"notices": [ids["notice"]]},
        "task_done": {"words": "It is done."},
        "assign_task": {"person": person},
        "keep_filter": {"name": "X", "list": "grants"},
        "change_filter": {"name": "X", "list": "grants"},
        "mail_filter": {"every": "day"},
        "preview_move": {"job": "x"},
        "offer_link": {"client": "nobody-here"},
        "answer_partner": {"accepts": True},
        "set_partner_people": {"people": []},
        "confirm_same": {"person": person},
        "end_link": {"reason": "It is over."},
        "switch_organisation": {},
        **exposing(ids),
        **kept_by_hand(ids),
    }


def exposing(ids: Ids) -> dict[str, Any]:
    """The bodies of the calls about what is open to outsiders."""
    these, guard = {"exposures": [ids["exposure"]]}, {"account": ids["account"], "rights": ["see"], "reason": "Never."}
    return {
        "judge_exposures": {**these, "judgement": "to_close"},
        "preview_closing": these,
        "close_exposures": {**these, "reason": "It is over."},
        "preview_boundary": {},
        "set_boundary": {},
        "preview_guard": guard,
        "set_guard": guard,
        "lift_guard": {"reason": "It is over."},
        "apply_rule_draft": {"reason": "It is over."},
        "check_access_rules": {"document": "{}"},
        "draft_access_rules": {"document": "{}"},
    }


def kept_by_hand(ids: Ids) -> dict[str, Any]:
    """The bodies of the calls by which records and sign-ins are kept."""
    account, person, team, system = ids["account"], ids["colleague"], ids["team"], ids["system"]
    known = {"account": account, "holder": person, "level": ids["level"]}
    edits = {"set": {"purpose": "X."}}
    return {
        "make_person": {"name": "X"},
        "edit_person": {"job": "x"},
        "make_team": {"name": "X"},
        "edit_team": {"purpose": "x"},
        "make_membership": {"team": team, "person": person},
        "edit_membership": {"last_day": "2030-01-01"},
        "make_account": {"name": "X", "system": system},
        "edit_account": {"purpose": "x"},
        "make_resource": {"account": account, "name": "X"},
        "edit_resource": {"name": "x"},
        "make_group": {"account": account, "name": "X"},
        "edit_group": {"name": "x"},
        "make_app": {"name": "X"},
        "edit_app": {"purpose": "x"},
        "preview_edit_of_people": {"ids": [person], "set": {"job": "x"}},
        "edit_people": {"ids": [person], "set": {"job": "x"}},
        "preview_edit_of_teams": {"ids": [team], **edits},
        "edit_teams": {"ids": [team], **edits},
        "preview_edit_of_memberships": {"ids": [ids["membership"]], "set": {"last_day": "2030-01-01"}},
        "edit_memberships": {"ids": [ids["membership"]], "set": {"last_day": "2030-01-01"}},
        "preview_edit_of_accounts": {"ids": [account], **edits},
        "edit_accounts": {"ids": [account], **edits},
        "preview_edit_of_resources": {"ids": [ids["resource"]], "set": {"kind": "x"}},
        "edit_resources": {"ids": [ids["resource"]], "set": {"kind": "x"}},
        "preview_edit_of_apps": {"ids": [ids["app"]], **edits},
        "edit_apps": {"ids": [ids["app"]], **edits},
        **{
            name.format(of): {"keep": keep, "drop": ids[f"other_{kind}"]}
            for kind, of, keep in (("person", "people", person), ("app", "apps", ids["app"]))
            for name in ("preview_merge_of_{}", "merge_{}")
        },
        "preview_recording": {"lines": [known]},
        "record_access": {"lines": [known]},
        "set_role": {"role": "member"},
        "invite": {"person": person},
        "rename_passkey": {"name": "X"},
        "add_signal_source": {"name": "X", "issuer": ids.get("issuer", ""), "system": ids["system"]},
        "change_signal_source": {"name": "X", "issuer": "https://login.example.org"},
        "change_webhook": {"name": "X", "url": "https://receiver.example.org/"},
        "rotate_webhook_secret": {"hours": 1},
        "pause_signal_receiver": {"reason": "X"},
        "send_deliveries_again": {},
        "change_provider": {"name": "Fellside login", "issuer": ids.get("issuer", ""), "client_id": "open-latch"},
        "make_system": {"name": "X"},
        "edit_system": {"name": "X"},
        "try_system": {
            "kind": "postgresql",
            "secret": "x",
            "settings": {"host": "127.0.0.1", "database": "x", "user": "x"},
        },
    }


def queries(ids: Ids) -> dict[str, dict[str, str]]:
    """The query of every call that needs one."""
    days = {"one": "2026-01-01T00:00:00Z", "other": "2026-06-01T00:00:00Z"}
    return {
        "past_exposures": {"account": ids["account"], "at": days["one"]},
        "get_facts": {"person": ids["colleague"]},
        "get_access": {"person": ids["person"], "account": ids["account"]},
        "get_difference": days,
        "compare_levels": {"first": ids["level"], "second": ids["level"]},
    }


def shaped(name: str, slot: Slot, ids: Ids, body: Any) -> Any:
    """The body that a slot needs where the usual one has no place for it."""
    if slot.path[:2] == ("to", "[]"):
        return {**body, "to": [{slot.path[2]: ids[slot.kind]}]}
    if slot.path[0] == "reviewers":
        return {**body, "reviewers": [{"kind": "person", "id": ids["colleague"]}]}
    if slot.path[0] == "changes":
        given = {
            "kind": "give",
            "account": ids["account"],
            "level": ids["level"],
            "holder": {"kind": "person", "id": ids["colleague"]},
        }
        changes = {
            "grant": {"kind": "end", "grant": ids["grant"]},
            "team": {"kind": "join", "team": ids["team"], "person": ids["colleague"]},
            "person": {"kind": "join", "team": ids["team"], "person": ids["colleague"]},
            "latch": {
                "kind": "latch",
                "latch": {"kind": "most_delegates", "mode": "hold", "account": ids["account"], "number": 40},
            },
        }
        return {"changes": [changes.get(slot.path[2], given)]}
    if slot.path[0] == "trim_level" and name in ("preview_revocation", "revoke"):
        return {**body, "trim_level": ids["level"]}
    if slot.path[0] == "trim_level":
        return {**body, "verdict": "trim", "trim_level": ids["level"]}
    if slot.path[0] == "terms":
        return {**body, "kind": "set_terms", "terms": [{"level": ids["level"]}]}
    if slot.path == ("resource",) and "rights" in body:
        return {"rights": body["rights"], "reason": body["reason"]}
    if slot.path == ("level",) and "kind" in body:
        return {**body, "kind": "set_level", "level": ids["level"]}
    if slot.path == ("successor",) and "kind" in body:
        return {**body, "kind": "hand_on", "successor": ids["colleague"]}
    return body


def put(target: dict[str, Any], path: tuple[str, ...], value: str) -> None:
    """Put an id into its place."""
    name, *rest = path
    if name in ("successors", "versions"):
        target[name] = {value: None if name == "successors" else 1}
    elif not rest:
        target[name] = value
    elif rest == ["[]"]:
        target[name] = [value]
    elif rest[0] == "[]":
        put(target.setdefault(name, [{}])[0], tuple(rest[1:]), value)
    else:
        put(target.setdefault(name, {}), tuple(rest), value)


class _Back(Exception):
    pass


class Rehearsal(Service):
    """The service as the web process has it, but that nothing that a use case does stays."""

    @contextmanager
    def unit(self, viewer: Viewer) -> Iterator[Unit]:
        try:
            with told_apart(), transaction(self.engine, viewer.organisation) as db:
                unit = Unit(self, db, viewer, self.clock())
                yield unit
                # Sealing would commit: what is written is written out, and goes no further.
                db.flush()
                raise _Back
        except _Back:
            return


# Status, text without ids, and each statement with how often it was sent.
Answer = tuple[int, str, Counter[str]]


@dataclass
class Stage:
    """The rehearsed application, and every statement that it sends to the database."""

    app: Flask
    statements: list[str] = field(default_factory=list)

    def ask(self, token: str, name: str, ids: Ids, slot: Slot | None = None, value: str = "") -> Answer:
        """Status, text without ids, and the statements that it took; with a value in one slot instead of the usual."""
        route = ROUTES[name]
        placed = {slot.path[0]: value} if slot is not None and slot.where == "path" else {}
        body, query = copy.deepcopy(bodies(ids).get(name)), dict(queries(ids).get(name, {}))
        if slot is not None and slot.where == "body":
            body = copy.deepcopy(shaped(name, slot, ids, body or {}))
            put(body, slot.path, value)
        elif slot is not None and slot.where == "query":
            put(query, slot.path, value)
        path = re.sub(
            r"/([a-z-]+)/<uuid:(\w+)>",
            lambda m: f"/{m[1]}/{placed.get(m[2]) or ids[OF_PATHS[m[1]]]}",
            route.path.replace("<key>", f"{ids['account']}~{ids['person']}"),
        )
        headers = {"Authorization": f"Bearer {token}"} if token else {}
        client: FlaskClient = self.app.test_client()
        self.statements.clear()
        answer = client.open(
            PREFIX + path,
            method=route.method,
            headers=headers,
            json=body,
            query_string=query,
        )
        # A fingerprint is of the ids that were sent as well.
        text = re.sub(
            r"[0-9a-f]{8}-[0-9a-f-]{27}|[0-9a-f]{32}|\d{4}-\d\d-\d\dT[\d:.]+", "…", answer.get_data(as_text=True)
        )
        return answer.status_code, text, Counter(self.statements)


ROUTES = {route.name: route for route in api}
ASKED = {
    name: slots_of(route)
    for name, route in ROUTES.items()
    if name not in ("get_own_rule", "drop_rule") and slots_of(route)
}


def neighbour_filled(client: Client) -> None:
    """Let the second organisation have one of everything that has an id."""
    box = client.list("accounts", filter='kind ne "register"').rows[0]
    for kind, content in {
        "teams": "key,name\ncrew,Crew of the pier\n",
        "apps": "key,name\ntimes,Boat Times\n",
        "sessions": "key,account,holder_kind,holder,started_at\nboat,pier,person,olaf,2026-05-01T08:00:00Z\n",
        "resources": "account,key,name,kind,public\npier,slots,Slots,calendar,yes\n",
    }.items():
        client.bring(kind, [content.encode()])
    call = client._transport.call
    level = str(client.list("levels", filter=f'system.id eq "{box.system.id}"').rows[0].id)
    call("PUT", "/latches", json={"kind": "most_delegates", "mode": "warn", "account": str(box.id), "number": 5})
    plan = {"name": "Pier", "covers": ["grant"], "reviewers": [{"kind": "owner"}]}
    call("POST", "/schedules", json={**plan, "recurrence": "year", "starts": "2030-01-01T09:00"})
    call("POST", "/rounds", json=plan)
    offer = {"account": str(box.id), "to": [{"address": "guest@example.com", "name": "Guest"}], "levels": [level]}
    call("POST", "/offers", json=offer)
    call(
        "POST",
        "/requests",
        json={"account_name": "Boats", "owner_address": "x@example.org", "reason": "Work."},
    )
    session = str(client.list("sessions").rows[0].id)
    client.prove(PASSWORD)
    call("POST", "/partners", json={"client": "another-client"})
    guarded_and_drafted(client, box.id)
    call("POST", "/revocations", json={"sessions": [session], "reason": "Over."})


def guarded_and_drafted(client: Client, account: UUID) -> Ids:
    """A guard, an expected exposure and a draft of rules."""
    wish = schemas.SetGuard(account=account, rights=["administer"], reason="Nobody outside.")
    return {
        "guard": str(client.set_guard(wish).id),
        "expected": str(client.expect_exposures("Piers", 'account.name eq "x"', "For a test.").id),
        "draft": str(client.draft_rules(account, "{}").id),
    }


KINDS = {
    "account": "accounts",
    "person": "people",
    "app": "apps",
    "grant": "grants",
    "session": "sessions",
    "flag": "flags",
    "revocation": "revocations",
    "round": "rounds",
    "system": "systems",
    "schedule": "schedules",
    "offer": "offers",
    "team": "teams",
    "request": "requests",
    "level": "levels",
    "resource": "resources",
    "notice": "notices",
    "task": "tasks",
    "exposure": "exposures",
}


@dataclass
class World:
    """Who asks, by which token, and what each of them may see."""

    stage: Stage
    tokens: dict[str, str]
    seen: dict[str, dict[str, set[str]]]
    usual: Ids


def everything(address: str, token: str) -> dict[str, set[str]]:
    """The ids of all that a token's lists show."""
    with Client(address, token) as client:
        found = {}
        for kind, listed in KINDS.items():
            try:
                found[kind] = {str(row.id) for row in client.every(listed)}
            except CallFailed:
                found[kind] = set()
        rounds = found["round"]
        try:
            found["partner"] = {str(row.id) for row in client.partners()}
        except CallFailed:
            found["partner"] = set()
        kinds = {"guard": client.guards, "expected": client.expected_exposures, "draft": client.rule_drafts}
        kinds["provider"] = client.identity_providers
        for kind, rows in kinds.items():
            try:
                found[kind] = {str(row.id) for row in rows()}
            except CallFailed:
                found[kind] = set()
        # Systems are for administrators, but for what can be given in those where one has an account.
        found["system"] |= {str(row.system.id) for row in client.every("accounts")}
        found["item"] = {str(row.id) for one in rounds for row in client.items(UUID(one))}
        found["step"] = {str(s.id) for one in found["revocation"] for s in client.revocation(UUID(one)).step_list}
        return found


@pytest.fixture(scope="module")
def world(stack: Demo, tokens: dict[str, str]) -> Iterator[World]:
    """The demo, with a neighbour that has everything, and people inside an account in both ways."""
    kept = Secrets.of(stack.folder)
    url = stack.register.url(DATABASE, WEB_ROLE, kept.web_password)
    key = kept.secret_key.encode()
    service = Rehearsal(engine_for(url), Fernet(key), address=stack.address, signing_seed=key, holds_secrets=False)
    stage = Stage(make_app(service, url))
    event.listen(service.engine, "before_cursor_execute", lambda *call: stage.statements.append(call[2]))
    with Client(stack.address, tokens["stranger"]) as client:
        neighbour_filled(client)
    with Client(stack.address, tokens["administrator"]) as client:
        client.prove(PASSWORD)
        box = client.list("accounts", filter='name eq "Booking desk mailbox"').rows[0]
        watched = client.list("accounts", filter='name eq "Webcam host"').rows[0]

        def one(kind: str, written: str) -> str:
            return str(client.list(kind, filter=written, limit=1).rows[0].id)

        hook = schemas.SetWebhook(name="X", url="https://receiver.example.org/")
        in_box = f'account.id eq "{box.id}"'
        usual = {
            "account": str(box.id),
            "person": one("people", 'name eq "Jory Penhale"'),
            "colleague": one("people", 'name eq "Mara Oduya"'),
            "grant": one("grants", f'{in_box} and holder.name eq "Jory Penhale" and state eq "active"'),
            "session": one("sessions", in_box),
            "flag": one("flags", f'{in_box} and state eq "open"'),
            "round": one("rounds", 'name eq "Sensitive accounts, autumn"'),
            "level": one("levels", f'system.id eq "{box.system.id}" and reach eq "operate"'),
            "offer": one("offers", f'{in_box} and state eq "pending"'),
            "revocation": one("revocations", 'title co "Old Exporter"'),
            "request": one("requests", 'person.name eq "Saskia Lund"'),
            "team": one("teams", "name pr"),
            "app": one("apps", "name pr"),
            "resource": one("resources", in_box),
            "schedule": one("schedules", "name pr"),
            "system": str(box.system.id),
            "notice": one("notices", "kind pr"),
            "token": str(uuid4()),
            "question": str(uuid4()),
            "doubt": str(uuid4()),
            "change": str(uuid4()),
            "merge": str(uuid4()),
            "trial": str(uuid4()),
            "passkey": str(uuid4()),
            "delivery": str(uuid4()),
            "signal_source": str(uuid4()),
            "signal_receiver": str(client.add_signal_receiver("Desk").receiver.id),
            "webhook": str(client.add_webhook(hook).webhook.id),
            "provider": str(client.identity_providers()[0].id),
            "issuer": client.identity_providers()[0].issuer,
            "partner": str(client.offer_link("a-client", []).id),
            "task": one("tasks", f'{in_box} and state eq "open"'),
            "filter": str(client.keep_filter(schemas.KeepFilter(name="X of the owner", list="people")).id),
        }
        usual |= _kept_ids(client, usual, box.id) | guarded_and_drafted(client, box.id)
        usual["exposure"] = one("exposures", 'account.name eq "Hut web pages"')
        undecided = client.items(UUID(usual["round"]), filter='state eq "undecided"', sort="position")
        usual["item"] = str(next(row.id for row in undecided if _can_be_asked(client, row)))
        usual["step"] = str(client.revocation(UUID(usual["revocation"])).step_list[0].id)
        steward = client.list("people", filter='name eq "Ivo Radley"').rows[0]
    engine = engine_for(stack.register.url(DATABASE, APP_ROLE, kept.app_password), 1)
    with transaction(engine, UUID(organisation_of(stack))) as db:
        authentication.make_sign_in(
            db, UUID(organisation_of(stack)), steward.id, "ivo.radley@survey.example.com", PASSWORD
        )
    engine.dispose()
    known = {"": "", **tokens}
    with Client(stack.address) as client:
        for name, address, account in (
            ("delegate inside", ROLES["delegate"], box.id),
            ("steward", "ivo.radley@survey.example.com", None),
            ("steward inside", "ivo.radley@survey.example.com", watched.id),
        ):
            known[name] = client.make_token(address, PASSWORD).token
            with Client(stack.address, known[name]) as own:
                if account is not None:
                    own._transport.call("POST", "/me/switch", json={"account": str(account)})
        known["exchanged token"] = client.exchange(tokens["delegate"], box.id)["access_token"]
    seen = {name: everything(stack.address, token) for name, token in known.items() if token}
    for name, of in seen.items():
        # Whoever sees an item is shown those who could decide it instead.
        if usual["item"] in of["item"]:
            with Client(stack.address, known[name]) as client:
                row = client.item(UUID(usual["round"]), UUID(usual["item"]))
                of["person"] |= {str(person.id) for person in client.better_reviewers(row)}
    yield World(stage, known, seen, usual)
    service.engine.dispose()


def _kept_ids(client: Client, usual: Ids, account: UUID) -> Ids:
    """What can be edited besides, among it a second record of somebody, who is invited to sign in."""
    twin = client.make_record("people", {"name": "Mara Oduya (again)", "address": "m.oduya@example.com"})
    return {
        "membership": str(client.team(UUID(usual["team"])).members[0].id),
        "other_person": str(twin.id),
        "other_app": str(client.list("apps", limit=2).rows[1].id),
        "group": str(next(part.id for part in client.account(account).parts if part.group)),
        "sign_in": str(next(row.id for row in client.sign_ins() if row.person.name == "Lene Marsh")),
        "invitation": str(client.invite(schemas.Invite(person=twin.id)).id),
    }


def _can_be_asked(client: Client, row: schemas.ItemRow) -> bool:
    """Whether there is somebody to put a question to: tests that ran before may have had the holder leave."""
    holder = client.list("people", filter=f'id eq "{row.facts.get("holder", {}).get("id")}"', limit=1).rows
    return bool(holder) and holder[0].standing != "left"


def organisation_of(stack: Demo) -> str:
    """The id of the demo's organisation."""
    with psycopg.connect(stack.register.url(DATABASE)) as db:
        found = db.execute("select id from organisations where slug = 'hollin-fell'").fetchone()
        assert found is not None
        return str(found[0])


def test_every_call_is_here() -> None:
    """One with an id in a new place, or with a body that is not written down above, fails."""
    with_body = {name for name, route in ROUTES.items() if route.body is not None and name in ASKED}
    assert (
        with_body
        - set(bodies(dict.fromkeys([*OF_PATHS.values(), *KINDS, "colleague", "other_person", "other_app"], "x")))
        == set()
    )
    assert len(ASKED) > 80


# What is refused to an administrator also with ids that they see: nothing there is in the state for it, or it is for
# somebody else.
NOT_NOW = {
    # It has made no stream.
    "verify_signal_receiver": 409,
    "end_token": 404,
    # The issuer tells nothing of the kind.
    "add_signal_source": 422,
    "change_signal_source": 404,
    "remove_signal_source": 404,
    "clear_report": 404,
    "reopen_flag": 409,
    "read_system": 404,
    "decide_doubt": 404,
    "report_leaving": 409,
    "get_evidence": 409,
    "second": 409,
    "undo": 409,
    "answer_question": 404,
    "explain": 409,
    "retry_item": 409,
    "accept_offer": 404,
    "decline_offer": 404,
    "withdraw_request": 403,
    "give_up": 404,
    "decide_many": 422,
    "get_large_change": 404,
    "stop_large_change": 404,
    "undo_merge": 404,
    "end_own_session": 404,
    "rename_passkey": 404,
    "remove_passkey": 404,
    "reset_sign_in_factor": 409,
    "remove_person": 409,
    "remove_team": 409,
    "remove_account": 409,
    "remove_app": 409,
    "archive_account": 409,
    "archive_team": 409,
    "archive_app": 409,
    "remove_group": 409,
    "archive_group": 409,
    "get_system_trial": 404,
    "unlink_sign_in": 404,
    "switch_organisation": 403,
    "answer_partner": 409,
    "confirm_same": 409,
    "end_session": 404,
    "remove_level": 409,
    "archive_level": 409,
    "remove_resource": 409,
    "archive_resource": 409,
    "apply_rule_draft": 409,
    "narrow_exposure": 409,
    "set_guard_again": 409,
    "remove_system": 409,
    "preview_erasing": 409,
    "erase_person": 409,
}


def test_the_calls_go_through_for_whoever_may(world: World) -> None:
    """So that what is refused below is refused for its ids."""
    wrong = {}
    for name in ASKED:
        status, text, _ = world.stage.ask(world.tokens["administrator"], name, world.usual)
        if status >= 300 and status != NOT_NOW.get(name):
            wrong[name] = (status, text[:300])
    assert wrong == {}, "\n".join(f"{name}: {told}" for name, told in wrong.items())


ASKERS = [
    "",
    "administrator",
    "owner",
    "reviewer",
    "delegate",
    "stranger",
    "steward",
    "delegate inside",
    "steward inside",
    "exchanged token",
]


# Whoever is inside an account may go on into another that they reach.
FROM_OUTSIDE = {"delegate inside": "delegate", "steward inside": "steward"}


@pytest.mark.parametrize("asker", ASKERS)
def test_nothing_tells_what_there_is(world: World, stack: Demo, asker: str) -> None:
    """An id that one may not see, and one of another organisation, are answered as one that nothing has.

    In a usual run each call is tried by some of those who ask.
    """
    token, own = world.tokens[asker], world.seen.get(asker, {})
    neighbour = "administrator" if asker == "stranger" else "stranger"
    wrong = []
    for number, (name, slots) in enumerate(ASKED.items()):
        for slot in slots if in_turn(number, ASKERS.index(asker), 5) else ():
            mine = world.seen[FROM_OUTSIDE.get(asker, asker)] if name == "switch_in" and asker else own
            theirs = world.seen["administrator"].get(slot.kind, set()) - mine.get(slot.kind, set())
            foreign = world.seen[neighbour].get(slot.kind, set())
            for whose, ids in (("unseen", theirs), ("another organisation's", foreign)):
                told = told_apart_from_nothing(world, token, name, slot, min(ids)) if ids else ""
                if told:
                    wrong.append((slot.kind, min(ids), f"{name} {'.'.join(slot.path)} {whose}: {told}"))
    # What the worker does meanwhile, such as putting an item before somebody, may have let them see more.
    now = everything(stack.address, token) if wrong and token else {}
    told_of = [told for kind, ident, told in wrong if ident not in now.get(kind, set())]
    assert told_of == [], "\n".join(told_of)


def told_apart_from_nothing(world: World, token: str, name: str, slot: Slot, value: str) -> str:
    """How a call with an id is answered otherwise than with one that nothing has; empty when it is not.

    Asked again when it is: what a process looks up now and then is not about the id, and is not in each answer.
    """
    told = ""
    for _ in range(5):
        answers = [world.stage.ask(token, name, world.usual, slot, one) for one in (str(uuid4()), value)]
        told = differs(*answers)
        if not told:
            break
    return told


def differs(nothing: Answer, told: Answer) -> str:
    """How an answer differs from the one for what nothing has, in how many statements it took, too; else empty."""
    if told[:2] != nothing[:2]:
        return f"{told[0]} instead of {nothing[0]}: {told[1][:300]} instead of {nothing[1][:300]}"
    if told[2].total() == nothing[2].total():
        return ""
    more, fewer = told[2] - nothing[2], nothing[2] - told[2]
    return f"{told[2].total()} statements instead of {nothing[2].total()}: more {list(more)}, fewer {list(fewer)}"
