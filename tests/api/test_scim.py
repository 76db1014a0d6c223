"""A directory keeps people and teams by SCIM 2.0: with a tester that others wrote, and with what it does not try."""

from __future__ import annotations

import json
from dataclasses import dataclass
from typing import Any

import pytest
from flask.testing import FlaskClient
from scim2_client.engines.wsgi import WSGISCIMClient
from scim2_tester import Status, check_server
from sqlalchemy import select

from openlatch.api.app import make_app
from openlatch.runtime.cluster import Cluster
from openlatch.service.identity import authentication
from openlatch.service.unit import Service, Viewer
from openlatch.store.tables import JournalEntry, Notice, Person, SignIn
from tests.conftest import Clock

USER = "urn:ietf:params:scim:schemas:core:2.0:User"
GROUP = "urn:ietf:params:scim:schemas:core:2.0:Group"
SEARCH = "urn:ietf:params:scim:api:messages:2.0:SearchRequest"
ENTERPRISE = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"
PATCH = "urn:ietf:params:scim:api:messages:2.0:PatchOp"


@dataclass
class Directory:
    """A directory, with its token."""

    service: Service
    itself: Viewer
    client: FlaskClient
    app: Any
    token: str

    def ask(self, method: str, path: str, body: Any = None, **headers: str) -> Any:
        """What a call is answered."""
        return self.client.open(
            f"/scim/v2{path}",
            method=method,
            data=json.dumps(body) if body is not None else None,
            headers={"Authorization": f"Bearer {self.token}", **{k.replace("_", "-"): v for k, v in headers.items()}},
            content_type="application/scim+json",
        )


@pytest.fixture
def directory(service: Service, organisation: Viewer, clock: Clock, cluster: Cluster, database: str) -> Directory:
    app = make_app(service, cluster.url(database))
    with service.unit(organisation) as unit:
        ident = unit.db.scalars(select(SignIn.id)).one()
    ada = authentication.viewer_at(service, organisation.organisation, ident)
    with service.unit(ada) as unit:
        _, token, _ = authentication.make_token_in(unit, "Staff directory", "scim", 365)
    return Directory(service, organisation, app.test_client(), app, token)


def test_a_tester_of_others_finds_no_fault(directory: Directory) -> None:
    client = WSGISCIMClient(
        directory.app,
        base_url="http://127.0.0.1:8620/scim/v2",
        headers={"Authorization": f"Bearer {directory.token}"},
    )
    client.discover()
    results = check_server(client)
    faults = [
        f"{one.title}: {one.resource_type} {one.reason}"
        for one in results
        if one.status not in (Status.SUCCESS, Status.SKIPPED)
    ]
    assert faults == [], "\n".join(faults)
    assert len(results) > 50


def test_somebody_is_made_changed_switched_off_and_on(directory: Directory) -> None:
    """By the usual use cases: in the journal under the directory's name, without a sign-in while they are off."""
    chief = directory.ask("POST", "/Users", {"schemas": [USER], "userName": "odile", "displayName": "Odile Fenn"}).json
    body = {
        "schemas": [USER, "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"],
        "userName": "edda",
        "externalId": "e-17",
        "name": {"givenName": "Edda", "familyName": "Quill"},
        "title": "Booking desk",
        "emails": [{"value": "edda@example.org", "type": "work", "primary": True}, {"value": "Edda@Home.example.org"}],
        "phoneNumbers": [{"value": "+44 1234"}],
        "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User": {
            "employeeNumber": "17",
            "manager": {"value": chief["id"]},
        },
    }
    made = directory.ask("POST", "/Users", body)
    assert made.status_code == 201, made.text
    ident = made.json["id"]
    assert made.headers["Location"].endswith(f"/scim/v2/Users/{ident}")
    assert (made.json["displayName"], made.json["active"], "phoneNumbers" in made.json) == ("Edda Quill", True, False)
    with directory.service.unit(directory.itself) as unit:
        person = unit.db.scalars(select(Person).where(Person.name == "Edda Quill")).one()
        assert (person.address, person.job, str(person.manager_id)) == ("edda@example.org", "Booking desk", chief["id"])
        entry = unit.db.scalars(select(JournalEntry).where(JournalEntry.subject_id == person.id)).first()
        assert entry is not None
        assert entry.actor_name == "Directory “Staff directory”"
    assert directory.ask("POST", "/Users", body).json["scimType"] == "uniqueness"
    again = directory.ask("PATCH", f"/Users/{ident}", patch({"op": "replace", "path": "active", "value": False}))
    assert (again.status_code, again.json["active"]) == (200, False)
    assert directory.ask("GET", f"/Users/{ident}", If_None_Match=again.headers["ETag"]).status_code == 304
    for stale in (made.headers["ETag"], 'W/"7000", "7001"', "nonsense"):
        old = directory.ask("PUT", f"/Users/{ident}", {**body, "active": True}, If_Match=stale)
        assert old.status_code == 412, stale
    with directory.service.unit(directory.itself) as unit:
        notice = unit.db.scalars(select(Notice).order_by(Notice.id.desc())).first()
        assert notice is not None
        assert "Edda Quill is not active any more" in notice.sentence
    back = directory.ask(
        "PUT", f"/Users/{ident}", {**body, "active": True}, If_Match=f'W/"7000", {again.headers["ETag"]}'
    )
    assert (back.status_code, back.json["active"], back.json["meta"]["version"]) == (200, True, back.headers["ETag"])
    renamed = directory.ask("PUT", f"/Users/{chief['id']}", {"schemas": [USER], "userName": "EDDA"})
    assert (renamed.status_code, renamed.json["scimType"]) == (409, "uniqueness")
    assert directory.ask("DELETE", f"/Users/{ident}").status_code == 204
    assert directory.ask("GET", f"/Users/{ident}").status_code == 404
    assert directory.ask("GET", '/Users?filter=userName eq "edda"').json["totalResults"] == 0


def patch(*operations: dict[str, Any]) -> dict[str, Any]:
    return {"schemas": [PATCH], "Operations": list(operations)}


def test_groups_become_teams_and_bulk_finds_what_it_makes(directory: Directory) -> None:
    bulk = {
        "schemas": ["urn:ietf:params:scim:api:messages:2.0:BulkRequest"],
        "Operations": [
            {
                "method": "POST",
                "path": "/Groups",
                "bulkId": "crew",
                "data": {"schemas": [GROUP], "displayName": "Crew", "members": [{"value": "bulkId:owen"}]},
            },
            {"method": "POST", "path": "/Users", "bulkId": "owen", "data": {"schemas": [USER], "userName": "owen"}},
            {"method": "DELETE", "path": "/Users/00000000-0000-0000-0000-000000000000"},
            {"method": "POST", "path": "/Users", "bulkId": "late", "data": {"schemas": [USER], "userName": "late"}},
        ],
        "failOnErrors": 1,
    }
    told = directory.ask("POST", "/Bulk", bulk).json["Operations"]
    assert [(one.get("bulkId"), one["status"]) for one in told] == [("owen", "201"), ("crew", "201"), (None, "404")]
    group = directory.ask("GET", '/Groups?filter=displayName eq "crew"').json["Resources"][0]
    (owen,) = directory.ask("GET", "/Users?sortBy=userName&sortOrder=descending&count=1").json["Resources"]
    assert (owen["userName"], group["members"][0]["value"]) == ("owen", owen["id"])
    assert owen["groups"][0]["display"] == "Crew"
    out = patch({"op": "remove", "path": f'members[value eq "{owen["id"]}"]'})
    assert "members" not in directory.ask("PATCH", f"/Groups/{group['id']}", out).json
    wrong = patch({"op": "add", "path": "members", "value": [{"value": "00000000-0000-0000-0000-000000000000"}]})
    assert directory.ask("PATCH", f"/Groups/{group['id']}", wrong).json["scimType"] == "invalidValue"
    beyond = directory.ask("GET", "/Users?startIndex=99999999999999999999").json
    assert (beyond["totalResults"], beyond["itemsPerPage"]) == (2, 0)


def test_changes_of_one_and_questions_about_many_are_those_of_the_standard(directory: Directory) -> None:
    """What the tester does not try: RFC 7644, 3.4.2 and 3.5.2."""
    ask = directory.ask
    body = {
        "schemas": [USER],
        "userName": "brin",
        "displayName": "Brin Vale",
        "emails": [{"value": "brin@example.org", "type": "work", "primary": True}],
    }
    made = ask("POST", "/Users", {**body, "id": "their-own"}).json
    one = f"/Users/{made['id']}"
    assert made["id"] != "their-own"
    # All operations of a patch or none; what can't be is told by its keyword.
    half = patch(
        {"op": "replace", "path": "title", "value": "Half"},
        {"op": "replace", "path": 'emails[type eq "none"].value', "value": "x@example.org"},
    )
    assert (ask("PATCH", one, half).json["scimType"], ask("GET", one).json.get("title")) == ("noTarget", None)
    for operation, kind in (
        ({"op": "remove"}, "noTarget"),
        ({"op": "replace", "path": "id", "value": "x"}, "mutability"),
        ({"op": "replace", "path": "emails[", "value": "x"}, "invalidPath"),
        ({"op": "twist", "path": "title", "value": "x"}, "invalidValue"),
    ):
        answer = ask("PATCH", one, patch(operation))
        assert (answer.status_code, answer.json.get("scimType")) == (400, kind), operation
    # What is there already is not changed; there is one primary address.
    same = ask("PATCH", one, patch({"op": "Add", "path": "title", "value": "Guide"})).json
    assert ask("PATCH", one, patch({"op": "add", "value": {"title": "Guide"}})).json["meta"] == same["meta"]
    new = {"value": "vale@example.org", "type": "home", "primary": True}
    emails = ask("PATCH", one, patch({"op": "add", "path": "emails", "value": [new]})).json["emails"]
    assert {mail["value"]: mail.get("primary", False) for mail in emails} == {
        "brin@example.org": False,
        "vale@example.org": True,
    }
    # Attributes: those asked for, those left out, and the id always.
    assert ask("GET", f"{one}?attributes=userName").json.keys() == {"schemas", "id", "userName"}
    left = ask("GET", f"{one}?excludedAttributes=id,emails,title").json
    assert ("id" in left, "emails" in left, "title" in left, left["userName"]) == (True, False, False, "brin")
    ask("POST", "/Users", {**body, "userName": "coll", "displayName": "Coll Moor", "emails": []})
    for written, found in (
        ('USERNAME Eq "BRIN"', ["brin"]),
        ('userName eq "coll" or userName eq "brin" and title eq "none"', ["coll"]),
        ('(userName eq "coll" or userName eq "brin") and title pr', ["brin"]),
        ('not (userName sw "br") and not (userName co "@")', ["coll"]),
        ('emails[type eq "home" and value co "vale"]', ["brin"]),
        ('emails.value ew "vale@example.org"', ["brin"]),
        ('userName gt "brin" and userName le "coll"', ["coll"]),
        ('meta.lastModified ge "2020-01-01T00:00:00Z" and userName ne "ada@example.org"', ["brin", "coll"]),
        (f'{USER}:userName eq "coll"', ["coll"]),
    ):
        page = ask("GET", f"/Users?filter={written}")
        assert sorted(row["userName"] for row in page.json.get("Resources", [])) == found, written
        asked = {"schemas": [SEARCH], "filter": written}
        assert ask("POST", "/Users/.search", asked).json["totalResults"] == len(found)
    assert ask("GET", "/Users?filter=active gt true").json["scimType"] == "invalidFilter"
    for words, start, count in (("startIndex=0&count=1", 1, 1), ("count=-3", 1, 0), ("startIndex=-5", 1, 3)):
        page = ask("GET", f"/Users?{words}").json
        assert (page["totalResults"], page["startIndex"], len(page.get("Resources", []))) == (3, start, count)
    # Whoever has none comes last, and first the other way round.
    order = ask("GET", "/Users?sortBy=title").json["Resources"]
    back = ask("GET", "/Users?sortBy=title&sortOrder=descending").json["Resources"]
    assert (order[0]["userName"], back[-1]["userName"]) == ("brin", "brin")
    # What is not there is not made; a name that was deleted is free.
    assert ask("PUT", "/Users/00000000-0000-0000-0000-000000000000", body).status_code == 404
    assert (ask("DELETE", one).status_code, ask("DELETE", one).status_code) == (204, 404)
    again = ask("POST", "/Users", body)
    assert (again.status_code, again.json["id"], again.json["active"]) == (201, made["id"], True)
    assert ask("GET", one).json["userName"] == "brin"
    assert ask("GET", "/Me").status_code == 501


def test_a_bulk_request_is_answered_whole_and_circles_are_resolved(directory: Directory) -> None:
    """RFC 7644, 3.7.1 and 3.7.3: where each is, also where nothing was done, and who refers to one another."""

    def of(name: str, chief: str) -> dict[str, Any]:
        data = {"schemas": [USER, ENTERPRISE], "userName": name, ENTERPRISE: {"manager": {"value": f"bulkId:{chief}"}}}
        return {"method": "POST", "path": "/Users", "bulkId": name, "data": data}

    told = bulk(directory, of("anwen", "brân"), of("brân", "anwen"), of("cade", "nobody"))
    told.sort(key=lambda one: str(one["bulkId"]))
    assert [(one["bulkId"], one["status"]) for one in told] == [("anwen", "201"), ("brân", "201"), ("cade", "409")]
    assert "location" not in told[2]
    anwen, bram = (one["location"].rpartition("/")[2] for one in told[:2])
    for one, chief in ((anwen, bram), (bram, anwen)):
        held = directory.ask("GET", f"/Users/{one}")
        assert held.json[ENTERPRISE]["manager"]["value"] == chief
    assert told[0]["version"] == directory.ask("GET", f"/Users/{anwen}").headers["ETag"]
    groups = [
        {"method": "POST", "path": "/Groups", "bulkId": name, "data": {"displayName": name, "members": [member]}}
        for name, member in (("upper", {"value": "bulkId:lower"}), ("lower", {"value": "bulkId:upper"}))
    ]
    for one, other in zip(bulk(directory, *groups), ("lower", "upper"), strict=True):
        held = directory.ask("GET", one["location"].partition("/scim/v2")[2]).json
        assert directory.ask("GET", f"/Groups/{held['members'][0]['value']}").json["displayName"] == other
    # What refers to something that could not be made is not left behind.
    wrong = of("ebba", "dara")
    wrong["data"]["title"] = "x" * 5000
    told_of = bulk(directory, of("dara", "ebba"), wrong)
    assert [(one["bulkId"], one["status"]) for one in told_of] == [("dara", "409"), ("ebba", "400")]
    assert directory.ask("GET", '/Users?filter=userName eq "dara"').json["totalResults"] == 0
    gone = {"method": "DELETE", "path": f"/Users/{bram}"}
    aimless = {"method": "PATCH", "path": f"/Users/{anwen}", "data": patch({"op": "remove"})}
    first, second, third = bulk(directory, gone, gone, aimless)
    assert (first["status"], first["location"]) == ("204", told[1]["location"])
    assert (second["status"], second["location"]) == ("404", told[1]["location"])
    assert (third["status"], third["location"], third["response"]["scimType"]) == (
        "400",
        told[0]["location"],
        "noTarget",
    )
    large = directory.ask("POST", "/Bulk", {"Operations": [], "more": "x" * (1 << 20)})
    assert (large.status_code, large.content_type, large.json["status"]) == (413, "application/scim+json", "413")


def bulk(directory: Directory, *operations: dict[str, Any]) -> list[dict[str, Any]]:
    """What each operation was answered, in the order in which they were carried out."""
    request = {"schemas": ["urn:ietf:params:scim:api:messages:2.0:BulkRequest"], "Operations": list(operations)}
    answered: list[dict[str, Any]] = directory.ask("POST", "/Bulk", request).json["Operations"]
    return answered


def test_only_a_directorys_token_opens_it_and_nothing_else(directory: Directory, service: Service) -> None:
    """While whoever made it administers; and a token of somebody's own is no directory's."""
    client = directory.client
    held = {"Authorization": f"Bearer {directory.token}"}
    assert client.get("/api/v1/people", headers=held).status_code == 401
    for headers in ({}, {"Authorization": "Bearer olt_nonsense"}, {"Authorization": "Basic eDp5"}):
        answer = client.get("/scim/v2/Users", headers=headers)
        assert (answer.status_code, answer.content_type) == (401, "application/scim+json")
    with service.unit(directory.itself) as unit:
        sign_in = unit.db.scalars(select(SignIn)).one()
        ada = authentication.viewer_at(service, directory.itself.organisation, sign_in.id)
    with service.unit(ada) as unit:
        _, own, _ = authentication.make_token_in(unit, "Mine", "write", 1)
    assert client.get("/scim/v2/Users", headers={"Authorization": f"Bearer {own}"}).status_code == 401
    with service.unit(directory.itself) as unit:
        unit.db.scalars(select(SignIn)).one().role = "member"
    assert client.get("/scim/v2/Users", headers=held).status_code == 403


@pytest.mark.parametrize(
    ("method", "path", "body", "status", "told"),
    [
        ("POST", "/Users", {"schemas": [USER]}, 400, "invalidValue"),
        ("POST", "/Users", [], 400, "invalidSyntax"),
        ("POST", "/Users", {"schemas": [USER], "userName": "a\x00b"}, 400, "invalidValue"),
        ("POST", "/Users", {"schemas": [USER], "userName": "x", "title": "x" * 5000}, 400, "invalidValue"),
        ("POST", "/Groups", {"schemas": [GROUP], "displayName": "x\ny" * 300}, 400, "invalidValue"),
        ("GET", "/Users?filter=userName xx", None, 400, "invalidFilter"),
        ("GET", "/Users?filter=nothing eq 1", None, 400, "invalidFilter"),
        ("GET", "/Users/not-an-id", None, 404, None),
        ("PATCH", "/Users/not-an-id", {"schemas": [PATCH], "Operations": []}, 404, None),
        ("GET", "/Schemas?filter=id pr", None, 403, None),
        ("POST", "/Bulk", {"Operations": [{}] * 101}, 413, None),
        ("POST", "/Bulk", {"Operations": 7}, 400, "invalidSyntax"),
        ("DELETE", "/ServiceProviderConfig", None, 405, None),
        ("GET", "/elsewhere", None, 404, None),
    ],
)
def test_what_can_not_be_is_told_as_the_standard_has_it(
    directory: Directory, method: str, path: str, body: Any, status: int, told: str | None
) -> None:
    answer = directory.ask(method, path, body)
    assert (answer.status_code, answer.json.get("scimType"), answer.json["status"]) == (status, told, str(status))
