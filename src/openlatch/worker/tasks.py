"""The worker: carries out revocations, reads systems, evaluates rules, and finds whatever is due.

All work is stored in our own tables; a job is only a wake-up. A lost, doubled or late job does no harm, since
``look_round`` finds all work that is due.
"""

from __future__ import annotations

import asyncio
import os
import signal
import threading
import time
from collections.abc import Awaitable, Callable, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import AbstractContextManager, nullcontext
from datetime import datetime, timedelta
from functools import partial
from typing import Any
from uuid import UUID

import orjson
import psycopg
from procrastinate import App, PsycopgConnector
from procrastinate.exceptions import ConnectorException
from sqlalchemy import delete, select
from structlog import get_logger

from openlatch import schemas
from openlatch.core.vocabulary import Cause
from openlatch.errors import Collision, OpenLatchError
from openlatch.service import connections, signing_keys
from openlatch.service.acting import visits
from openlatch.service.changes import large_changes
from openlatch.service.exposure import drafts
from openlatch.service.exposure import evaluate as exposures
from openlatch.service.flags import evaluate as evaluate_flags
from openlatch.service.flags import weekly_letter
from openlatch.service.grants import end_reminders, hand_tasks, provisioning
from openlatch.service.identity import passwords
from openlatch.service.itself import set_up as itself
from openlatch.service.journal import archive, events, signed_heads, syslog
from openlatch.service.latches import guard
from openlatch.service.lists import saved_filters
from openlatch.service.next_actions import work_out
from openlatch.service.notifications import mail_server, notices
from openlatch.service.offers import manage as manage_offers
from openlatch.service.partners import at_client
from openlatch.service.people import erasure
from openlatch.service.requests import answer as answer_request
from openlatch.service.reviews import close_round, event_rounds, evidence, reminders, schedules
from openlatch.service.revocations import execute, prepare, revoke
from openlatch.service.signals import subscriptions
from openlatch.service.signals.sent_events import SECURITY_EVENTS
from openlatch.service.systems import apply_rules, readings, sealed_secrets, setup, tell_guards
from openlatch.service.trends import letter as trends_letter
from openlatch.service.unit import Service, Viewer
from openlatch.service.webhooks import deliver as deliveries
from openlatch.store.database import lively, transaction
from openlatch.store.tables import (
    ApiToken,
    Delivery,
    IdempotencyKey,
    LargeChange,
    Organisation,
    PasswordReset,
    RuleDraft,
    SignInAttempt,
    WebSession,
)
from openlatch.worker import announcements

log = get_logger()
# So many things at once: most of them wait for a system, and each system has room for a few
# (service/systems/call_slots.py).
AT_ONCE = 16
# Each may hold a lock and a lease, and opens transactions.
CONNECTIONS = 3 * AT_ONCE
# Grace period after SIGTERM; every step can be resumed by the next process.
SECONDS_TO_STOP = 20.0
# Between losing the database and looking for it again.
SECONDS_TO_RECONNECT = 0.5


def tasks_of(service: Service, post: notices.Post | None = None) -> dict[str, Callable[..., None]]:
    """The tasks by their names in the queue. Without a ``post`` mail waits."""

    def carry_out(organisation: str, revocation: str) -> None:
        back = execute.carry_out(service, UUID(organisation), UUID(revocation))
        if back is not None:
            service.wake("carry_out", {"organisation": organisation, "revocation": revocation}, back)

    def read_system(organisation: str, system: str) -> None:
        readings.read(service, UUID(organisation), UUID(system))

    def evaluate(organisation: str) -> None:
        exposures.every_account(service, UUID(organisation))
        with service.unit(Viewer.itself(UUID(organisation))) as unit:
            guard.evaluate(unit)
        evaluate_flags.evaluate_all(service, UUID(organisation))

    def settle(organisation: str, grant: str) -> None:
        back = provisioning.settle(service, UUID(organisation), UUID(grant))
        if back is not None:
            service.wake("settle", {"organisation": organisation, "grant": grant}, back)

    def carry_round(organisation: str, round: str) -> None:
        close_round.carry_on(service, Viewer.itself(UUID(organisation)), UUID(round))

    def sign_evidence(organisation: str, round: str) -> None:
        schema = orjson.dumps(schemas.evidence_schema(), option=orjson.OPT_INDENT_2)
        evidence.sign(service, Viewer.itself(UUID(organisation)), UUID(round), schema)

    def send_mail(organisation: str) -> None:
        ident = UUID(organisation)
        notices.send_due(service, ident, mail_server.post_of(service, Viewer.itself(ident), post))

    return {
        "work_out_actions": partial(_work_out_actions, service),
        "try_system": partial(_try_system, service),
        "open_secret": partial(_open_secret, service),
        "send_password_links": partial(_send_password_links, service),
        "change_many": partial(_change_many, service),
        "work_out_draft": partial(_work_out_draft, service),
        "apply_draft": partial(_apply_draft, service),
        "set_guards": partial(_set_guards, service),
        "link_partners": partial(_link_partners, service),
        "carry_out": carry_out,
        "read_system": read_system,
        "evaluate": evaluate,
        "settle": settle,
        "carry_round": carry_round,
        "sign_evidence": sign_evidence,
        "send_mail": send_mail,
        "deliver": partial(_deliver, service),
        "send_signals": partial(_send_signals, service),
        "fetch_signals": partial(_fetch_signals, service),
        "forward_journal": partial(_forward_journal, service),
        "erase_in_archive": partial(_erase_in_archive, service),
    }


def _try_system(service: Service, organisation: str, trial: str) -> None:
    setup.carry_out(service, UUID(organisation), UUID(trial))


def _open_secret(service: Service, organisation: str, trial: str, system: str) -> None:
    setup.open_sealed(service, Viewer.itself(UUID(organisation)), UUID(trial), UUID(system))


def _send_password_links(service: Service, address: str) -> None:
    passwords.send_links(service, address)


def _deliver(service: Service, organisation: str, webhook: str) -> None:
    if deliveries.deliver(service, UUID(organisation), UUID(webhook), deliveries.ENTRIES):
        service.wake("deliver", {"organisation": organisation, "webhook": webhook}, None)


def _send_signals(service: Service, organisation: str, receiver: str) -> None:
    if deliveries.deliver(service, UUID(organisation), UUID(receiver), SECURITY_EVENTS):
        service.wake("send_signals", {"organisation": organisation, "receiver": receiver}, None)


def _fetch_signals(service: Service, organisation: str, source: str) -> None:
    subscriptions.fetch(service, UUID(organisation), UUID(source))


def _forward_journal(service: Service, organisation: str) -> None:
    if syslog.forward(service, UUID(organisation)) == events.MOST:
        service.wake("forward_journal", {"organisation": organisation}, None)


def _erase_in_archive(service: Service, organisation: str) -> None:
    archive.erase(service, Viewer.itself(UUID(organisation)))


def _look_at_archive(service: Service, viewer: Viewer) -> None:
    archive.erase(service, viewer)


def _link_partners(service: Service, organisation: str) -> None:
    """Apply at the clients what the partner said about who acts for it."""
    known = list(organisations(service))
    for ident in known:
        at_client.drop_absent(service, ident)
    for ident in known:
        at_client.bring_about(service, ident)


def _change_many(service: Service, organisation: str, change: str) -> None:
    large_changes.carry_on(service, UUID(organisation), UUID(change))


def _work_out_draft(service: Service, organisation: str, draft: str) -> None:
    with service.unit(Viewer.itself(UUID(organisation))) as unit:
        drafts.work_out(unit, unit.db.get_one(RuleDraft, UUID(draft)))


def _work_out_actions(service: Service, organisation: str) -> None:
    work_out.work_out(service, UUID(organisation))


def _apply_draft(service: Service, organisation: str, draft: str) -> None:
    back = apply_rules.carry_out(service, UUID(organisation), UUID(draft))
    if back is not None:
        service.wake("apply_draft", {"organisation": organisation, "draft": draft}, back)


def _set_guards(service: Service, organisation: str, system: str) -> None:
    back = tell_guards.carry_out(service, UUID(organisation), UUID(system))
    if back is not None:
        service.wake("set_guards", {"organisation": organisation, "system": system}, back)


Look = Callable[[Service, Viewer], None]


def organisations(service: Service) -> list[UUID]:
    """The ids of all organisations."""
    with transaction(service.engine, None) as db:
        return list(db.scalars(select(Organisation.id)))


def look_round(service: Service, looks: Sequence[Look] = ()) -> None:
    """Do whatever is due, of some kinds or of all: steps, expired grants, rounds, reminders, mail."""
    for organisation in organisations(service):
        viewer = Viewer.itself(organisation)
        for look in looks or (*LOOKS_AT_DATES, *LOOKS):
            try:
                look(service, viewer)
            except Exception as error:
                # What fails for one organisation holds up no other, nor what else is due for this one; it is tried
                # again in the next round.
                log.exception("look_round.failed", organisation=str(organisation), what=look.__name__, error=str(error))


def _end_all_expired(service: Service, viewer: Viewer) -> None:
    with service.unit(viewer) as unit:
        over = revoke.expired(unit)
    for grant in over:
        _end_expired(service, viewer, grant)


def _let_run_out(service: Service, viewer: Viewer) -> None:
    with service.unit(viewer) as unit:
        manage_offers.run_out(unit)
        answer_request.run_out(unit)
        visits.end_those_without_access(unit)


def _remind(service: Service, viewer: Viewer) -> None:
    with service.unit(viewer) as unit:
        end_reminders.remind(unit)
        hand_tasks.remind(unit)
        mails = saved_filters.due(unit)
    assert viewer.organisation is not None
    erasure.erase_due(service, viewer)
    for ident in mails:
        saved_filters.send(service, viewer.organisation, ident)


def _look_at_partners(service: Service, viewer: Viewer) -> None:
    assert viewer.organisation is not None
    at_client.drop_absent(service, viewer.organisation)
    at_client.bring_about(service, viewer.organisation)


def _send_digest(service: Service, viewer: Viewer) -> None:
    with service.unit(viewer) as unit:
        weekly_letter.send_when_due(unit)
    with service.unit(viewer) as unit:
        trends_letter.send_when_due(unit)


def _wake_for_due(service: Service, viewer: Viewer) -> None:
    with service.unit(viewer) as unit:
        named = {"organisation": str(viewer.organisation)}
        due = [("carry_out", {**named, "revocation": str(i)}) for i in execute.unfinished(unit)]
        due += [("settle", {**named, "grant": str(i)}) for i in provisioning.due(unit)]
        due += [("read_system", {**named, "system": str(i)}) for i in readings.due(unit)]
        due += [("change_many", {**named, "change": str(i)}) for i in large_changes.going_on(unit)]
        due += [("apply_draft", {**named, "draft": str(i)}) for i in apply_rules.going_on(unit)]
        due += [("send_mail", named)] if notices.waiting(unit) else []
        due += [("work_out_actions", named)] if work_out.is_due(unit) else []
        due += [("deliver", {**named, "webhook": str(i)}) for i in deliveries.due(unit, deliveries.ENTRIES)]
        due += [("fetch_signals", {**named, "source": str(i)}) for i in subscriptions.due(unit)]
        due += [("send_signals", {**named, "receiver": str(i)}) for i in deliveries.due(unit, SECURITY_EVENTS)]
    if syslog.due(service, viewer.organisation):
        due.append(("forward_journal", named))
    for task, arguments in due:
        service.wake(task, arguments, None)


def _open_scheduled(service: Service, viewer: Viewer) -> None:
    for schedule in schedules.due(service, viewer):
        schedules.open_round(service, viewer, schedule)


def _look_at_reviews(service: Service, viewer: Viewer) -> None:
    """Open rounds that events ask for, remind reviewers, and close rounds that are over."""
    event_rounds.open_rounds(service, viewer)
    with service.unit(viewer) as unit:
        reminders.remind(unit)
        over = close_round.due(unit)
    for ident in over:
        with service.unit(viewer) as unit:
            close_round.close(unit, ident)


def _carry_out_decisions(service: Service, viewer: Viewer) -> None:
    with service.unit(viewer) as unit:
        going_on = close_round.going_on(unit)
    for ident in going_on:
        close_round.carry_on(service, viewer, ident)


def _keep_head(service: Service, viewer: Viewer) -> None:
    signed_heads.keep(service, viewer)


# What somebody may be waiting for, every few seconds.
LOOKS: tuple[Look, ...] = (
    *(_end_all_expired, _let_run_out, _look_at_partners),
    *(_open_scheduled, _carry_out_decisions, _wake_for_due),
)
# What is due by days and hours, each minute.
LOOKS_AT_DATES: tuple[Look, ...] = (
    itself.ensure,
    _remind,
    _send_digest,
    _look_at_reviews,
    _keep_head,
    _look_at_archive,
)


def _end_expired(service: Service, viewer: Viewer, grant: UUID) -> None:
    """One transaction for each grant, so that one that can't be ended does not hold up the others."""
    try:
        with service.unit(viewer) as unit:
            revoke.start(unit, prepare.Wish(grants=(grant,)), "Its time was over.", cause=Cause.EXPIRED)
    except OpenLatchError as error:
        log.error("grant.not_ended", grant=str(grant), detail=error.detail)


def tidy(service: Service) -> None:
    """Delete expired sessions and tokens, old sign-in attempts, and old answers to idempotent calls."""
    now = service.clock()
    with transaction(service.engine, None) as db:
        db.execute(delete(SignInAttempt).where(SignInAttempt.at < now - timedelta(days=1)))
        db.execute(delete(WebSession).where(WebSession.expires_at < now))
        db.execute(delete(ApiToken).where(ApiToken.expires_at < now))
        db.execute(delete(PasswordReset).where(PasswordReset.runs_out_at < now - timedelta(days=1)))
    for organisation in organisations(service):
        with transaction(service.engine, organisation) as db:
            db.execute(delete(IdempotencyKey).where(IdempotencyKey.created_at < now - timedelta(days=1)))
            db.execute(delete(LargeChange).where(LargeChange.ended_at < now - large_changes.KEPT_FOR))
            db.execute(delete(Delivery).where(Delivery.ended_at < now - deliveries.KEPT))


def look_at_everything(service: Service) -> None:
    """Evaluate every rule, in every organisation."""
    tidy(service)
    for organisation in organisations(service):
        connections.renew_secrets(service, Viewer.itself(organisation))
        service.wake("evaluate", {"organisation": str(organisation)}, None)


# Around each task, by its name and what it was told.
Around = Callable[[str, Mapping[str, object]], AbstractContextManager[None]]


def _nothing(name: str, told: Mapping[str, object]) -> AbstractContextManager[None]:
    return nullcontext()


def make_app(service: Service, url: str, post: notices.Post | None, around: Around, wait: Callable[[], None]) -> App:
    """The queue's app with every task and the periodic ones: a round every 5 seconds, dates each minute."""
    app = App(connector=PsycopgConnector(conninfo=lively(url), min_size=1, max_size=4))
    for name, function in tasks_of(service, post).items():
        app.task(name=name)(_logged(name, function, around, wait))

    @app.periodic(cron="* * * * * */5")
    @app.task(name="look_round", queueing_lock="look_round")
    def _look_round(timestamp: int) -> None:
        look_round(service, LOOKS)

    @app.periodic(cron="* * * * *")
    @app.task(name="look_at_dates", queueing_lock="look_at_dates")
    def _look_at_dates(timestamp: int) -> None:
        look_round(service, LOOKS_AT_DATES)

    @app.periodic(cron="*/10 * * * *")
    @app.task(name="look_at_everything", queueing_lock="look_at_everything")
    def _look_at_everything(timestamp: int) -> None:
        look_at_everything(service)

    return app


def _logged(name: str, function: Callable[..., None], around: Around, wait: Callable[[], None]) -> Callable[..., None]:
    def run(**arguments: Any) -> None:
        # Typed addresses are not logged.
        told = {key: value for key, value in arguments.items() if key != "address"}
        wait()
        started = datetime.now()
        try:
            with around(name, told):
                _retried(function, arguments)
        except OpenLatchError as error:
            log.error("task.failed", task=name, detail=error.detail, **told)
            raise
        log.info("task.done", task=name, seconds=round((datetime.now() - started).total_seconds(), 3), **told)

    return run


def _retried(function: Callable[..., None], arguments: Mapping[str, object]) -> None:
    """Run a task. After a conflict with another transaction it is retried once at once, and then in the next round."""
    for wait in (0.1, 0.5):
        try:
            return function(**arguments)
        except Collision:
            time.sleep(wait)
    return function(**arguments)


def run(service: Service, url: str, post: notices.Post | None = None, around: Around = _nothing) -> None:
    """Work until SIGTERM or SIGINT; what goes on then has ``SECONDS_TO_STOP`` to end, and is cut off after that.

    After that they are cut off, which is as being killed: leases end with their connections, and the tables hold what
    is left to do.
    """
    signing_keys.publish(service)
    sealed_secrets.publish(service)
    first = announcements.Precedence()
    make = partial(make_app, service, url, post, around, first.wait)
    asyncio.run(_run(make, lambda: announcements.follow(service, url, first)))


async def _run(make: Callable[[], App], follow: Callable[[], Awaitable[None]]) -> None:
    """Work until stopped, and begin anew when the database was lost: the queue's listener and clock die with it."""
    loop = asyncio.get_running_loop()
    loop.set_default_executor(ThreadPoolExecutor(AT_ONCE + 8, thread_name_prefix="task"))
    working = asyncio.ensure_future(_keep_working(make, follow))

    def stop() -> None:
        # A hanging thread can't be stopped and would keep the process alive.
        cut_off = threading.Timer(SECONDS_TO_STOP, _cut_off)
        cut_off.daemon = True
        cut_off.start()
        working.cancel()

    for number in (signal.SIGTERM, signal.SIGINT):
        loop.add_signal_handler(number, stop)
    try:
        await working
    except asyncio.CancelledError:
        log.info("worker.stopped")


async def _keep_working(make: Callable[[], App], follow: Callable[[], Awaitable[None]]) -> None:
    while True:
        try:
            async with make().open_async() as app:
                await _forget_dead_workers(app)
                await _until_lost(app, follow)
        except (ConnectorException, psycopg.OperationalError) as error:
            log.warning("worker.lost_the_database", error=str(error).strip())
        await asyncio.sleep(SECONDS_TO_RECONNECT)


async def _until_lost(app: App, follow: Callable[[], Awaitable[None]]) -> None:
    """Work for as long as announcements can be followed: a lost connection shows there within moments."""
    working = app.run_worker_async(
        concurrency=AT_ONCE, install_signal_handlers=False, fetch_job_polling_interval=2.0, shutdown_graceful_timeout=10
    )
    tasks = [asyncio.ensure_future(working), asyncio.ensure_future(follow())]
    try:
        done, _ = await asyncio.wait(tasks, return_when=asyncio.FIRST_COMPLETED)
    finally:
        for task in tasks:
            task.cancel()
        ended = await asyncio.gather(*tasks, return_exceptions=True)
        for how in ended:
            if isinstance(how, Exception) and not isinstance(how, ConnectorException | psycopg.OperationalError):
                raise how
    for task in done:
        task.result()


def _cut_off() -> None:
    log.warning("worker.cut_off", seconds=SECONDS_TO_STOP)
    os._exit(0)


async def _forget_dead_workers(app: App) -> None:
    """Remove jobs that a killed worker left unfinished: the tables hold what is to be done."""
    for job in await app.job_manager.get_stalled_jobs():
        await app.job_manager.retry_job(job)
