"""Access rules of a mail server: what its lists give to whoever signs in, and from whom an own entry keeps it.

``anyone`` and ``authenticated`` (RFC 4314) are whoever has signed in; where a server lets people sign in anonymously,
that is anybody. Whether it does is not asked.
"""

from __future__ import annotations

from collections.abc import Iterator

from openlatch.adapters.contract import FoundRule, RuleManner
from openlatch.adapters.mail.lists import ANYONE, MailList
from openlatch.core.exposure.paths import key_of, path_of
from openlatch.core.exposure.rules import Combining, Right

# An entry for a login takes the place of those for everybody, so what it lacks is refused to that login. Who signs in
# besides those who stand in some list is not told.
MANNER = RuleManner(
    Combining.REFUSE_WINS,
    {
        **dict.fromkeys("lrs", Right.SEE),
        **dict.fromkeys("wipkxtecd", Right.CHANGE),
        "a": Right.ADMINISTER,
    },
    logins_known=False,
)


def open_rules(account: str, part: str, box: str, acl: MailList) -> Iterator[FoundRule]:
    """The rules of one folder, where anybody has rights on it who signs in."""
    rights = [right for right in acl.for_everyone() if right in MANNER.permissions]
    if not rights:
        return
    at = {"set_on": {"resource": path_of(part)}}
    handle = {"who": ANYONE, "boxes": [box]}
    key = key_of(part)
    yield FoundRule(account, {"rule": f"everyone.{key}", "admit": ["signed in"], "to": sorted(rights), **at}, handle)
    for number, who in enumerate(acl.logins):
        lacking = sorted(set(rights) - set(acl.effective(who)))
        if lacking:
            rule = {"rule": f"without.{number}.{key}", "refuse": [{"holder": who}], "to": lacking, **at}
            yield FoundRule(account, rule)
