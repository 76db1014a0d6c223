"""The language of a terminal: what the program says there is written in English, and put into it last."""

from __future__ import annotations

import os

from openlatch.languages import ENGLISH

# As POSIX looks for the language of messages, after our own.
_VARIABLES = ("OPENLATCH_LANGUAGE", "LC_ALL", "LC_MESSAGES", "LANG")


def chosen() -> str:
    """The code of the language that is asked for, whether it is spoken or not; English for the locale C."""
    asked = next((held for name in _VARIABLES if (held := os.environ.get(name))), ENGLISH)
    code = asked.replace("-", "_").partition("_")[0].partition(".")[0].lower()
    return ENGLISH if code in ("", "c", "posix") else code


def say(text: str) -> str:
    """A text of the program in the language that is asked for; English where there is none."""
    language = chosen()
    if language == ENGLISH:
        return text
    # Reading a catalogue takes a quarter of a second, which English is spared.
    from openlatch.languages.catalogue import catalogue_of

    catalogue = catalogue_of(language)
    if catalogue is None:
        return text
    lead, body = text[: len(text) - len(text.lstrip(" \n"))], text.strip(" \n")
    tail = text[len(lead) + len(body) :]
    return catalogue.say(text) if catalogue.knows(text) else f"{lead}{catalogue.say(body)}{tail}"
