"""How each end is known: confirmed, stated, unproved or contradicted"""

from alembic import op
import sqlalchemy as sa

revision = '0012'
down_revision = '0011'
branch_labels = None
depends_on = None

PROVED = ("grants", "sessions", "resources", "items", "revocation_targets")
# Who did or skipped a step stood in its answer.
STEPS = """
    update steps set done_by = coalesce(
        substring(answer from '^Skipped by (.*?): '), substring(answer from '^Undone by (.*?): '),
        case when kind = 'by_hand' then substring(answer from '^(.*?) says: ') end, '')
    where state in ('done', 'skipped');
    update steps set proof = case when state = 'skipped' then 'unproved' else 'confirmed' end
    where kind in ('lock', 'drop') and state in ('done', 'skipped');
"""
# The weakest of what its own steps and the readings of its account came to.
TARGETS = """
    update revocation_targets t set proof = known.proof, proved_at = known.at, proved_by = known.by,
        proof_words = known.words
    from (
        select t.id,
            case when count(s.id) = 0 or bool_or(s.state <> 'done') then 'unproved'
                 when bool_or(s.kind = 'by_hand') then 'stated'
                 when bool_or(s.kind = 'read_again') then 'confirmed' else 'unproved' end as proof,
            coalesce(max(s.done_at), max(r.confirmed_at)) as at,
            coalesce(max(nullif(s.done_by, '')), '') as by,
            coalesce(string_agg(distinct nullif(s.answer, ''), ' '), '') as words
        from revocation_targets t join revocations r on r.id = t.revocation_id
        left join steps s on s.revocation_id = t.revocation_id and (
            s.grant_id = t.grant_id or s.session_id = t.session_id or s.detail ->> 'part' = t.resource_id::text
            or (s.kind = 'read_again' and s.account_id = t.account_id))
        where r.confirmed_at is not null and r.undone_at is null
            and not (t.trim_until is not null and t.trim_level_id is null)
        group by t.id
    ) known where known.id = t.id;
"""
REVOCATIONS = """
    update revocations set settled_at = confirmed_at where confirmed_at is not null;
    update revocations r set confirmed_at = null where r.undone_at is not null or exists (
        select from revocation_targets t where t.revocation_id = r.id and t.proof <> 'confirmed'
    ) or exists (select from steps s where s.revocation_id = r.id and s.proof <> 'confirmed');
"""
GRANTS = """
    update grants g set proof = last.proof, proved_at = last.proved_at, proved_by = last.proved_by,
        proof_words = last.proof_words
    from (
        select distinct on (t.grant_id) t.* from revocation_targets t
        where t.grant_id is not null and t.proof is not null and t.trim_level_id is null and t.trim_until is null
        order by t.grant_id, t.created_at desc, t.id desc
    ) last where last.grant_id = g.id and g.state = 'ended';
    update grants set proof = 'confirmed', proved_at = ended_at, proof_words = 'A reading did not show it any more.'
    where state = 'ended' and proof is null and not recorded and ended_as = 'revoked';
    update grants set proof = 'unproved', proved_at = ended_at
    where state = 'ended' and proof is null and ended_as in ('revoked', 'expired', 'given_up', 'replaced');
    update grants set ended_as = proof where ended_as = 'revoked' and proof <> 'confirmed';
"""
SESSIONS = """
    update sessions s set proof = last.proof, proved_at = last.proved_at, proved_by = last.proved_by,
        proof_words = last.proof_words
    from (
        select distinct on (t.session_id) t.* from revocation_targets t
        where t.session_id is not null and t.proof is not null order by t.session_id, t.created_at desc, t.id desc
    ) last where last.session_id = s.id and s.ended_at is not null;
    update sessions set proof = 'confirmed', proved_at = ended_at, proof_words = 'A reading did not show it any more.'
    where ended_at is not null and proof is null and ended_as = 'signed_out' and handle <> '{}';
    update sessions set proof = 'unproved', proved_at = ended_at where ended_at is not null and proof is null;
    update sessions set ended_as = proof where ended_as = 'revoked' and proof <> 'confirmed';
"""


def upgrade() -> None:
    """What was ended before gets the proof that its steps show, and no more."""
    op.execute("set lock_timeout = '10s'")
    for table in PROVED:
        op.add_column(table, sa.Column('proof', sa.Text(), nullable=True))
        op.add_column(table, sa.Column('proved_at', sa.DateTime(timezone=True), nullable=True))
        op.add_column(table, sa.Column('proved_by', sa.Text(), server_default='', nullable=False))
        op.add_column(table, sa.Column('proof_words', sa.Text(), server_default='', nullable=False))
    op.add_column('steps', sa.Column('done_by', sa.Text(), server_default='', nullable=False))
    op.add_column('steps', sa.Column('proof', sa.Text(), nullable=True))
    op.add_column('revocations', sa.Column('settled_at', sa.DateTime(timezone=True), nullable=True))
    op.add_column('rounds', sa.Column('fates_by', sa.Text(), server_default='', nullable=False))
    op.add_column('items', sa.Column('nothing_done', sa.Boolean(), server_default='false', nullable=False))
    for statement in (STEPS, TARGETS, REVOCATIONS, GRANTS, SESSIONS):
        op.execute(statement)


def downgrade() -> None:
    """How ends are known is lost; a revocation reads as confirmed again once nothing of it is left to do."""
    op.execute("update revocations set confirmed_at = settled_at where settled_at is not null")
    op.execute("update grants set ended_as = 'revoked' where ended_as in ('stated', 'unproved', 'contradicted')")
    op.drop_column('items', 'nothing_done')
    op.drop_column('rounds', 'fates_by')
    op.drop_column('revocations', 'settled_at')
    op.drop_column('steps', 'proof')
    op.drop_column('steps', 'done_by')
    for table in PROVED:
        for name in ('proof_words', 'proved_by', 'proved_at', 'proof'):
            op.drop_column(table, name)
