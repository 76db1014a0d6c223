"""Every rule: quiet at its limit, raised just past it, and what it says; the score; own rules from files."""

from __future__ import annotations

from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import pytest

from openlatch.core.filters import Attribute, Kind
from openlatch.core.flags import BOOKS, LIMITS, RULES, Settings, Weights, custom_rules, reference
from openlatch.core.flags.rule import facts_of
from openlatch.core.flags.score import score
from openlatch.core.vocabulary import Severity
from openlatch.errors import BadInput

AT = datetime(2026, 3, 1, tzinfo=UTC)
# Subjects about which no rule has anything to say.
QUIET: dict[str, dict[str, Any]] = {
    "grant": {
        "reach": 1,
        "sensitivity": 2,
        "inside": True,
        "live": True,
        "is_link": False,
        "by_person": True,
        "given_days": 400,
        "idle_days": 1,
        "has_end": True,
        "window_days": 300,
        "recorded": True,
        "missing": False,
        "differs": False,
        "contradicted": False,
        "still_there": False,
        "emergency": False,
        "emergency_hours": 9600,
        "undecided_days": -1,
        "kept_unused": 0,
        "holder_left": False,
        "leaves_in_days": -1,
        "is_reported": False,
        "outlives_holder": False,
        "giver_left": False,
        "given_to_self": False,
        "private_address": False,
        "rights_held": 3,
        "rights_used": 3,
        "watched_days": 200,
        "dormant_days": -1,
        "pause_days": 0,
        "other_pause_days": 0,
        "chain": 1,
        "publisher_known": True,
        "grown": False,
        "credential_days": 9,
        "holder": "Mara",
        "account": "Ledger",
        "level": "Reader",
        "system": "Books",
        "given_by": "Ines",
        "address": "mara@example.org",
        "publisher": "",
    },
    "session": {
        "reach": 1,
        "sensitivity": 2,
        "inside": True,
        "going_on": True,
        "age_days": 1,
        "idle_days": 0,
        "holder_left": False,
        "apart_km": -1,
        "travel_km": -1,
        "travel_kmh": -1,
        "new_country": False,
        "new_device": False,
        "by_person": True,
        "contradicted": False,
        "holder": "Mara",
        "account": "Ledger",
        "device": "Phone",
        "place": "Upper hut",
        "country": "PT",
        "other_place": "Porto",
        "before_place": "Oslo",
    },
    "account": {
        "payer_left": False,
        "paid_days": -1,
        "reach": 4,
        "sensitivity": 3,
        "inside": True,
        "has_owner": True,
        "owner_left": False,
        "stewards": 1,
        "broken": 0,
        "breach_weight": 20,
        "shared": True,
        "reopened": 0,
        "partial": False,
        "exposed_new": 0,
        "exposed_grown": 0,
        "open_changes": 0,
        "open_to_anyone": 0,
        "intended_unused": 0,
        "intended_over": 0,
        "exposed_unclear": 0,
        "forbidden": 0,
        "guards_off": 0,
        "holder": "Ledger",
        "account": "Ledger",
        "owner": "Ines",
        "breach": "“at most 3 delegates”: there are 5.",
    },
    "person": {
        "reach": 3,
        "sensitivity": 3,
        "inside": True,
        "gone": False,
        "second_factor": True,
        "accounts": 3,
        "far_accounts": 2,
        "together": False,
        "holder": "Mara",
        "account": None,
        "pair": "books.pay and books.check",
    },
    "offer": {
        "reach": 1,
        "sensitivity": 2,
        "inside": True,
        "waiting": True,
        "waiting_days": 1,
        "times_sent": 1,
        "holder": "Mara",
        "account": "Ledger",
        "sender": "Ines",
    },
}
OUT, LINK = {"inside": False}, {"is_link": True}
# rule: facts with which it is quiet still, facts with which it speaks, and a part of what it says then.
EDGES: dict[str, tuple[dict[str, Any], dict[str, Any], str]] = {
    "unused": ({"idle_days": 120}, {"idle_days": 121}, "since 1 March 2026; the limit here is 120 days"),
    "never_used": ({"idle_days": -1, "given_days": 60}, {"idle_days": -1, "given_days": 61}, "has never used it"),
    "used_again": ({"dormant_days": 270}, {"dormant_days": 271}, "for the first time since"),
    "excess_rights": ({"rights_used": 2}, {"rights_used": 1}, "used 1 of the 3 rights"),
    "no_end_date": ({"has_end": False}, {"has_end": False, "sensitivity": 3}, "its sensitivity is high"),
    "long_window": ({"window_days": 1100}, {"window_days": 1101}, "1101 days, where 1100 are the most"),
    "still_there": ({"live": False}, {"live": False, "still_there": True}, "Books showed it"),
    "outsider_far_reach": ({**OUT, "reach": 2}, {**OUT, "reach": 3}, "commit money"),
    "private_address": ({"private_address": True}, {"private_address": True, "reach": 2}, "by mara@example.org"),
    "reported": ({}, {"is_reported": True, "reported": "Fellside: it was disabled"}, "Fellside: it was disabled."),
    "holder_left": ({"leaves_in_days": 90}, {"holder_left": True}, "left on 28 February 2026 and still holds"),
    "holder_leaving": (
        {"leaves_in_days": 15, "outlives_holder": True},
        {"leaves_in_days": 14, "outlives_holder": True},
        "goes on after that",
    ),
    "giver_left": ({}, {"giver_left": True}, "Ines gave Mara"),
    "given_to_self": ({"given_to_self": True}, {"given_to_self": True, "reach": 2}, "gave themselves"),
    "unrecorded": ({}, {"recorded": False}, "nobody recorded"),
    "review_overdue": ({}, {"undecided_days": 3}, "closed on 1 March 2026"),
    "kept_unused": ({"kept_unused": 2}, {"kept_unused": 3}, "kept in 3 reviews"),
    "emergency_left_open": (
        {"emergency": True, "emergency_hours": 48},
        {"emergency": True, "emergency_hours": 49},
        "in an emergency",
    ),
    "long_chain": ({"chain": 4}, {"chain": 5}, "over 5 steps"),
    "missing": ({}, {"missing": True}, "has not shown"),
    "changed": ({}, {"differs": True}, "is recorded"),
    "contradicted": ({}, {"contradicted": True}, "said that"),
    "app_unused": ({**LINK, "idle_days": 90}, {**LINK, "idle_days": 91}, "has not used its link"),
    "app_excess": ({**LINK, "rights_used": 2}, {**LINK, "rights_used": 1}, "1 of the 3 scopes"),
    "app_grown": (LINK, {**LINK, "grown": True}, "may do more"),
    "app_unknown": (LINK, {**LINK, "publisher_known": False}, "Nobody knows who publishes"),
    "token_too_old": ({"credential_days": 730}, {"credential_days": 731}, "the same token"),
    "app_consenter_left": ({"giver_left": True}, {**LINK, "giver_left": True}, "it still acts on their word"),
    "app_far_reach": ({**LINK, "reach": 3}, {**LINK, "reach": 3, "sensitivity": 3}, "no person stands behind"),
    "session_too_old": ({"age_days": 60}, {"age_days": 61}, "on Phone since 1 March 2026"),
    "session_idle": ({"idle_days": 30}, {"idle_days": 31}, "was last seen on"),
    "shared_credential": ({"apart_km": 1000}, {"apart_km": 1001}, "from Porto, 1001 kilometres off"),
    "impossible_travel": ({"travel_km": 99, "travel_kmh": 9000}, {"travel_km": 900, "travel_kmh": 1001}, "from Oslo"),
    "new_country": ({"new_country": True}, {"new_country": True, "sensitivity": 3}, "from PT"),
    "new_device": ({"new_device": True, "sensitivity": 3}, {"new_device": True, "sensitivity": 4}, "never used before"),
    "left_signed_in": ({}, {"holder_left": True}, "is signed in to Ledger"),
    "session_still_there": ({}, {"contradicted": True}, "was said to have ended, and a read on 1 March 2026 showed it"),
    "latch_broken": ({"breach_weight": 80}, {"broken": 1}, "breaks the latch “at most 3 delegates”"),
    "owner_left": ({}, {"owner_left": True}, "Ines, who owns Ledger, left"),
    "owner_alone": ({"stewards": 0, "sensitivity": 2}, {"stewards": 0}, "Only Ines decides"),
    "no_steward": ({"has_owner": False}, {"has_owner": False, "stewards": 0}, "Nobody answers for Ledger"),
    "many_stewards": ({"stewards": 6}, {"stewards": 7}, "7 people besides the owner decide"),
    "read_in_part": ({}, {"partial": True}, "not all of Ledger can be read"),
    "exposure_new": ({}, {"exposed_new": 2}, "Ledger has 2 exposures that nobody has judged"),
    "exposure_grown": ({"exposed_new": 1}, {"exposed_grown": 1}, "more people get in than before"),
    "anyone_changes": ({"open_to_anyone": 1}, {"open_changes": 1}, "By 1 exposure anyone can change"),
    "sensitive_open": ({"open_to_anyone": 1, "sensitivity": 2}, {"open_to_anyone": 1}, "anyone gets in by 1 exposure"),
    "intended_unused": ({}, {"intended_unused": 1}, "without a use that is known"),
    "intended_over": ({}, {"intended_over": 1}, "had been called intended"),
    "guard_broken": ({}, {"forbidden": 1}, "1 exposure against a guard"),
    "guard_off": ({}, {"guards_off": 1}, "no longer has 1 guard of the organisation"),
    "exposure_unclear": ({}, {"exposed_unclear": 1}, "conditions that are not understood"),
    "part_still_open": ({}, {"reopened": 2}, "2 parts of Ledger had been closed"),
    "payer_left": ({}, {"payer_left": True}, "who pays for Ledger, left on 28 February 2026"),
    "payment_ends": ({"paid_days": 31}, {"paid_days": 30}, "Ledger is paid for until 28 February 2026"),
    "no_second_factor": ({"second_factor": False, "far_accounts": 0}, {"second_factor": False}, "on 2 accounts"),
    "outsider_wide": ({**OUT, "accounts": 8}, {**OUT, "accounts": 9}, "reaches 9 accounts; the limit is 8"),
    "never_together": ({}, {"together": True}, "books.pay and books.check, which must never"),
    "offer_waiting": ({"waiting_days": 21}, {"waiting_days": 22}, "the limit is 21 days"),
}


def found(subject: str, settings: Settings | None = None, **changed: Any) -> dict[str, str]:
    """The rules that speak on the quiet subject with something changed, with what they say."""
    book = next(book for book in BOOKS if book.subject == subject)
    facts = dict.fromkeys(facts_of(book.facts), AT) | QUIET[subject] | changed
    told = ((rule.key, rule.find(facts, settings or Settings())) for rule in book.rules)
    return {key: finding.sentence for key, finding in told if finding is not None}


@pytest.mark.parametrize("subject", QUIET)
def test_nothing_is_said_about_what_is_in_order(subject: str) -> None:
    assert found(subject) == {}


@pytest.mark.parametrize("rule", RULES, ids=[rule.key for rule in RULES])
def test_each_rule_at_its_edge(rule: Any) -> None:
    """Not raised at the limit, raised just past it, with a sentence that names the facts; never when it is off."""
    just_not, just, told = EDGES[rule.key]
    assert rule.key not in found(rule.subject, **just_not)
    assert told in found(rule.subject, **just)[rule.key]
    assert rule.key not in found(rule.subject, Settings(off=frozenset({rule.key})), **just)


def test_a_limit_of_none_silences_a_rule_for_that_sensitivity_alone() -> None:
    """So an organisation can leave its least sensitive accounts alone."""
    settings = Settings(limits={"unused": (None, 10, 10, 10)})
    assert "unused" not in found("grant", settings, idle_days=999, sensitivity=1)
    assert "unused" in found("grant", settings, idle_days=11, sensitivity=2)


def test_a_warden_who_comes_every_summer_is_not_stale_in_winter() -> None:
    """Where use paused for as long before and came back, a pause is the season's, up to a month more."""
    assert "unused" in found("grant", idle_days=250, pause_days=60)
    assert found("grant", idle_days=250, pause_days=240) == {}
    assert "unused" in found("grant", idle_days=271, pause_days=240)
    assert "used_again" not in found("grant", dormant_days=280, pause_days=280, other_pause_days=275)


def test_what_has_ended_is_looked_at_by_one_rule_only() -> None:
    """An ended grant can't be stale; it can still be there."""
    everything = {"live": False, "holder_left": True, "recorded": False, "idle_days": 999, "giver_left": True}
    assert found("grant", **everything) == {}
    assert set(found("grant", **everything, still_there=True)) == {"still_there"}


def test_the_score_grows_with_every_part_and_ends_at_100() -> None:
    """Its parts add up; its bands are the severities."""
    usual = Weights()
    least, most = score(usual, 1, 1, True, 0, 100), score(usual, 4, 4, False, 100, 100)
    assert (least.total, least.severity) == (12, Severity.LOW)
    assert (most.total, most.severity) == (100, Severity.CRITICAL)
    assert score(usual, 4, 4, True, 0, 50).parts == {
        "reach": 32,
        "sensitivity": 28,
        "outside": 0,
        "staleness": 0,
        "doubt": -10,
    }
    assert score(Weights(doubt=100), 1, 1, True, 0, 0).total == 0


def test_staleness_goes_in_steps_so_that_flags_do_not_flicker() -> None:
    """Between two steps nothing about a flag changes, however many days pass."""
    rule = next(rule for rule in RULES if rule.key == "unused")
    facts = dict.fromkeys(facts_of(BOOKS[0].facts), AT) | QUIET["grant"]
    steps = [rule.stale.of({**facts, "idle_days": days}, Settings()) for days in range(121, 400)]
    assert sorted(set(steps)) == [0, 20, 40, 60, 80, 100]
    assert steps == sorted(steps)
    assert steps[-1] == 100


def test_every_rule_has_a_key_and_number_of_its_own_and_says_what_to_do() -> None:
    """The console, the journal and the documents go by the key; what was found is kept by the number."""
    assert set(EDGES) == {rule.key for rule in RULES}
    assert len(RULES) == len({rule.number for rule in RULES}) == len({rule.key for rule in RULES}) >= 25
    assert all(rule.title and rule.about and rule.remedy.words.endswith(".") for rule in RULES)
    assert all(rule.number < custom_rules.FIRST_NUMBER for rule in RULES)


def test_settings_survive_being_kept() -> None:
    """Also by a version that knows fewer limits."""
    pairs = (("books.pay", "books.check"),)
    made = Settings({"unused": (1, 2, 3, None)}, Weights(outside=3), frozenset({"missing"}), pairs, frozenset({"X"}))
    assert Settings.kept(made.stored) == made
    assert Settings.kept({"limits": {"of old": [1, 2, 3, 4]}}) == Settings()
    assert Settings(limits={"unused": LIMITS["unused"].usual}).stored["limits"] == {}


def test_the_reference_is_what_the_rules_say() -> None:
    """Written from them: python -c "from openlatch.core.flags.reference import page; print(page(), end='')"."""
    assert Path("docs/reference/rules.md").read_text() == reference.page()


# Own rules.

ATTRIBUTES = {
    "grant": {
        "holder.kind": Attribute(Kind.WORD, ""),
        "reach": Attribute(Kind.REACH, ""),
        "last_used_at": Attribute(Kind.TIME, ""),
    }
}
FILE = """
format = "open-latch-rules/1"
[[rule]]
key = "agency_pays"
on = "grant"
title = "An agency can spend"
when = 'holder.kind eq "team" and reach ge "spend"'
says = "{holder} can spend on {account}."
remedy = "Trim it."
urgency = 40
[[rule.matches]]
holder.kind = "team"
reach = "steward"
[[rule.misses]]
holder.kind = "person"
reach = "steward"
"""


def read(text: str) -> list[custom_rules.OwnRule]:
    return custom_rules.read(text, ATTRIBUTES, {"grant": ("holder", "account")})


def test_an_own_rule_and_its_examples() -> None:
    """Examples are tried by what filters mean everywhere."""
    (rule,) = read(FILE)
    assert (rule.key, rule.urgency, len(rule.matches), len(rule.misses)) == ("agency_pays", 40, 1, 1)
    assert custom_rules.try_out([rule]) == []
    wrong = read(FILE.replace('reach = "steward"\n[[rule.misses]]', 'reach = "operate"\n[[rule.misses]]'))
    (failure,) = custom_rules.try_out(wrong)
    assert (failure.example, failure.expected) == (1, True)
    (bare,) = custom_rules.try_out(read(FILE[: FILE.index("[[rule.misses]]")]))
    assert "one that must not" in bare.why


@pytest.mark.parametrize(
    ("change", "told"),
    [
        (("open-latch-rules/1", "something"), "does not say that it holds rules"),
        (('key = "agency_pays"', 'key = "Agency pays"'), "small letters"),
        (('on = "grant"', 'on = "cat"'), "has to be one of grant"),
        (('reach ge "spend"', 'colour eq "red"'), "no attribute 'colour'"),
        (("{holder} can", "{secret} can"), "{secret} is not a fact here"),
        (("{holder} can", "{holder.__class__} can"), "is not a fact here"),
        (("{holder} can", "{holder!r:>999999999} can"), "is not a fact here"),
        (("urgency = 40", "urgency = 400"), "from 0 to 100"),
        (("urgency = 40", "colour = 40"), "has no meaning"),
        (('remedy = "Trim it."', 'remedy = ""'), "is missing"),
        (('remedy = "Trim it."', 'remedy = "a\\u0000b"'), "control characters"),
        (('eq "team"', 'eq "\\u0000"'), "is not a value for 'holder.kind'"),
        (('reach = "steward"', 'reach = "far"'), "can't be 'far'"),
        (("[[rule]]", "[[rule"), "not TOML"),
    ],
)
def test_a_file_of_rules_that_can_not_be_used_says_why(change: tuple[str, str], told: str) -> None:
    with pytest.raises(BadInput) as error:
        read(FILE.replace(*change))
    assert told in error.value.detail
