"""Every call as each kind of sign-in, and as a member of a second organisation."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any
from uuid import uuid4

import httpx
import pytest

import openlatch.api.app  # noqa: F401  its routes put themselves into the table
from openlatch.api.routes import api
from openlatch.api.routing import PREFIX
from openlatch.client import Client
from openlatch.demo.loader import PASSWORD
from openlatch.runtime.demo import Demo
from tests.conftest import ROLES

EVERYBODY = frozenset({"administrator", "owner", "reviewer", "delegate"})
ADMINISTRATOR = frozenset({"administrator"})
OWNER = ADMINISTRATOR | {"owner"}
NOBODY = frozenset[str]()
DAYS = ("2026-01-01T00:00:00Z", "2026-06-01T00:00:00Z")


@dataclass(frozen=True)
class Call:
    """How a route is called in this test, and who may. Bodies are such that a call allowed changes nothing."""

    path: str
    may: frozenset[str]
    body: Any = None
    allowed: int = 200


@pytest.fixture(scope="module")
def ids(stack: Demo, tokens: dict[str, str]) -> dict[str, Any]:
    """Things in the demo that not everybody may see."""
    with Client(stack.address, tokens["administrator"]) as client:

        def one(kind: str, written: str) -> Any:
            return client.list(kind, filter=written, limit=1).rows[0]

        box = one("accounts", 'name eq "Booking desk mailbox"')
        rows = {
            "account": box.id,
            "person": one("people", 'name eq "Jory Penhale"').id,
            "app": one("apps", 'name eq "Guest Forms"').id,
            "grant": one(
                "grants", f'account.id eq "{box.id}" and holder.name eq "Jory Penhale" and state eq "active"'
            ).id,
            "own": one("grants", f'account.id eq "{box.id}" and holder.name eq "Fenna Aldous"').id,
            "session": one("sessions", f'account.id eq "{box.id}"').id,
            "flag": one("flags", f'account.id eq "{box.id}" and state eq "open" and holder.name eq "Jory Penhale"').id,
            "round": one("rounds", 'name eq "Sensitive accounts, autumn"').id,
            "exposure": one("exposures", 'account.name eq "Hut web pages"').id,
            "closed": one("rounds", 'name sw "Old web shop"').id,
            "system": one("systems", 'kind eq "by_hand"').id,
            "revocation": one("revocations", 'title co "Old Exporter"').id,
        }
        rows |= {
            "reached": box.system.id,
            "team": client.list("teams", limit=1).rows[0].id,
            "level": one("levels", 'key eq "answer"').id,
            "offer": one("offers", f'account.id eq "{box.id}" and person.name eq "Fenna Aldous"').id,
            "answered": one("offers", f'account.id eq "{box.id}" and person.name eq "Elin Frost"').id,
            "request": one("requests", 'person.name eq "Fenna Aldous"').id,
            "schedule": client.list("schedules").rows[0].id,
            "wish": one("requests", 'person.name eq "Saskia Lund"').id,
        }
        # One that no other test decides: those begin with the first.
        item = next(iter(client.items(rows["round"], filter='state eq "undecided"', sort="-position")))
        step = client.revocation(rows["revocation"]).step_list[0].id
        return {**rows, "item": item.id, "step": step}


def calls(ids: dict[str, Any]) -> dict[str, Call]:
    """One for every route."""
    lists = {
        f"list_{n}": Call(f"/{n}", EVERYBODY)
        for n in (
            "accounts",
            "people",
            "teams",
            "grants",
            "apps",
            "sessions",
            "flags",
            "rounds",
            "revocations",
            "journal",
            "systems",
            "levels",
            "offers",
            "requests",
            "notices",
            "resources",
            "groups",
            "latches",
            "visits",
            "schedules",
            "questions",
            "tasks",
            "exposures",
        )
    }
    lists |= {
        f"take_{name[5:]}_away": Call(f"/exports/{name[5:]}?format=json&filter=id+eq+%22{uuid4()}%22", EVERYBODY)
        for name in lists
        if name != "list_journal"
    }
    lists["take_journal_away"] = Call("/exports/journal?format=json&filter=position+eq+1", EVERYBODY)
    account, round_, revocation = ids["account"], ids["round"], ids["revocation"]
    wish = {"grants": [str(ids["grant"])]}
    decision = f"/rounds/{round_}/items/{ids['item']}/decision"
    accept = {"reason": "", "until": "2020-01-01T00:00:00Z"}
    return lists | {
        "me": Call("/me", EVERYBODY),
        "get_today": Call("/today", EVERYBODY),
        "get_next_actions": Call("/next", EVERYBODY),
        "get_matter": Call(f"/matters/{account}~{ids['person']}", OWNER),
        "get_account": Call(f"/accounts/{account}", OWNER | {"delegate"}),
        "get_person": Call(f"/people/{ids['person']}", OWNER),
        "get_app": Call(f"/apps/{ids['app']}", OWNER),
        "get_grant": Call(f"/grants/{ids['grant']}", OWNER),
        "get_session": Call(f"/sessions/{ids['session']}", OWNER),
        "get_flag": Call(f"/flags/{ids['flag']}", OWNER),
        "get_access": Call(f"/access?person={ids['person']}&account={account}", OWNER),
        "get_account_access": Call(f"/accounts/{account}/access?at=2026-01-01T00:00:00Z", OWNER),
        "get_person_access": Call(f"/people/{ids['person']}/access", OWNER),
        "get_matrix": Call(f"/accounts/{account}/matrix", OWNER),
        "get_difference": Call(f"/accounts/{account}/difference?one={DAYS[0]}&other={DAYS[1]}", OWNER),
        "suppose": Call("/access/suppose", OWNER, {"changes": [{"kind": "end", "grant": str(ids["grant"])}]}),
        "get_use": Call(f"/grants/{ids['grant']}/use", OWNER),
        "get_map": Call("/map", EVERYBODY),
        "get_attributes": Call("/attributes/grants", EVERYBODY),
        "get_values": Call("/attributes/grants/values?attribute=level", EVERYBODY),
        "get_trends": Call("/trends", ADMINISTRATOR),
        "take_trends_away": Call("/trends/export", ADMINISTRATOR),
        "get_charter": Call("/charter", ADMINISTRATOR),
        "compare_charter": Call("/charter/comparison", ADMINISTRATOR, {"latches": []}),
        "adopt_charter": Call("/charter", ADMINISTRATOR, {"charter": {}, "fingerprint": "0"}, 409),
        "want_trends": Call("/me/trends", ADMINISTRATOR, {"wants": False}),
        "get_words": Call("/words", EVERYBODY),
        "get_day": Call("/days?words=tomorrow", EVERYBODY),
        "get_ends": Call("/ends", EVERYBODY),
        "get_round": Call(f"/rounds/{round_}", ADMINISTRATOR | {"reviewer"}),
        "list_items": Call(f"/rounds/{round_}/items", ADMINISTRATOR | {"reviewer"}),
        "get_revocation": Call(f"/revocations/{revocation}", ADMINISTRATOR),
        "verify_journal": Call("/journal/verify", ADMINISTRATOR),
        "export_journal": Call("/journal/export", ADMINISTRATOR),
        "journal_heads": Call("/journal/heads", ADMINISTRATOR),
        "journal_archive": Call("/journal/archive", ADMINISTRATOR),
        "archived_entries": Call("/journal/archive/entries", ADMINISTRATOR),
        # Bodies from here on are refused by what they say, for whoever gets that far: 422 or 409.
        "add_comment": Call(f"/matters/{account}~{ids['person']}/comments", OWNER, {"text": " "}, 422),
        "postpone_action": Call(
            "/next/postpone", EVERYBODY, {"key": f"end.{uuid4()}", "reason": "Test.", "last_day": "2099-01-01"}, 404
        ),
        "accept_flag": Call(f"/flags/{ids['flag']}/accept", OWNER, accept, 422),
        "accept_flags": Call("/flags/accept", OWNER, {**accept, "flags": [str(ids["flag"])]}, 422),
        "reopen_flag": Call(f"/flags/{ids['flag']}/reopen", OWNER, {}, 409),
        "assign_flags": Call("/flags/assign", OWNER, {"flags": [str(ids["flag"])], "person": str(uuid4())}, 404),
        **ruling(),
        "get_facts": Call(f"/facts?person={ids['person']}", OWNER),
        "preview_revocation": Call("/revocations/preview", OWNER, wish),
        "revoke": Call("/revocations", OWNER, {**wish, "reason": "Test.", "fingerprint": "outdated"}, 409),
        "open_round": Call("/rounds", ADMINISTRATOR, {"name": "x", "scope": 'state eq "none"'}, 422),
        **reviewing(ids),
        "decide": Call(decision, ADMINISTRATOR | {"reviewer"}, {"verdict": "trim", "reason": "x"}, 422),
        "close_round": Call(f"/rounds/{ids['closed']}/close", ADMINISTRATOR, {"undecided": "keep"}, 409),
        "retry_revocation": Call(f"/revocations/{revocation}/retry", ADMINISTRATOR, {}),
        "step_done": Call(f"/revocations/{revocation}/steps/{ids['step']}/done", ADMINISTRATOR, {"proof": ""}, 422),
        "read_system": Call(f"/systems/{ids['system']}/read", ADMINISTRATOR, {}, 404),
        "bring": Call("/imports/nothing", ADMINISTRATOR, "key\n", 422),
        **giving(ids),
        **ending(ids),
        **finding(ids),
        **kept_by_hand(ids),
        **identity(),
        **partners(),
        **webhooks(),
        **exposure(ids),
        **first_hour(ids),
        "end_token": Call(f"/tokens/{uuid4()}", NOBODY),
        "sign_out": Call("/session", EVERYBODY),
    }


def ending(ids: dict[str, Any]) -> dict[str, Call]:
    """The routes about systems, leavers and undoing."""
    revocation, system = f"/revocations/{ids['revocation']}", f"/systems/{ids['system']}"
    leaving, anybody = f"/people/{ids['person']}/leaving", str(uuid4())
    return {
        "set_reading": Call(f"{system}/reading", ADMINISTRATOR, {"read_every": 0}, 422),
        "set_matching": Call(f"{system}/matching", ADMINISTRATOR, {"matching": [["uid", True], ["uid", True]]}, 422),
        "get_doubts": Call("/doubts", ADMINISTRATOR),
        "decide_doubt": Call(f"/doubts/{anybody}/decide", ADMINISTRATOR, {}, 404),
        "skip_step": Call(f"{revocation}/steps/{ids['step']}/skip", ADMINISTRATOR, {"reason": ""}, 422),
        "preview_undo": Call(f"{revocation}/undo", ADMINISTRATOR),
        "undo_revocation": Call(f"{revocation}/undo", ADMINISTRATOR, {"reason": ""}, 422),
        "preview_leaving": Call(f"{leaving}/preview", ADMINISTRATOR, {}),
        "let_leave": Call(leaving, ADMINISTRATOR, {"reason": "Test.", "fingerprint": "outdated"}, 409),
        "get_leaving": Call(leaving, ADMINISTRATOR),
        "report_leaving": Call(f"{leaving}/report", ADMINISTRATOR, None, 409),
    }


def ruling() -> dict[str, Call]:
    """The routes about rules."""
    wrong = {"limits": {"nothing": [1, 2, 3, 4]}}
    return {
        "get_rules": Call("/rules", EVERYBODY),
        "preview_rules": Call("/rules/preview", ADMINISTRATOR, {"limits": {"unused": [180, 120, 90, 44]}}),
        "set_rules": Call("/rules", ADMINISTRATOR, wrong, 422),
        "check_rules": Call("/rules/own/check", ADMINISTRATOR, {"text": "no rules"}, 422),
        "keep_rules": Call("/rules/own", ADMINISTRATOR, {"text": "no rules"}, 422),
        "get_own_rule": Call("/rules/own/nothing", NOBODY),
        "drop_rule": Call("/rules/own/nothing", NOBODY),
        "want_digest": Call("/me/digest", EVERYBODY, {"wants": True}),
    }


def reviewing(ids: dict[str, Any]) -> dict[str, Call]:
    """The routes about reviews."""
    round_ = f"/rounds/{ids['round']}"
    item, reviewer = f"{round_}/items/{ids['item']}", ADMINISTRATOR | {"reviewer"}
    keep = {"verdict": "trim", "reason": "x"}
    return {
        "preview_round": Call("/rounds/preview", ADMINISTRATOR, {"name": "x", "covers": []}, 422),
        "get_progress": Call(f"{round_}/progress", ADMINISTRATOR),
        "get_groups": Call(f"{round_}/groups", reviewer),
        "get_item": Call(item, reviewer),
        "better_reviewers": Call(f"{item}/reviewers", reviewer),
        "get_evidence": Call(f"{round_}/evidence", ADMINISTRATOR, None, 409),
        "preview_decision": Call(f"{item}/preview", reviewer, keep, 422),
        "decide_many": Call(f"{round_}/decisions", reviewer, {**keep, "items": [{"id": str(ids["item"])}]}),
        "second": Call(f"{item}/second", reviewer, {"agree": True}, 409),
        "undo": Call(f"{item}/undo", reviewer, {}, 409),
        "pass_on": Call(f"{item}/pass", reviewer, {"to": str(uuid4()), "reason": ""}, 422),
        "ask": Call(f"{item}/question", reviewer, {"question": ""}, 422),
        "explain": Call(f"{item}/explain", ADMINISTRATOR, {"reason": "x"}, 409),
        "retry_item": Call(f"{item}/retry", ADMINISTRATOR, {}, 409),
        "answer_question": Call(f"/questions/{uuid4()}/answer", NOBODY, {"answer": "x"}),
        "get_calendar": Call("/me/calendar", EVERYBODY),
        "make_calendar": Call("/me/calendar", EVERYBODY, {}),
        "end_calendar": Call("/me/calendar", EVERYBODY),
        "get_absence": Call(f"/people/{ids['person']}/absence", ADMINISTRATOR),
        "set_absence": Call(f"/people/{ids['person']}/absence", ADMINISTRATOR, {"until": "2030-01-01T00:00:00Z"}, 422),
    }


def giving(ids: dict[str, Any]) -> dict[str, Call]:
    """The routes about giving access."""
    account, offer, level = ids["account"], f"/offers/{ids['offer']}", f"/levels/{ids['level']}"
    latch = {"kind": "most_delegates", "mode": "warn", "account": str(account)}
    proposal = {
        "account": str(account),
        "to": [{"address": "x@example.com", "name": "X"}],
        "levels": [str(ids["level"])],
    }
    suspend = {"kind": "suspend", "grants": [str(ids["grant"])], "reason": "Test.", "fingerprint": "outdated"}
    plan = {"name": "", "recurrence": "month", "starts": "2030-01-01T09:00"}
    draft = {"name": "x", "sentence": "x", "keys": ["nothing"]}
    delegate, anybody = frozenset({"delegate"}), str(uuid4())
    return {
        "preview_offer": Call("/offers/preview", OWNER, proposal),
        "send_offer": Call("/offers", OWNER, {**proposal, "fingerprint": "outdated"}, 409),
        "get_offer": Call(offer, OWNER | delegate),
        "change_offer": Call(offer, OWNER, {}, 422),
        "send_offer_again": Call(f"/offers/{ids['answered']}/again", OWNER, {}, 409),
        "withdraw_offer": Call(f"/offers/{ids['answered']}/withdraw", OWNER, {}, 409),
        "accept_offer": Call(f"{offer}/accept", delegate, {"version": 999}, 409),
        "decline_offer": Call(f"{offer}/decline", delegate, {"version": 999}, 409),
        "hand_over": Call(f"/accounts/{account}/hand-over", OWNER, {"to": anybody}, 422),
        "set_account": Call(f"/accounts/{account}/giving", OWNER, {"emergency_hours": 8}),
        "set_speaker": Call(f"/teams/{ids['team']}/speaker", ADMINISTRATOR, {"speaker": anybody}, 422),
        "get_settings": Call("/settings", EVERYBODY),
        "set_settings": Call("/settings", ADMINISTRATOR, {"inside_domains": ["no domain"]}, 422),
        "ask_access": Call("/requests", EVERYBODY, {"account_name": "x", "reason": ""}, 422),
        "get_request": Call(f"/requests/{ids['request']}", ADMINISTRATOR | delegate),
        "grant_request": Call(f"/requests/{ids['wish']}/grant", OWNER, {}, 422),
        "decline_request": Call(f"/requests/{ids['wish']}/decline", OWNER, {"words": ""}, 422),
        "withdraw_request": Call(f"/requests/{ids['wish']}/withdraw", NOBODY, {}),
        "make_level": Call("/levels", ADMINISTRATOR, {**draft, "system": anybody, "key": "x"}, 422),
        "preview_level": Call(f"{level}/preview", ADMINISTRATOR, draft, 422),
        "change_level": Call(level, ADMINISTRATOR, draft, 422),
        "remove_level": Call(level, ADMINISTRATOR, None, 409),
        "archive_level": Call(f"{level}/archived", ADMINISTRATOR, None, 409),
        "unarchive_level": Call(f"{level}/archived", ADMINISTRATOR),
        "compare_levels": Call(f"/levels/compare?first={ids['level']}&second={ids['level']}", EVERYBODY),
        "get_permissions": Call(f"/systems/{ids['reached']}/permissions", EVERYBODY - {"reviewer"}),
        "preview_change": Call("/changes/preview", OWNER, suspend),
        "change_grants": Call("/changes", OWNER, suspend, 409),
        "change_many": Call("/changes/large", EVERYBODY, {**suspend, "fingerprint": "", "reason": ""}, 422),
        "get_large_change": Call(f"/changes/large/{uuid4()}", NOBODY),
        "stop_large_change": Call(f"/changes/large/{uuid4()}/stop", NOBODY),
        "give_up": Call(f"/grants/{ids['grant']}/give-up", NOBODY, {}),
        "preview_latch": Call("/latches/preview", OWNER, {**latch, "number": 3}),
        "set_latch": Call("/latches", OWNER, latch, 422),
        "get_latches": Call(f"/accounts/{account}/latches", OWNER),
        "get_mine": Call("/mine", EVERYBODY),
        "switch_in": Call("/me/switch", EVERYBODY, {"account": anybody}, 404),
        "switch_out": Call("/me/switch", EVERYBODY),
        "prove": Call("/me/proof", EVERYBODY, {"password": PASSWORD}),
        "set_offers": Call("/me/offers", EVERYBODY, {"refuses": False}),
        "ask_for_proof": Call("/me/address", EVERYBODY, {}, 202),
        "begin_factor": Call("/me/factor", EVERYBODY, {}, 201),
        "look_at_device": Call("/devices/look", EVERYBODY, {"user_code": "BCDF-GHJK"}, 404),
        "answer_device": Call("/devices/answer", EVERYBODY, {"user_code": "X", "allows": False}, 404),
        "begin_passkey": Call("/me/passkeys/begin", EVERYBODY, {}),
        "add_passkey": Call("/me/passkeys", EVERYBODY, {"name": "X", "state": "x", "credential": {}}, 422),
        "begin_passkey_proof": Call("/me/proof/passkey", EVERYBODY, {}, 409),
        "rename_passkey": Call(f"/me/passkeys/{uuid4()}", NOBODY, {"name": "X"}),
        "remove_passkey": Call(f"/me/passkeys/{uuid4()}", NOBODY),
        "confirm_factor": Call("/me/factor", EVERYBODY, {"code": "no code"}, 422),
        "remove_factor": Call("/me/factor", EVERYBODY),
        "preview_schedule": Call("/schedules/preview", ADMINISTRATOR, plan),
        "make_schedule": Call("/schedules", ADMINISTRATOR, plan, 422),
        "make_schedules": Call("/schedules/by-sensitivity", ADMINISTRATOR, {**plan, "name": " "}, 422),
        "get_schedule": Call(f"/schedules/{ids['schedule']}", ADMINISTRATOR),
        "change_schedule": Call(f"/schedules/{ids['schedule']}", ADMINISTRATOR, plan, 422),
        "read_notices": Call("/notices/read", EVERYBODY, {"notices": [anybody]}),
    }


def finding(ids: dict[str, Any]) -> dict[str, Call]:
    """The routes about finding things, about moving, and about the register as a whole."""
    somebody, nothing = f"/people/{ids['person']}", str(uuid4())
    kept = {"name": "x", "list": "shoes"}
    return {
        "search": Call("/search?q=jory", EVERYBODY),
        "get_filters": Call("/filters", EVERYBODY),
        "keep_filter": Call("/filters", EVERYBODY, kept, 422),
        "change_filter": Call(f"/filters/{nothing}", NOBODY, kept),
        "remove_filter": Call(f"/filters/{nothing}", NOBODY),
        "mail_filter": Call(f"/filters/{nothing}/mail", NOBODY, {"every": "day"}),
        "preview_move": Call(f"{somebody}/move/preview", ADMINISTRATOR, {}),
        "preview_erasing": Call(f"{somebody}/erase/preview", ADMINISTRATOR, {}, 409),
        "erase_person": Call(f"{somebody}/erase", ADMINISTRATOR, {}, 409),
        "take_held_data": Call(f"{somebody}/held-data", ADMINISTRATOR, {}),
        "register_schema": Call("/register/schema", EVERYBODY),
        "export_register": Call("/register/export", ADMINISTRATOR),
        "import_register": Call("/register/import", ADMINISTRATOR, "x", 409),
        "look_at_file": Call("/imports/people/look", ADMINISTRATOR, "key,name\n"),
        "refused_lines": Call("/imports/people/refused", ADMINISTRATOR, "key,name\n"),
        "end_session": Call(f"/sessions/{ids['session']}/end", NOBODY, {}),
        "get_terms": Call(f"/grants/{ids['grant']}/terms", OWNER),
        "task_done": Call(f"/tasks/{nothing}/done", NOBODY, {"words": "It is done."}),
        "assign_task": Call(f"/tasks/{nothing}/assign", NOBODY, {}),
    }


def kept_by_hand(ids: dict[str, Any]) -> dict[str, Call]:
    """The routes by which records are kept. What names a record that nothing has is refused to everybody."""
    nothing, found = str(uuid4()), {}
    kinds = {
        "people": "person",
        "teams": "team",
        "memberships": "membership",
        "accounts": "account",
        "resources": "resource",
        "groups": "group",
        "apps": "app",
    }
    for kind, word in kinds.items():
        one, edit = f"/{kind}/{nothing}", {"ids": [nothing], "set": {}}
        found |= {
            f"get_record_of_{word}": Call(f"{one}/record", NOBODY),
            f"edit_{word}": Call(one, NOBODY, {}),
            f"remove_{word}": Call(one, NOBODY),
            f"archive_{word}": Call(f"{one}/archived", NOBODY, {}),
            f"unarchive_{word}": Call(f"{one}/archived", NOBODY),
            f"preview_edit_of_{kind}": Call(f"/{kind}/edits/preview", EVERYBODY, edit, 422),
            f"edit_{kind}": Call(f"/{kind}/edits", EVERYBODY, edit, 422),
        }
    both = {"keep": nothing, "drop": str(uuid4())}
    for kind in ("people", "apps"):
        found[f"preview_merge_of_{kind}"] = Call(f"/{kind}/merge/preview", NOBODY, both)
        found[f"merge_{kind}"] = Call(f"/{kind}/merge", NOBODY, both)
    line = {"account": nothing, "holder": nothing, "level": nothing}
    found |= {
        "make_person": Call("/people", ADMINISTRATOR, {"name": "X", "manager": nothing}, 422),
        "make_team": Call("/teams", ADMINISTRATOR, {"name": "X", "speaker": nothing}, 422),
        "make_membership": Call("/memberships", ADMINISTRATOR, {"team": nothing, "person": nothing}, 422),
        "make_account": Call("/accounts", ADMINISTRATOR, {"name": "X", "system": nothing}, 422),
        "make_resource": Call("/resources", ADMINISTRATOR, {"account": nothing, "name": "X"}, 422),
        "make_group": Call("/groups", ADMINISTRATOR, {"account": nothing, "name": "X"}, 422),
        "make_app": Call("/apps", ADMINISTRATOR, {"name": "X", "home_page": "no page"}, 422),
        "get_team": Call(f"/teams/{ids['team']}", ADMINISTRATOR),
        "get_merges": Call("/merges", ADMINISTRATOR),
        "undo_merge": Call(f"/merges/{nothing}/undo", NOBODY, {}),
        "preview_recording": Call("/grants/record/preview", EVERYBODY, {"lines": [line]}),
        "record_access": Call("/grants/record", EVERYBODY, {"lines": [line]}, 422),
    }
    methods = {route.name for route in api}
    return {name: call for name, call in found.items() if name in methods}


def identity() -> dict[str, Call]:
    """The routes about sign-ins, of others and one's own."""
    sign_in, invitation = f"/sign-ins/{uuid4()}", f"/invitations/{uuid4()}"
    return {
        "list_sign_ins": Call("/sign-ins", ADMINISTRATOR),
        "set_role": Call(f"{sign_in}/role", NOBODY, {"role": "member"}),
        "suspend_sign_in": Call(f"{sign_in}/suspended", NOBODY, {}),
        "resume_sign_in": Call(f"{sign_in}/suspended", NOBODY),
        "end_sign_in_sessions": Call(f"{sign_in}/sessions", NOBODY),
        "end_sign_in_tokens": Call(f"{sign_in}/tokens", NOBODY),
        "reset_sign_in_factor": Call(f"{sign_in}/factor", NOBODY),
        "list_providers": Call("/identity-providers", ADMINISTRATOR),
        "add_provider": Call("/identity-providers", ADMINISTRATOR, {"name": "", "issuer": "x", "client_id": "x"}, 422),
        "change_provider": Call(
            f"/identity-providers/{uuid4()}", NOBODY, {"name": "X", "issuer": "x", "client_id": "x"}
        ),
        "make_directory_token": Call("/directory-tokens", ADMINISTRATOR, {"name": "X"}, 201),
        "remove_provider": Call(f"/identity-providers/{uuid4()}", NOBODY),
        "list_invitations": Call("/invitations", ADMINISTRATOR),
        "invite": Call("/invitations", ADMINISTRATOR, {"person": str(uuid4())}, 422),
        "invite_again": Call(f"{invitation}/again", NOBODY, {}),
        "withdraw_invitation": Call(invitation, NOBODY),
        "take_sign_in_away": Call(sign_in, NOBODY),
        "journal_events": Call("/journal/events", ADMINISTRATOR),
        "own_sign_in": Call("/me/sign-in", EVERYBODY),
        "set_profile": Call("/me/profile", EVERYBODY, {"name": "X", "time_zone": "Nowhere/Here"}, 422),
        "change_password": Call("/me/password", EVERYBODY, {"password": "short"}, 422),
        "make_recovery_codes": Call("/me/recovery-codes", EVERYBODY, {}, 409),
        "add_address": Call("/me/addresses", EVERYBODY, {"address": "no address"}, 422),
        "make_address_first": Call("/me/addresses/first", NOBODY, {"address": "x@example.org"}),
        "remove_address": Call("/me/addresses/remove", NOBODY, {"address": "x@example.org"}),
        "end_own_session": Call(f"/me/sessions/{uuid4()}", NOBODY),
        "end_other_sessions": Call("/me/sessions", EVERYBODY),
        "make_own_token": Call("/me/tokens", EVERYBODY, {"name": "x", "days": 0}, 422),
    }


def exposure(ids: dict[str, Any]) -> dict[str, Call]:
    """The routes about what is open to outsiders."""
    of_account, guard = f"/accounts/{ids['account']}", f"/exposure-guards/{uuid4()}"
    closing = {"exposures": [str(ids["exposure"])], "fingerprint": "none", "reason": "It is over."}
    on_account = {"account": str(ids["account"]), "rights": ["see"]}
    return {
        "get_exposure": Call(f"/exposures/{ids['exposure']}", ADMINISTRATOR),
        "judge_exposures": Call(
            "/exposures/judge", ADMINISTRATOR, {"exposures": [str(ids["exposure"])], "judgement": "intended"}, 422
        ),
        "preview_closing": Call("/exposures/close/preview", ADMINISTRATOR, closing),
        "close_exposures": Call("/exposures/close", ADMINISTRATOR, closing, 409),
        "past_exposures": Call(f"/exposures/past?account={ids['account']}&at={DAYS[0]}", OWNER),
        "get_expected": Call("/expected-exposures", EVERYBODY),
        "add_expected": Call("/expected-exposures", ADMINISTRATOR, {"name": "x", "filter": "x y", "reason": "x"}, 400),
        "remove_expected": Call(f"/expected-exposures/{uuid4()}", NOBODY),
        "get_boundary": Call("/boundary", EVERYBODY),
        "preview_boundary": Call("/boundary/preview", ADMINISTRATOR, {}),
        "set_boundary": Call("/boundary", ADMINISTRATOR, {"networks": ["x"]}, 422),
        "get_guards": Call("/exposure-guards", EVERYBODY),
        "preview_guard": Call("/exposure-guards/preview", OWNER, on_account),
        "set_guard": Call("/exposure-guards", OWNER, on_account, 422),
        "preview_lifting": Call(f"{guard}/lift/preview", NOBODY, {}),
        "lift_guard": Call(f"{guard}/lift", NOBODY, {}),
        "set_guard_again": Call(f"{guard}/set-again", NOBODY, {}),
        "get_access_rules": Call(f"{of_account}/rules", OWNER),
        "check_access_rules": Call(f"{of_account}/rules/check", OWNER, {"document": "{"}),
        "draft_access_rules": Call(f"{of_account}/drafts", OWNER, {"document": "{}"}, 201),
        "narrow_exposure": Call(f"/exposures/{uuid4()}/narrow", NOBODY, {}),
        "get_rule_drafts": Call("/rule-drafts", EVERYBODY),
        "get_rule_draft": Call(f"/rule-drafts/{uuid4()}", NOBODY),
        "apply_rule_draft": Call(f"/rule-drafts/{uuid4()}/apply", NOBODY, {"reason": "Over."}),
        "rule_document_schema": Call("/rule-document/schema", EVERYBODY),
    }


def webhooks() -> dict[str, Call]:
    """The routes about receivers of what is journalled, and about those who tell what happens elsewhere."""
    one, wish = f"/webhooks/{uuid4()}", {"name": "X", "url": "ftp://x"}
    to_one = f"/signal-receivers/{uuid4()}"
    return {
        "list_signal_sources": Call("/signal-sources", ADMINISTRATOR),
        "add_signal_source": Call("/signal-sources", ADMINISTRATOR, {"name": "X", "issuer": "ftp://x"}, 422),
        "change_signal_source": Call(f"/signal-sources/{uuid4()}", NOBODY, {"name": "X", "issuer": "x"}),
        "remove_signal_source": Call(f"/signal-sources/{uuid4()}", NOBODY),
        "list_signal_receivers": Call("/signal-receivers", ADMINISTRATOR),
        "add_signal_receiver": Call("/signal-receivers", ADMINISTRATOR, {"name": "Roles"}, 201),
        "remove_signal_receiver": Call(to_one, NOBODY),
        "pause_signal_receiver": Call(f"{to_one}/paused", NOBODY, {}),
        "resume_signal_receiver": Call(f"{to_one}/paused", NOBODY),
        "verify_signal_receiver": Call(f"{to_one}/verify", NOBODY, {}),
        "list_sent_signals": Call(f"{to_one}/events", NOBODY),
        "send_signals_again": Call(f"{to_one}/send-again", NOBODY, {}),
        "list_received_signals": Call("/signals", ADMINISTRATOR),
        "clear_report": Call(f"/people/{uuid4()}/clear-report", NOBODY, {}),
        "list_webhooks": Call("/webhooks", ADMINISTRATOR),
        "add_webhook": Call("/webhooks", ADMINISTRATOR, wish, 422),
        "change_webhook": Call(one, NOBODY, wish),
        "remove_webhook": Call(one, NOBODY),
        "pause_webhook": Call(f"{one}/paused", NOBODY, {}),
        "resume_webhook": Call(f"{one}/paused", NOBODY),
        "rotate_webhook_secret": Call(f"{one}/secret", NOBODY, {}),
        "test_webhook": Call(f"{one}/test", NOBODY, {}),
        "list_deliveries": Call(f"{one}/deliveries", NOBODY),
        "send_deliveries_again": Call(f"{one}/again", NOBODY, {}),
    }


def partners() -> dict[str, Call]:
    """The routes about several organisations."""
    link, elsewhere = f"/partners/{uuid4()}", f"/me/organisations/{uuid4()}"
    return {
        "get_organisations": Call("/me/organisations", EVERYBODY),
        "link_sign_in": Call("/me/organisations", EVERYBODY, {"address": "x", "password": ["x"]}, 422),
        "unlink_sign_in": Call(elsewhere, NOBODY),
        "switch_organisation": Call(f"{elsewhere}/switch", NOBODY, {}),
        "get_partners": Call("/partners", ADMINISTRATOR),
        "offer_link": Call("/partners", ADMINISTRATOR, {"client": "x", "people": [str(uuid4())]}, 422),
        "answer_partner": Call(f"{link}/answer", NOBODY, {"accepts": True}),
        "set_partner_people": Call(f"{link}/people", NOBODY, {"people": []}),
        "confirm_same": Call(f"{link}/same", NOBODY, {"person": str(uuid4())}),
        "preview_end_of_link": Call(f"{link}/end/preview", NOBODY, {}),
        "end_link": Call(f"{link}/end", NOBODY, {}),
    }


def first_hour(ids: dict[str, Any]) -> dict[str, Call]:
    """The routes by which an organisation is set up and its systems are connected."""
    nothing = f"/systems/{uuid4()}"
    return {
        "set_organisation": Call("/organisation", ADMINISTRATOR, {"name": "X", "time_zone": "Nowhere/Here"}, 422),
        "get_mail_settings": Call("/settings/mail", ADMINISTRATOR),
        "set_mail_settings": Call("/settings/mail", ADMINISTRATOR, {"host": "x", "sender": "no address"}, 422),
        "test_mail_settings": Call("/settings/mail/test", ADMINISTRATOR, {}, 202),
        "list_adapters": Call("/adapters", ADMINISTRATOR),
        "try_system": Call("/systems/trials", ADMINISTRATOR, {"kind": "nothing"}, 422),
        "get_system_trial": Call(f"/systems/trials/{uuid4()}", NOBODY),
        "make_system": Call("/systems", ADMINISTRATOR, {"name": "X", "trial": str(uuid4())}, 422),
        "get_record_of_system": Call(f"{nothing}/record", NOBODY),
        "edit_system": Call(nothing, NOBODY, {"name": "X"}),
        "pause_system": Call(f"{nothing}/paused", NOBODY, {}),
        "resume_system": Call(f"{nothing}/paused", NOBODY),
        "remove_system": Call(nothing, NOBODY),
    }


NOT_LISTS = frozenset({"list_items", "list_deliveries", "take_held_data", "take_sign_in_away"})
OPEN = {
    "begin_passkey_sign_in",
    "provider_choices",
    "sign_in",
    "make_token",
    "read_link",
    "accept_link",
    "decline_link",
    "confirm_address",
    "read_invitation",
    "accept_invitation",
    "forgotten_password",
    "new_password",
    "get_set_up",
    "carry_out_set_up",
}
# What a member of another organisation may do as well: these are about themselves, or about their own organisation.
OWN = {
    "get_settings",
    "get_mine",
    "switch_out",
    "prove",
    "set_offers",
    "ask_for_proof",
    "begin_factor",
    "look_at_device",
    "answer_device",
    "begin_passkey",
    "add_passkey",
    "begin_passkey_proof",
    "confirm_factor",
    "remove_factor",
    "read_notices",
    "ask_access",
    "set_settings",
    "make_level",
    "preview_schedule",
    "make_schedule",
    "make_schedules",
    "preview_round",
    "change_many",
    "get_calendar",
    "make_calendar",
    "end_calendar",
    "get_rules",
    "preview_rules",
    "set_rules",
    "check_rules",
    "keep_rules",
    "want_digest",
    "get_map",
    "get_attributes",
    "get_values",
    "get_trends",
    "get_charter",
    "compare_charter",
    "adopt_charter",
    "take_trends_away",
    "want_trends",
    "get_day",
    "get_ends",
    "search",
    "get_filters",
    "keep_filter",
    "register_schema",
    "export_register",
    "import_register",
    "look_at_file",
    "refused_lines",
    "own_sign_in",
    "set_profile",
    "change_password",
    "make_recovery_codes",
    "add_address",
    "end_other_sessions",
    "make_own_token",
    "list_sign_ins",
    "list_invitations",
    "list_providers",
    "add_provider",
    "list_webhooks",
    "add_webhook",
    "list_signal_sources",
    "add_signal_source",
    "list_received_signals",
    "list_signal_receivers",
    "add_signal_receiver",
    "journal_events",
    "make_directory_token",
    "get_words",
    "invite",
    "set_organisation",
    "get_mail_settings",
    "set_mail_settings",
    "test_mail_settings",
    "list_adapters",
    "try_system",
    "make_system",
    "get_merges",
    "make_person",
    "make_team",
    "make_membership",
    "make_account",
    "make_app",
    "get_organisations",
    "link_sign_in",
    "get_partners",
    "offer_link",
    "make_resource",
    "make_group",
    "preview_recording",
    "record_access",
    "get_expected",
    "add_expected",
    "get_boundary",
    "preview_boundary",
    "set_boundary",
    "get_guards",
    "get_rule_drafts",
    "rule_document_schema",
}


def test_every_route_is_in_this_test(ids: dict[str, Any]) -> None:
    """One that is added without saying who may call it fails here."""
    assert {route.name for route in api} == set(calls(ids)) | OPEN


@pytest.mark.parametrize("role", [*ROLES, "nobody"])
def test_each_route_as_each_kind_of_sign_in(
    stack: Demo, tokens: dict[str, str], ids: dict[str, Any], role: str
) -> None:
    """Whoever may is let through; whoever may not is told so, and gets nothing."""
    headers = {"Authorization": f"Bearer {tokens[role]}"} if role in tokens else {}
    methods = {route.name: route.method for route in api}
    wrong = []
    with httpx.Client(base_url=stack.address + PREFIX, headers=headers, timeout=30) as http:
        if role in tokens:
            assert http.post("/me/proof", json={"password": PASSWORD}).status_code == 200
        for name, call in calls(ids).items():
            body = (
                {"content": call.body}
                if isinstance(call.body, str)
                else {"json": call.body}
                if call.body is not None
                else {}
            )
            status = http.request(methods[name], call.path, **body).status_code
            expected = {call.allowed} if role in call.may else {403, 404}
            if role == "nobody":
                expected = {401}
            elif role == "stranger" and name in OWN:
                expected = {call.allowed}
            elif role == "stranger" and (
                (name.startswith(("list_", "take_", "edit_", "preview_edit")) and name not in NOT_LISTS)
                or name
                in (
                    "me",
                    "get_today",
                    "get_next_actions",
                    "get_doubts",
                    "sign_out",
                    "verify_journal",
                    "export_journal",
                    "journal_heads",
                    "journal_archive",
                    "archived_entries",
                )
            ):
                expected = {call.allowed if call.may is not NOBODY else 404}
            elif role == "stranger" and name in ("open_round", "bring"):
                expected = {422}
            if status not in expected:
                wrong.append((name, status, expected))
    assert wrong == []


# Acting in the mailbox by a token of the delegate's: never more than the delegate may, and nothing about anything else.
def test_inside_an_account_there_is_that_account_and_no_other(
    stack: Demo, tokens: dict[str, str], ids: dict[str, Any]
) -> None:
    """Whatever is asked, no other account is named; what is not about the account is closed, also to a steward."""
    with Client(stack.address, tokens["administrator"]) as client:
        others = [row.name for row in client.every("accounts") if row.id != ids["account"]]
    with Client(stack.address, tokens["delegate"]) as client:
        made = client.exchange(tokens["delegate"], ids["account"])["access_token"]
    wrong = []
    with httpx.Client(base_url=stack.address + PREFIX, headers={"Authorization": f"Bearer {made}"}, timeout=30) as http:
        routes = {route.name: route for route in api}
        for name, call in calls(ids).items():
            if name in ("sign_out", "switch_out"):
                continue
            body = {"json": call.body} if call.body is not None and not isinstance(call.body, str) else {}
            answer = http.request(routes[name].method, call.path, **body)
            if not routes[name].inside and name not in ("export_journal", "export_register", "get_evidence"):
                if (answer.status_code, "Switch out" in answer.text) != (403, True):
                    wrong.append((name, answer.status_code))
                continue
            if answer.status_code not in {call.allowed, 403, 404, 422}:
                wrong.append((name, answer.status_code))
            # By name: a system that came in a file has the id of the account that it came with.
            told = [other for other in others if f'"{other}"' in answer.text]
            if told:
                wrong.append((name, told))
    assert wrong == []


def test_lists_hold_only_what_one_may_see(stack: Demo, tokens: dict[str, str], ids: dict[str, Any]) -> None:
    """The owner sees the mailbox and who reaches it; the delegate their own access; the stranger nothing of it."""

    def seen(role: str, kind: str) -> set[Any]:
        with Client(stack.address, tokens[role]) as client:
            return {row.id for row in client.every(kind)}

    assert {ids["grant"], ids["own"]} <= seen("owner", "grants") < seen("administrator", "grants")
    assert ids["own"] in seen("delegate", "grants")
    assert ids["grant"] not in seen("delegate", "grants")
    assert ids["person"] in seen("owner", "people")
    assert len(seen("delegate", "people")) == 1
    assert ids["round"] in seen("reviewer", "rounds")
    assert seen("delegate", "rounds") == seen("delegate", "systems") == set()
    for kind in ("accounts", "people", "grants", "apps", "sessions", "flags", "rounds", "revocations", "levels"):
        assert not seen("stranger", kind) & seen("administrator", kind)


def test_a_delegate_sees_their_own_paths_and_not_the_other_delegates(
    stack: Demo, tokens: dict[str, str], ids: dict[str, Any]
) -> None:
    """On the account's page."""
    with Client(stack.address, tokens["delegate"]) as client:
        page = client.account(ids["account"])
        mine = client.me().person
    assert not page.answers_for
    assert {path.holder.id for path in page.paths} == {mine.id}
    with Client(stack.address, tokens["owner"]) as client:
        whole = client.account(ids["account"])
    assert whole.answers_for
    assert len({path.holder.id for path in whole.paths}) > 10
    assert any(path.left for path in whole.paths)


def test_a_token_that_may_only_read_changes_nothing(stack: Demo) -> None:
    """Whoever it belongs to."""
    with Client(stack.address) as client:
        token = client.make_token(ROLES["administrator"], "walk the long ridge", scope="read").token
    headers = {"Authorization": f"Bearer {token}"}
    with httpx.Client(base_url=stack.address + PREFIX, headers=headers) as http:
        assert http.get("/today").status_code == 200
        assert http.post("/rounds", json={"name": "x"}).status_code == 403
        assert http.delete(f"/tokens/{uuid4()}").status_code == 403
