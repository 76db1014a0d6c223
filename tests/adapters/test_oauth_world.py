"""Tokens at an authorization server that others wrote: found, put together by app, revoked, and never guessed about."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from datetime import UTC, datetime
from pathlib import Path

import pytest

from openlatch.adapters import Reading
from openlatch.adapters.oauth.adapter import fingerprint
from openlatch.conformance import World
from openlatch.core.vocabulary import StepKind
from openlatch.errors import SystemRefused
from openlatch.runtime.cluster import Cluster
from tests.adapters.worlds import oauth


@pytest.fixture
def world(tmp_path: Path, make_telemetry: Callable[[str], Cluster]) -> Iterator[World]:
    made = oauth(tmp_path, make_telemetry)
    yield made
    made.stop()


def test_tokens_are_put_together_by_app_with_all_that_they_are_for(world: World) -> None:
    """Whose consent, until when; one without an app is whoever it is for, at the server itself."""
    reading = Reading.of(world.adapter().read())
    by = {h.holder: h for h in reading.holdings}
    mailer = by["app:mailer"]
    assert (mailer.level, mailer.handle["consented_by"]) == ("scopes pay read write", "ann, bob")
    assert mailer.until == datetime.fromtimestamp(max(one["exp"] for one in world.extra["issued"].values()), UTC)
    assert by["user:cy"].account == world.settings["issuer"]
    assert by["user:cy"].level == "scopes"
    issued = list(world.extra["issued"])
    assert sorted(mailer.handle["tokens"]) == sorted(map(fingerprint, issued[:2]))
    assert not any(token in repr(reading) for token in issued)


def test_one_that_is_over_is_told_as_not_known(world: World) -> None:
    """The server does not say whether it is over or not ours to ask about."""
    world.extra["issued"]["planner-2"]["revoked"] = True
    reading = Reading.of(world.adapter().read())
    assert "app:planner" not in {h.holder for h in reading.holdings}
    (coverage,) = reading.coverage
    assert any(
        fingerprint("planner-2") in gap.words and "not for Open Latch to ask about" in gap.words
        for gap in coverage.gaps
    )
    assert not coverage.is_partial
    for token in world.extra["issued"].values():
        token["revoked"] = True
    (coverage,) = Reading.of(world.adapter().read()).coverage
    assert coverage.is_partial


def test_a_token_that_is_not_here_and_a_server_that_is_another_are_refused(world: World) -> None:
    """Nothing is taken for gone."""
    with pytest.raises(SystemRefused, match="does not have the token"):
        world.adapter().confirm(StepKind.REMOVE, {"token": "0000"})
    with pytest.raises(SystemRefused, match="no token to look after"):
        world.adapter(world.secret.split()[0]).check()
    described = world.extra["described"]
    described["introspection_endpoint"] = "http://127.0.0.2/introspect"
    with pytest.raises(SystemRefused, match="no introspection_endpoint by https"):
        world.adapter().check()
    described["issuer"] = "https://other.example.org"
    with pytest.raises(SystemRefused, match="is not that of"):
        world.adapter().check()
