"""The reference of the rules, written from the rules themselves: ``docs/reference/rules.md`` is what this gives."""

# ruff: noqa: E501  a page has lines of its own

from __future__ import annotations

from openlatch.core.flags import BOOKS, LIMITS, Rule, Weights

_TITLES = {
    "grant": "On grants and links",
    "session": "On sessions",
    "account": "On accounts",
    "person": "On people",
    "offer": "On offers",
}
_HEAD = """# Rules and score

Each rule is one small function in `core/flags`, written once: the same tree is worked out on one subject and turned into
SQL for all of them, and a test holds the two equal. Rules look at live grants (active, suspended, revoking), at sessions
that go on, at accounts, people and open offers. The same facts give the same flag; a flag clears by itself when its facts
change, is raised once more as *worse* when its severity rises, and an accepted one that gets worse is open again.

Limits and weights are settings of the organisation (Rules in the console, `openlatch rule set`, `PUT /api/v1/rules`); a
change shows what it would raise and clear before it is kept. Rules of an organisation's own: [own rules](own-rules.md).
Everybody can read the rules, and what they are told of themselves (`openlatch facts`).
"""
_FOOT = """
## Limits

By the sensitivity of the account: low, medium, high, critical. With "none" the rule does not speak there.

| limit | low, medium, high, critical | unit | what it says |
|---|---|---|---|
{limits}

## Score

score = reach + sensitivity + outside + staleness × percent past the limit − doubt × (100 − confidence) ÷ 100, from 0 to
100. The parts are shown with every flag and add up to it. From 75 a flag is critical, from 55 high, from 35 medium, else
low.

| part | usual points |
|---|---|
| reach | observe {r[0]}, operate {r[1]}, spend {r[2]}, steward {r[3]}; a session counts as observe, an account as steward |
| sensitivity | low {s[0]}, medium {s[1]}, high {s[2]}, critical {s[3]} |
| outside | {w.outside} when the holder is outside the trust boundary |
| staleness | 0 to {w.staleness}: nothing at the limit, all at three times of it, in steps of a fifth so that nothing flickers |
| doubt | 0 to −{w.doubt}: the less certain the finding, the more |
"""


def page() -> str:
    """The page, in Markdown."""
    parts = [_HEAD]
    for book in BOOKS:
        parts.append(
            f"\n## {_TITLES[book.subject]}\n\n| rule | raised when | limits | what to do |\n|---|---|---|---|\n"
        )
        parts += [f"| `{r.key}` | {r.about} | {', '.join(limits_of(r))} | {r.remedy.words} |\n" for r in book.rules]
    rows = (
        f"| {k.name} | {', '.join('none' if n is None else str(n) for n in k.usual)} | {k.unit} | {k.about} |"
        for k in LIMITS.values()
    )
    weights = Weights()
    parts.append(_FOOT.format(limits="\n".join(rows), r=weights.reach, s=weights.sensitivity, w=weights))
    return "".join(parts)


def limits_of(rule: Rule) -> list[str]:
    """The names of the limits that a rule looks at."""
    text = repr(rule.when)
    return [name for name in LIMITS if f"Limit(name={name!r})" in text]
