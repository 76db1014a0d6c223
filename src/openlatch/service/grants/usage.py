"""Usage tracking, and the smallest sufficient level."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import UTC, date
from uuid import UUID

from sqlalchemy import func, select, text, update

from openlatch import schemas
from openlatch.core.checks import require_count
from openlatch.core.grants.usage import Watched, sufficient
from openlatch.core.reviews.recommendations import LevelChoice
from openlatch.core.vocabulary import Reach
from openlatch.service.flags import evaluate as evaluate_flags
from openlatch.service.lists.register import row
from openlatch.service.unit import Unit
from openlatch.store.tables import Account, Grant, Level, Term, Use

MOST_DAYS = 3650


def note(unit: Unit, grants: Iterable[UUID]) -> None:
    """Record that these grants are used now, by an unknown permission."""
    ids = sorted(set(grants))
    if not ids:
        return
    unit.db.execute(update(Grant).where(Grant.id.in_(ids)).values(last_used_at=unit.now))
    today = unit.now.astimezone(UTC).date()
    keep(unit, [(ident, "", today) for ident in ids])
    evaluate_flags.evaluate(unit, noted=ids)


def keep(unit: Unit, days: Sequence[tuple[UUID, str, date]]) -> None:
    """Store days of use of grants, by permission; under an empty permission when it is unknown.

    Use by a permission also counts under the empty one. Idempotent.
    """
    everything = dict.fromkeys((*days, *((grant, "", day) for grant, _, day in days)))
    unit.db.execute(
        text(
            """
            insert into uses as u (id, organisation_id, grant_id, permission, days)
            select gen_random_uuid(), g.organisation_id, g.id, n.permission, range_agg(daterange(n.day, n.day + 1))
            from unnest(cast(:grants as uuid[]), cast(:permissions as text[]), cast(:days as date[]))
                n(ident, permission, day)
            join grants g on g.id = n.ident
            group by g.organisation_id, g.id, n.permission
            on conflict (grant_id, permission) do update set days = u.days + excluded.days
            where not u.days @> excluded.days
            """
        ),
        {
            "grants": [g for g, _, _ in everything],
            "permissions": [p for _, p, _ in everything],
            "days": [d for _, _, d in everything],
        },
    )


def of_grant(unit: Unit, ident: UUID, days: int) -> schemas.UseOf:
    """Use of a grant by permission, and the smallest level that would have covered the last ``days``."""
    require_count(days, MOST_DAYS, "days", "days")
    row(unit, "grants", ident)
    grant = unit.db.get_one(Grant, ident)
    spans = func.unnest(Use.days).column_valued("span")
    counted = select(func.sum(func.upper(spans) - func.lower(spans))).scalar_subquery()
    rows = unit.db.execute(
        select(Use.permission, func.lower(Use.days), func.upper(Use.days) - 1, counted, Use.pauses).where(
            Use.grant_id == ident
        )
    ).all()
    named = {row[0]: row for row in rows if row[0]}
    whole = next((row for row in rows if not row[0]), None)
    watched = Watched(
        min((row[1] for row in named.values()), default=None),
        {key: row[2] for key, row in named.items()},
        {key: int(row[3]) for key, row in named.items()},
        tuple(whole[4]) if whole else (),
    )
    own = unit.db.scalars(select(Level).join(Term, Term.level_id == Level.id).where(Term.grant_id == ident)).all()
    system = select(Account.system_id).where(Account.id == grant.account_id).scalar_subquery()
    choices = [
        LevelChoice(level.id, level.name, Reach(level.reach), frozenset(p["key"] for p in level.permissions))
        for level in unit.db.scalars(select(Level).where(Level.system_id == system, ~Level.single))
    ]
    held = {p["key"]: p["sentence"] for level in own for p in level.permissions}
    reach = Reach(max((level.reach for level in own), default=1))
    found = sufficient(choices, frozenset(held), reach, watched, days, unit.now.date())
    return schemas.UseOf(
        days=days,
        last_used_at=grant.last_used_at,
        days_used=int(whole[3]) if whole else 0,
        watched_since=watched.since,
        longest_pause=watched.pauses[0] if watched.pauses else None,
        rights=[
            schemas.RightUsed(
                key=key,
                sentence=sentence,
                days_used=watched.day_counts.get(key, 0),
                last_used=watched.last_days.get(key),
                within=key in found.used,
            )
            for key, sentence in sorted(held.items())
        ],
        level=schemas.Named(id=found.level.id, name=found.level.name) if found.level else None,
        gives_up=sorted(held[key] for key in found.given_up),
        sure=found.sure,
        words=found.words,
    )
