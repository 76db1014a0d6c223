"""What is left of somebody who was erased: a stable pseudonym, and entries of which only the structure is kept."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass
from uuid import UUID

import orjson

from openlatch.core.journal import chain
from openlatch.json_values import JsonObject, JsonValue


def pseudonym(ident: UUID) -> str:
    """The name of an erased person: always the same for one person, and revealing nothing."""
    return f"Former person {hashlib.sha256(ident.bytes).hexdigest()[:6].upper()}"


def in_json(word: str) -> str:
    """A word as it is within the text of JSON."""
    return orjson.dumps(word).decode()[1:-1]


@dataclass(frozen=True, slots=True)
class Erased:
    """Somebody who is erased, and the words that name them in texts, the longest first."""

    ident: UUID
    words: tuple[str, ...]

    @property
    def called(self) -> str:
        """Their pseudonym."""
        return pseudonym(self.ident)

    def is_told_in(self, entry: JsonObject) -> bool:
        """Whether an entry is by or about them or names them, and is not itself about an erasure."""
        if entry["action"] == chain.ERASED:
            return False
        actor, subject, ident = entry["actor"], entry["subject"], str(self.ident)
        if ident in {actor["id"], subject["id"]}:
            return True
        facts = orjson.dumps(entry["facts"]).decode()
        return any(word in actor["name"] or word in subject["name"] or in_json(word) in facts for word in self.words)

    def without(self, entry: JsonObject) -> JsonObject:
        """An entry without what it says about them. Position, instant, action, ids and hashes stay as sealed."""
        ident = str(self.ident)
        actor, subject = entry["actor"], entry["subject"]
        is_actor, is_subject = actor["id"] == ident, subject["id"] == ident
        kept = {name: value for name, value in entry.items() if name != "key"}
        return {
            **kept,
            "actor": {**actor, "name": self.called if is_actor else self.without_words(actor["name"])},
            "subject": {**subject, "name": self.called if is_subject else self.without_words(subject["name"])},
            # Facts about a person may name them in any form: only their structure is kept.
            "facts": {"erased": True} if is_subject else self.without_words(entry["facts"]),
            "told": chain.told(entry) if entry.get("key") else entry.get("told") or "",
        }

    def without_words(self, value: JsonValue) -> JsonValue:
        """A value in whose texts the words are replaced by the pseudonym."""
        if isinstance(value, str):
            for word in self.words:
                value = value.replace(word, self.called)
            return value
        if isinstance(value, list):
            return [self.without_words(one) for one in value]
        if isinstance(value, dict):
            return {key: self.without_words(one) for key, one in value.items()}
        return value
