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
    old = directory.ask("PUT", f"/Users/{ident}", {**body, "active": True}, If_Match=made.headers["ETag"])
    assert old.status_code == 412
    with directory.service.unit(directory.itself) as unit:
        notice = unit.db.scalars(select(Notice).order_by(Notice.id.desc())).first()
        assert notice is not None
        assert "Edda Quill is not active any more" in notice.sentence
    back = directory.ask("PUT", f"/Users/{ident}", {**body, "active": True}, If_Match=again.headers["ETag"])
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
