"""What the service says, in the reader's language.

Everything is said in English, in the place where it is known, and some of it is stored, as the sentences of flags are.
Another language is put on last, where an answer or a mail leaves the service: the sentence is found again in the
catalogue of the language (gettext), and what it names is taken over as it is. What the catalogue lacks stays English.
"""

ENGLISH = "en"


def language_of(locale: str | None) -> str:
    """The code of the language of a locale that somebody has chosen; English where they have chosen none."""
    return (locale or ENGLISH).partition("-")[0].lower()
