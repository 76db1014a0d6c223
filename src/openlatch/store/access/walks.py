"""Walks over who acts as whom, as SQL: the steps that ``core.access.paths`` takes, for many subjects at once.

A person acts as the teams that they belong to, as the accounts that they own, and as the accounts that they, or whoever
they act as, hold a grant on as a whole. Everything counts at the instant ``%(now)s``: windows of memberships and terms,
states of grants, and whether people have left. ``tests/service/test_walks.py`` holds these walks equal to the paths.
"""

from __future__ import annotations

NOW = "%(now)s::timestamptz"
# The states in which a grant gives something, as ``core.register.Grant.gives`` says.
GIVES = "('active', 'revoking')"


def open_now(row: str) -> str:
    """Whether the window of a membership or a term contains the instant."""
    return f"({row}.since is null or {row}.since <= {NOW}) and ({row}.until is null or {row}.until > {NOW})"


def is_there(person: str) -> str:
    """Whether a person has not left."""
    return f"({person}.standing = 'current' or coalesce({person}.leaves_at > {NOW}, {person}.standing <> 'left'))"


def _gives_whole(grant: str) -> str:
    """Whether a grant gives something on its whole account, so that its holder acts as the account elsewhere."""
    return (
        f"{grant}.state in {GIVES} and exists (select from terms ws where ws.grant_id = {grant}.id "
        f"and ws.resource_id is null and ws.group_id is null and {open_now('ws')})"
    )


# Who acts as what, over the whole register at once; accounts only where something is held as them.
_EVERY_EDGE = f"""
    leads(account) as materialized (
        select distinct gl.holder_id from grants gl where gl.holder_kind = 'account' and gl.state <> 'ended'
    ),
    edges(below, kind, above) as materialized (
        select me.member_id, case when me.person_id is null then 'team' else 'person' end, me.team_id
        from memberships me where {open_now("me")}
        union all
        select ge.holder_id, ge.holder_kind, ge.account_id
        from leads le join grants ge on ge.account_id = le.account where {_gives_whole("ge")}
        union all
        select ae.owner_id, 'person', ae.id
        from leads le join accounts ae on ae.id = le.account where ae.owner_id is not null
    )
"""


def acting_as(who: str, bulk: bool) -> str:
    """``up(person_id, holder_id)``, to follow ``with recursive``: each person with everybody they act as.

    ``who`` restricts the people ``pu``. Accounts are included if they hold grants. In ``bulk`` all edges are collected
    once; otherwise they are looked up row by row.
    """
    start = f"select pu.id, pu.id from people pu where {who}"
    if bulk:
        return f"""
            {_EVERY_EDGE},
            up(person_id, holder_id) as (
                {start} union select u.person_id, e.above from up u join edges e on e.below = u.holder_id
            )
        """
    leads_on = f"exists (select from grants lu where lu.holder_id = {{}} and lu.state in {GIVES})"
    return f"""
        up(person_id, holder_id) as (
            {start}
            union
            select u.person_id, next.id from up u cross join lateral (
                select mu.team_id as id from memberships mu where mu.member_id = u.holder_id and {open_now("mu")}
                union all
                select gu.account_id from grants gu where gu.holder_id = u.holder_id and {_gives_whole("gu")}
                    and {leads_on.format("gu.account_id")}
                union all
                select ou.id from accounts ou where ou.owner_id = u.holder_id and {leads_on.format("ou.id")}
            ) next
        )
    """


def behind(tops: str, bulk: bool, steps: bool = False) -> str:
    """``down(top, node, kind)``, to follow ``with recursive``: each team and account with those who act as it.

    ``tops`` selects the ids and kinds of teams and accounts. ``steps`` adds the number of steps, up to a dozen. In
    ``bulk`` all edges are collected once; otherwise they are looked up row by row.
    """
    first, next_one, few = (", 1", ", d.steps + 1", "d.steps < 12") if steps else ("", "", "true")
    columns = f"top, node, kind{', steps' if steps else ''}"
    start = f"select tops.id, tops.id, tops.kind{first} from ({tops}) tops(id, kind)"
    if bulk:
        return f"""
            {_EVERY_EDGE},
            down({columns}) as (
                {start}
                union
                select d.top, e.below, e.kind{next_one} from down d join edges e on e.above = d.node where {few}
            )
        """
    return f"""
        down({columns}) as (
            {start}
            union
            select d.top, next.node, next.kind{next_one} from down d cross join lateral (
                select m.member_id as node, case when m.person_id is null then 'team' else 'person' end as kind
                from memberships m where d.kind = 'team' and m.team_id = d.node and {open_now("m")}
                union all
                select i.holder_id, i.holder_kind from grants i
                where d.kind = 'account' and i.account_id = d.node and {_gives_whole("i")}
                union all
                select o.owner_id, 'person' from accounts o
                where d.kind = 'account' and o.id = d.node and o.owner_id is not null
            ) next where d.kind in ('team', 'account') and {few}
        )
    """
