"""E-mail addresses: which are taken, in which form, and what is wrong with the others."""

from __future__ import annotations

import pytest

from openlatch.core.addresses import FREE_MAIL, checked, domain_of


@pytest.mark.parametrize(
    ("written", "kept"),
    [
        (" Ines.Calder@Hollinfell.Example.ORG ", "ines.calder@hollinfell.example.org"),
        ("ada@office.local", "ada@office.local"),
        ("ada@host.test", "ada@host.test"),
        ("ada+huts@example.org", "ada+huts@example.org"),
        ("ådne@exämple.org", "ådne@exämple.org"),
    ],
)
def test_an_address_is_taken_in_one_form(written: str, kept: str) -> None:
    assert checked(written) == kept


@pytest.mark.parametrize(
    "written",
    [
        "",
        "nobody",
        "a@b",
        "a@localhost",
        "a..b@example.org",
        "a b@example.org",
        "a\nb@example.org",
        "a\0@example.org",
        "Ada <ada@example.org>",
        "a@example.org, b@example.org",
        "a@[192.0.2.1]",
        "a" * 10_000 + "@example.org",
    ],
)
def test_what_is_no_address_is_refused_in_words(written: str) -> None:
    with pytest.raises(ValueError, match=r"[a-z]$|\)$|U\+\w+$|SPACE$"):
        checked(written)


def test_services_for_everybody_are_told_by_their_domain() -> None:
    assert domain_of("Thea@Freemail.Example") in FREE_MAIL
    assert domain_of("thea@hollinfell.example.org") not in FREE_MAIL
    assert domain_of("thea") == ""
