"""The words of the register with their plain meanings: one word, one meaning, in interfaces and documents alike."""

from __future__ import annotations

import difflib

WORDS: dict[str, str] = {
    "access rule": (
        "A rule on a resource itself that lets in holders, outsiders or anyone, possibly under conditions: a "
        "list, a policy, a mode, a published link."
    ),
    "account": (
        "Something in a system that several people use, with an owner, a sensitivity and resources: a "
        "mailbox, a database, a site."
    ),
    "action": (
        "Something that somebody can do now that clears flags: end, trim, set an end, hand over, identify a "
        "login, close an exposure, review, record, accept."
    ),
    "adapter": "The part of Open Latch that reads one kind of system and changes access there.",
    "administrator": "A role: may see and change everything in the organisation.",
    "auditor": "A role: sees everything and changes nothing.",
    "charter": "How an organisation wants its register to be, as files: teams, levels, latches, rules, schedules.",
    "confirmed": "A proof: the system was asked again, and it shows that the access is gone.",
    "connected app": "Software with grants on accounts. It has a publisher, and a link to each account.",
    "contradicted": "A proof: a later read shows access that was said to be gone.",
    "coverage": "What a read of a system looked at, and what exists there that it did not or could not look at.",
    "decision": "What a reviewer decides about an item: keep, trim, revoke, or pass on.",
    "delegate": "A person with access to an account that they do not own.",
    "different": "Drift: the system gives somebody another level than the register has.",
    "drift": "How a system differs from the register: unrecorded, missing or different access.",
    "exposure": "A resource that somebody outside, or anyone at all, can reach, and by which rules.",
    "flag": (
        "A concern raised by a rule, with its severity, its facts, a sentence that says why, and a remedy. A "
        "flag is open, accepted or cleared."
    ),
    "grant": "The fact that a holder may act in an account: its terms, its state, who gave it and why.",
    "guard": "What no outsider may do. Exposures that break a guard are flagged.",
    "holder": (
        "Whoever a grant is for: a person, a team, an app, or another account, whose users can then act here, too."
    ),
    "inside": "Belonging to the organisation. Everybody else is outside.",
    "item": "One line of a review that has to be decided.",
    "journal": "The tamper-evident record of everything that happened.",
    "latch": (
        "A limit on an account, or on all accounts of a kind, that a change may not break. It is off, warns or holds."
    ),
    "level": "A named set of permissions in one system. Its reach is the highest of its permissions.",
    "link": "The grant of a connected app on one account.",
    "login": "How a system names somebody. It is matched to a person or an app, or is not identified.",
    "matter": "All open flags about one thing, shown and handled together.",
    "member": "A role: sees what they reach and what is theirs.",
    "missing": "Drift: the register has access that the system does not show.",
    "not identified": "A login that is matched to nobody yet.",
    "observe": "A reach: can see.",
    "offer": "Access proposed to somebody, who can accept or decline it.",
    "operate": "A reach: can change.",
    "organisation": "The tenant. Nothing is ever visible across organisations.",
    "owner": "The person who answers for an account and decides who gets in.",
    "permission": "One thing that a system lets a holder do, with a sentence that anybody understands.",
    "person": "A human being in the register: inside or outside; current, leaving on a day, or left.",
    "proof": "How an end of access is known: confirmed, stated, unproved or contradicted.",
    "reach": "How far a permission goes: observe, operate, spend or steward.",
    "read": "One pass over a system, which shows the access there.",
    "request": "Access that somebody asks an owner for.",
    "resource": "A part of an account that can be shared on its own: a folder, a schema, a page.",
    "review": "A round in which access is decided about, item by item.",
    "revocation": "Ending or trimming access: steps that are carried out in the system and then verified.",
    "rule": "What raises flags: a condition on facts, with limits that depend on the sensitivity of the account.",
    "schedule": "When a review opens by itself.",
    "sensitivity": "How much harm misuse of an account would do: low, medium, high or critical.",
    "session": "Somebody signed in to an account: on which device, from where, since when.",
    "sign-in": "A person’s way into Open Latch itself, with a role.",
    "spend": "A reach: can commit money or other people’s rights.",
    "stated": "A proof: a named person says that they removed the access.",
    "steward": "A reach: can decide who else gets in.",
    "system": "Where accounts live: a database server, a mail server, a directory, a host, a cloud service.",
    "team": "People, teams and partner organisations that hold access together.",
    "term": (
        "A part of a grant: a level or a permission, on the whole account or parts of it, for a time, perhaps "
        "only in certain hours."
    ),
    "trim": "To reduce access to fewer permissions, or to a shorter time.",
    "unproved": "A proof that is none: the step was skipped, or the system’s answer is missing or not understood.",
    "unrecorded": "Drift: the system has access that the register does not.",
}


def meaning(word: str) -> tuple[str, str] | None:
    """A word as the glossary has it, and its meaning, also for a plural; None for an unknown word."""
    asked = " ".join(word.lower().split())
    for known in (asked, asked.removesuffix("s"), asked.removesuffix("ies") + "y", asked.removesuffix("es")):
        if known in WORDS:
            return known, WORDS[known]
    return None


def similar(word: str) -> list[str]:
    """Words of the glossary that are spelled much alike, or contain it."""
    asked = word.lower().strip()
    return sorted(
        {*difflib.get_close_matches(asked, WORDS, 5), *(known for known in WORDS if asked and asked in known)}
    )


def document() -> str:
    """The glossary as a document."""
    lines = [f"| {word} | {text} |" for word, text in sorted(WORDS.items())]
    about = "What the words of Open Latch mean. Each has one meaning, also in the console and on the command line."
    return "\n".join(["# Words", "", about, "", "| word | meaning |", "|---|---|", *lines, ""])
