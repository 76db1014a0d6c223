"""Every error that Open Latch raises on purpose.

OpenLatchError
├── BadInput            what was sent can't be used; says which part and what to send instead
│   ├── TooLarge        more than one call has time for; the worker can make it
│   └── BadFilter       a filter that doesn't parse or names what isn't there
├── NotSignedIn         nobody is known to be asking
│   ├── FactorNeeded    the password is right; the code of the second factor is asked for too
│   └── OrganisationNeeded  the password is right at several organisations; one has to be named
├── NotAllowed          somebody is, and may not
│   ├── ReadOnly        they may, with a token that is not for reading only
│   └── ProofNeeded     they may, once they have proved afresh that it is them
├── NotFound            nothing of that name that the asker may see
├── Conflict            the thing is not in a state that allows this, or changed meanwhile
│   ├── Outdated        somebody changed the record meanwhile; says what, and who
│   └── Held            a latch holds: says which, the fact, and what would pass
├── Collision           several changes met, and the database stopped this one; it can be tried again as it is
├── NotReady            what is asked for is still being made; worth asking again
├── TooMany             asked too often; carries the seconds to wait
├── SystemDown          an outside system did not answer; worth trying again
├── RegisterDown        the register's database does not answer, or went away before a commit
│   ├── ServerReadOnly  it takes no changes: it is a standby, or has become one
│   └── OutcomeUnknown  it went away while a change was being committed, which may or may not be there
├── ArchiveDown         a file of the archive that is needed is missing, is another, or can't be read
└── SystemRefused       an outside system answered no; trying again changes nothing
"""

from __future__ import annotations

from openlatch.json_values import JsonObject


class OpenLatchError(Exception):
    """The base: a sentence that says what is wrong, and one that says what to do about it."""

    status = 500
    title = "Something went wrong"
    usual_remedy = ""

    def __init__(self, detail: str, remedy: str = "") -> None:
        super().__init__(detail)
        self.detail = detail
        self.remedy = remedy or self.usual_remedy


class BadInput(OpenLatchError):
    """What was sent can't be used. ``fields`` names the parts at fault, each with its reason."""

    status = 422
    title = "Invalid request"

    def __init__(self, detail: str, remedy: str = "", fields: dict[str, str] | None = None) -> None:
        super().__init__(detail, remedy)
        self.fields = fields or {}


class TooLarge(BadInput):
    """What was asked for is more than one call has time for."""

    title = "Too much for one call"
    usual_remedy = "Narrow the filter, or ask for it as a large change (POST /api/v1/changes/large)."


class BadFilter(BadInput):
    """A filter that doesn't parse, or that names an attribute which isn't there."""

    status = 400
    title = "The filter can't be read"


class NotSignedIn(OpenLatchError):
    """Nobody is known to be asking."""

    status = 401
    title = "Sign in first"


class FactorNeeded(NotSignedIn):
    """The password is right; the second factor is needed too. ``passkey``: how a browser is asked for one of theirs."""

    title = "A code is needed"

    def __init__(self, detail: str, remedy: str = "", passkey: JsonObject | None = None) -> None:
        super().__init__(detail, remedy)
        self.passkey = passkey


class OrganisationNeeded(NotSignedIn):
    """The address and the password fit at several organisations."""

    title = "Say at which organisation"


class NotAllowed(OpenLatchError):
    """The asker is known and may not do this."""

    status = 403
    title = "Not allowed"


class ReadOnly(NotAllowed):
    """The asker may do this, with a token whose scope is write."""


class ProofNeeded(NotAllowed):
    """The asker may do this, after proving afresh that it is them."""

    title = "Prove that it is you"
    usual_remedy = "Give your password again (POST /api/v1/me/proof), then send the same call."


class NotFound(OpenLatchError):
    """There is nothing of that name that the asker may see."""

    status = 404
    title = "Not found"
    usual_remedy = "Look whether the name or id is right, and whether it is for you to see."


class Conflict(OpenLatchError):
    """The thing is not in a state that allows this, or somebody changed it meanwhile."""

    status = 409
    title = "Not possible as things stand"


class Outdated(Conflict):
    """The version that was looked at is not the present one. ``fields``: what was changed meanwhile, by whom."""

    status = 412
    title = "Somebody changed it meanwhile"
    usual_remedy = "Look at it again, and make your change to what it is now."

    def __init__(self, detail: str, remedy: str = "", fields: dict[str, str] | None = None) -> None:
        super().__init__(detail, remedy)
        self.fields = fields or {}


class Held(Conflict):
    """A latch holds. ``breaches``: each latch that refuses, the fact, and what would pass."""

    title = "A latch holds"

    def __init__(self, detail: str, remedy: str, breaches: list[dict[str, str]]) -> None:
        super().__init__(detail, remedy)
        self.breaches = breaches


class Collision(OpenLatchError):
    """Several changes met, and the database stopped this one; nothing of it was kept. Trying again may well do."""

    status = 503
    title = "Several changes met"
    usual_remedy = "Nothing was changed; try again in a moment."


class NotReady(OpenLatchError):
    """What is asked for is still being made."""

    status = 503
    title = "Not ready yet"


class TooMany(OpenLatchError):
    """Asked too often. ``wait`` is in seconds."""

    status = 429
    title = "Too many tries"

    def __init__(self, detail: str, remedy: str = "", wait: int = 60) -> None:
        super().__init__(detail, remedy)
        self.wait = wait


class SystemDown(OpenLatchError):
    """An outside system did not answer. The same call may go through later."""

    status = 503
    title = "The system did not answer"


class RegisterDown(OpenLatchError):
    """The register's database does not answer, or went away before anything was committed. ``wait`` is in seconds."""

    status = 503
    title = "The register is not available"
    usual_remedy = "Try again in a moment."
    wait = 1


class ServerReadOnly(RegisterDown):
    """The database server takes no changes: it is a standby, or has become one."""


class OutcomeUnknown(RegisterDown):
    """The database went away while a change was being committed: it may be there, or not."""

    title = "Whether it was changed is not known"
    usual_remedy = "Look whether it was before you repeat it."


class ArchiveDown(OpenLatchError):
    """A file of the archive that is needed for the answer is missing, is another than was written, or can't be read."""

    status = 503
    title = "The archive is not available"
    usual_remedy = "Bring the file back from a backup of the archive, as it was written."


class SystemRefused(OpenLatchError):
    """An outside system answered, and said no."""

    status = 502
    title = "The system refused"
