"""The command line as a user types it: a program of its own, talking to the running service."""

from __future__ import annotations

import csv
import io
import json
import re
import shlex
import subprocess
import sys
import threading
from pathlib import Path
from typing import Any

import httpx
import psycopg
import pytest

from openlatch.core.files.csv_safety import guarded
from openlatch.demo.loader import PASSWORD
from openlatch.runtime.demo import DATABASE, Demo
from openlatch.test_systems import telemetry
from tests.cli.conftest import Run
from tests.conftest import ROLES
from tests.waiting import until


def found(result: subprocess.CompletedProcess[str]) -> Any:
    """What a command gave as JSON."""
    assert result.returncode == 0, result.stderr
    return json.loads(result.stdout)


def test_signing_in_keeps_a_token_that_nobody_else_can_read(run: Run, tmp_path: Path) -> None:
    """And signing out ends it."""
    signed = run("login", "--address", ROLES["delegate"], "--password", PASSWORD, OPENLATCH_TOKEN="")
    assert "Signed in to Hollin Fell Huts as Fenna Aldous" in signed.stdout
    kept = tmp_path / "openlatch" / "session.json"
    assert kept.stat().st_mode & 0o777 == 0o600
    assert PASSWORD not in kept.read_text()
    assert "delegate" in run("whoami", OPENLATCH_TOKEN="").stdout
    token = json.loads(kept.read_text())["token"]
    assert run("logout", OPENLATCH_TOKEN="").returncode == 0
    assert run("whoami", OPENLATCH_TOKEN=token).returncode == 1


def test_signing_in_by_a_browser_waits_until_somebody_lets_it_in(
    run: Run, stack: Demo, tokens: dict[str, str], tmp_path: Path
) -> None:
    """Who signs in is who lets it in; a refusal is told, and leaves nothing behind."""

    def answer(allows: bool) -> None:
        with psycopg.connect(stack.register.url(DATABASE), autocommit=True) as db:
            waiting = "select user_code from device_requests where state = 'pending'"
            found = until(lambda: db.execute(waiting).fetchone())
        headers = {"Authorization": f"Bearer {tokens['owner']}"}
        body = {"user_code": found[0], "allows": allows}
        httpx.post(f"{stack.address}/api/v1/devices/answer", json=body, headers=headers, timeout=20).raise_for_status()

    for allows, said in ((False, "access_denied"), (True, "Signed in to Hollin Fell Huts as Tobias Renn")):
        helper = threading.Thread(target=answer, args=(allows,))
        helper.start()
        signed = run("login", OPENLATCH_TOKEN="", DISPLAY="", WAYLAND_DISPLAY="")
        helper.join()
        assert said in signed.stdout + signed.stderr
        assert f"{stack.address}/device" in signed.stderr
        assert (tmp_path / "openlatch" / "session.json").exists() == allows
    assert "Tobias Renn" in run("whoami", OPENLATCH_TOKEN="").stdout
    assert run("logout", OPENLATCH_TOKEN="").returncode == 0


@pytest.mark.parametrize(
    "arguments",
    [
        ("today",),
        ("account", "list"),
        ("account", "show", "Gas contract account"),
        ("person", "list"),
        ("person", "show", "Gwil Tresco"),
        ("team", "list"),
        ("grant", "list"),
        ("app", "list"),
        ("app", "show", "Gas Watch"),
        ("session", "list"),
        ("level", "list"),
        ("flag", "list"),
        ("round", "list"),
        ("revocation", "list"),
        ("system", "list"),
        ("offer", "list"),
        ("schedule", "list"),
        ("journal", "list"),
        ("paths", "Gwil Tresco", "Weather readings"),
        ("next",),
    ],
)
def test_each_command_that_shows_something_shows_it_as_a_table_and_as_json(
    run: Run, arguments: tuple[str, ...]
) -> None:
    """The same things in both. The worker may change something in between, so JSON is asked for before and after."""

    def names() -> set[str]:
        data = found(run(*arguments, "--output", "json"))
        assert data
        rows = data if isinstance(data, list) else [data]
        return {row["sentence"] if "rule" in row else row.get("name", "") for row in rows}

    before, table, after = names(), run(*arguments, COLUMNS="500"), names()
    assert table.returncode == 0, table.stderr
    assert before & after
    assert not [name for name in before & after if name not in table.stdout]
    assert "\x1b[" not in table.stdout


def test_a_wide_table_cuts_nothing_off_and_lists_show_what_can_be_typed(run: Run) -> None:
    wide = run("grant", "list", "--wide", "--limit", "0", COLUMNS="60").stdout
    rows = found(run("grant", "list", "--limit", "0", "--output", "json"))
    assert "…" not in wide
    assert max((row["holder"]["name"] for row in rows), key=len) in wide
    shown = run("revocation", "list", "--columns", "ID", "--limit", "1").stdout.split()[-1]
    assert found(run("revocation", "show", shown, "--output", "json"))["id"].endswith(shown)
    listed = run("schedule", "list", "--columns", "ID").stdout.split()[-1]
    assert found(run("schedule", "show", listed, "--output", "json"))["id"].endswith(listed)
    searched = run("search", "Booking web site", "--columns", "Kind,ID").stdout.splitlines()
    kept = next(line.split()[-1] for line in searched if line.strip().startswith("account"))
    assert len(kept) == 8
    assert found(run("account", "show", kept, "--output", "json"))["name"] == "Booking web site"


def test_csv_is_read_back_and_guarded_against_formulas(run: Run) -> None:
    """A name that a spreadsheet would carry out is only text."""
    rows = list(csv.DictReader(io.StringIO(run("account", "list", "-n", "0", "-o", "csv").stdout)))
    assert len(rows) >= 25
    assert {row["Sensitivity"] for row in rows} == {"low", "medium", "high", "critical"}
    assert [guarded(t) for t in ("=1+1", "@x", "-2", "+3", "\tx", "plain")] == [
        "'=1+1",
        "'@x",
        "'-2",
        "'+3",
        "'\tx",
        "plain",
    ]


def test_exit_codes_tell_scripts_what_happened(run: Run, tmp_path: Path) -> None:
    """Each its own."""
    assert run("account", "show", "Nowhere").returncode == 1
    assert run("grant", "list", "-f", "shoe pr").returncode == 1
    assert run("grant", "list", "--shoe").returncode == 2
    away = run("today", OPENLATCH_URL="http://127.0.0.1:1")
    assert (away.returncode, "No service answered" in away.stderr) == (3, True)
    bad = tmp_path / "bad.csv"
    bad.write_text("key,name,address\nx,,nobody\n")
    report = run("import", "people", str(bad))
    assert report.returncode == 4
    assert "line 2, name: is empty" in report.stdout
    nobody = run("today", OPENLATCH_TOKEN="")
    assert (nobody.returncode, "openlatch login" in nobody.stderr) == (1, True)


def test_access_really_ends_from_the_command_line(run: Run, stack: Demo) -> None:
    """A preview, a question, the steps, and the system itself says that it is gone."""
    listed = found(run("grant", "list", "-f", 'holder.name eq "app_probe_export" and state eq "active"', "-o", "json"))
    grant = listed[0]["id"]
    preview = run("revoke", grant, "--reason", "Nobody knows it.", "--preview").stdout
    assert "Remove app_probe_export from Hut sensors" in preview
    refused = run("revoke", grant, "--reason", "Nobody knows it.", given="n\n")
    assert (refused.returncode, "Nothing was done" in refused.stderr) == (5, True)
    done = run("revoke", grant, "--reason", "Nobody knows it.", given="y\n")
    assert done.returncode == 0, done.stderr
    assert "confirmed" in done.stdout
    with psycopg.connect(stack.telemetry.url(telemetry.DATABASE)) as db:
        row = db.execute("select pg_has_role('app_probe_export', 'hut_sensors', 'member')").fetchone()
        assert row == (False,)
        gone = db.execute("select count(*) from pg_stat_activity where usename = 'app_probe_export'").fetchone()
        assert gone == (0,)


def test_a_session_is_ended_and_a_grant_is_trimmed(run: Run, stack: Demo) -> None:
    """With --yes for scripts. The session is found by reading the system."""
    opened = telemetry.OpenSessions("127.0.0.1", stack.telemetry.port)
    opened.open([("app_heating_planner", "night run")])
    assert run("system", "read", "Hut telemetry database").returncode == 0
    wanted = ("session", "list", "-f", 'device eq "night run" and not (ended_at pr)', "-o", "json")
    listed = until(lambda: found(run(*wanted)))
    assert "confirmed" in run("session", "end", listed[0]["id"], "--reason", "Stuck.", "--yes").stdout
    with psycopg.connect(stack.telemetry.url(telemetry.DATABASE)) as db:
        row = db.execute("select count(*) from pg_stat_activity where application_name = 'night run'").fetchone()
        assert row == (0,)
    opened.close()
    grant = found(
        run("grant", "list", "-f", 'holder.name eq "Kit Varley" and account.name eq "Hut sensors"', "-o", "json")
    )[0]["id"]
    trimmed = run("trim", grant, "--until", "2099-12-31", "--reason", "Until the sensors are done.", "--yes")
    assert "kept by the register: Kit Varley on Hut sensors" in trimmed.stdout, trimmed.stderr
    assert found(run("grant", "show", grant, "-o", "json"))[0]["last_day"] == "2099-12-31"


def test_a_review_from_the_command_line(run: Run) -> None:
    """Opened, decided, refused to close too early, closed."""
    scope = 'account.name eq "Petty cash book" and holder.kind eq "app"'
    opened = found(run("round", "open", "Tills", "--scope", scope, "--at-close", "-o", "json"))
    assert "Till Bridge" in run("round", "items", opened["id"]).stdout
    early = run("round", "close", opened["id"], "--yes")
    assert (early.returncode, "1 of 1 items are undecided" in early.stderr) == (1, True)
    assert run("round", "decide", opened["id"], "1", "keep", "--reason", "Read every evening.").returncode == 0
    assert "1 kept" in run("round", "close", opened["id"], "--yes").stdout


def test_an_item_is_looked_at_asked_about_undone_and_passed_on(run: Run, tokens: dict[str, str]) -> None:
    """Everything about it on one page; the holder answers; many at once name what is flagged."""
    scope = 'account.name eq "Wardens\' mailbox" or holder.name eq "Jory Penhale"'
    opened = found(
        run("round", "open", "Wardens", "--scope", scope, "--reviewer", "Lene Marsh", "--at-close", "-o", "json")
    )
    ident, reviewer = opened["id"], {"OPENLATCH_TOKEN": tokens["reviewer"]}
    rows = found(run("round", "items", ident, "-o", "json", **reviewer))
    fenna = next(str(row["position"]) for row in rows if row["holder"]["name"] == "Fenna Aldous")
    shown = run("round", "item", ident, fenna, **reviewer).stdout
    assert "with the job Season warden hold something here" in shown
    assert "Reviewer: Lene Marsh. Named." in shown
    assert "Asked Fenna Aldous" in run("round", "ask", ident, fenna, "Back in May?", **reviewer).stdout
    delegate = {"OPENLATCH_TOKEN": tokens["delegate"]}
    questions = found(run("question", "list", "--filter", "not (answered_at pr)", "-o", "json", **delegate))
    question = next(q["id"] for q in questions if q["question"] == "Back in May?")
    assert run("question", "answer", question, "Yes, all season.", **delegate).returncode == 0
    assert "Yes, all season." in run("round", "item", ident, fenna, **reviewer).stdout
    assert run("round", "decide", ident, fenna, "keep", **reviewer).returncode == 0
    assert "is undecided" in run("round", "undo", ident, fenna, **reviewer).stdout
    together = run("round", "decide", ident, *[str(row["position"]) for row in rows], "keep", **reviewer)
    assert (together.returncode, "What is flagged can't be kept together" in together.stderr) == (1, True)
    jory = next(
        str(row["position"])
        for row in rows
        if row["holder"]["name"] == "Jory Penhale" and row["account"]["name"] == "Booking desk mailbox"
    )
    assert "Tobias Renn: owns the account" in run("round", "pass", ident, jory, **reviewer).stdout
    passed = run("round", "pass", ident, jory, "--to", "tobias renn", "--reason", "Knows him.", **reviewer)
    assert "is passed on" in passed.stdout, passed.stderr
    assert "left" in run("round", "progress", ident).stdout


def test_evidence_is_taken_and_a_changed_byte_found_offline(run: Run, tmp_path: Path) -> None:
    """Of a round that has ended; of one that has not there is none, and why is told."""
    rounds = {row["name"]: row["id"] for row in found(run("round", "list", "-o", "json"))}
    file = tmp_path / "evidence.zip"
    early = run("evidence", "take", rounds["Sensitive accounts, autumn"], "--to", str(file))
    assert (early.returncode, "has not ended" in early.stderr, file.exists()) == (1, True, False)
    assert run("evidence", "take", rounds["Old web shop, after its closing"], "--to", str(file)).returncode == 0
    nowhere = {"OPENLATCH_URL": "http://127.0.0.1:9"}
    unknown = run("evidence", "verify", str(file), **nowhere)
    assert (unknown.returncode, "who made it is not known" in unknown.stdout) == (6, True)
    trusted = run("evidence", "trust")
    assert "Trusted from now on" in trusted.stdout, trusted.stderr
    sound = found(run("evidence", "verify", str(file), "-o", "json", **nowhere))
    assert (sound["sound"], sound["trusted"], sound["items"]) == (True, True, 5)
    assert "Signed by http://127.0.0.1" in run("evidence", "verify", str(file), **nowhere).stdout
    assert "already" in run("evidence", "trust").stdout
    forged = run(
        "evidence", "trust", "A" * 43, "--whose", found(run("evidence", "verify", str(file), "-o", "json"))["key"]
    )
    assert forged.returncode == 0
    for nonsense in ("nonsense", "A" * 42, "ü" * 43):
        bad = run("evidence", "trust", nonsense)
        assert (bad.returncode, "is no public key" in bad.stderr) == (1, True)
        assert run("evidence", "verify", str(file), "--key", nonsense, **nowhere).returncode == 1
    other = run("evidence", "verify", str(file), "--key", "A" * 43, **nowhere)
    assert (other.returncode, "a key that is not trusted" in other.stdout) == (4, True)
    held = bytearray(file.read_bytes())
    held[len(held) // 2] ^= 1
    file.write_bytes(held)
    broken = run("evidence", "verify", str(file), **nowhere)
    assert (broken.returncode, "Not sound" in broken.stdout) == (4, True)


def test_a_reviewer_is_away_and_has_a_calendar(run: Run, tokens: dict[str, str]) -> None:
    """A deputy is named without seeing everybody; the address is told once."""
    reviewer = {"OPENLATCH_TOKEN": tokens["reviewer"]}
    away = run("away", "--from", "2099-02-01", "--until", "2099-02-14", "--deputy", "Hal Draycott", **reviewer)
    assert away.stdout == "Away from 2099-02-01 until 2099-02-14; Hal Draycott stands in.\n"
    assert run("away", "--back", **reviewer).stdout == "Not away.\n"
    made = run("calendar", "make", **reviewer).stdout
    address = made.split()[-1]
    assert httpx.get(address).text.startswith("BEGIN:VCALENDAR")
    assert address not in run("calendar", "show", **reviewer).stdout
    assert run("calendar", "end", **reviewer).returncode == 0
    assert httpx.get(address).status_code == 404


def test_the_journal_is_verified_offline(run: Run, tmp_path: Path) -> None:
    """An export that somebody touched is found out, with a noted position also a cut one."""
    file = tmp_path / "journal.jsonl"
    heads = tmp_path / "heads.jsonl"
    assert run("journal", "export", str(file)).returncode == 0
    alone = run("journal", "verify", "--file", str(file))
    assert (alone.returncode, "nothing that was kept outside" in " ".join(alone.stdout.split())) == (6, True)
    noted = alone.stdout.split()[-1]
    assert run("journal", "heads", str(heads)).returncode == 0
    untrusted = run("journal", "verify", "--file", str(file), "--head", str(heads))
    assert (untrusted.returncode, "No key is trusted" in untrusted.stderr) == (6, True)
    assert run("evidence", "trust").returncode == 0
    sound = run("journal", "verify", "--file", str(file), "--head", str(heads))
    assert (sound.returncode, "Sound up to position" in sound.stdout) == (0, True)
    assert run("journal", "verify").returncode == 0
    empty = tmp_path / "empty"
    for content, told in ((b"", "is empty"), (b"\xff\xfe{", "is not JSON"), (b"[1]\n", "is not a journal entry")):
        empty.write_bytes(content)
        broken = run("journal", "verify", "--file", str(empty))
        assert (broken.returncode, told in " ".join(broken.stderr.split()), "ound" in broken.stdout) == (1, True, False)
        broken = run("journal", "verify", "--file", str(file), "--head", str(empty))
        assert (broken.returncode, "Traceback" in broken.stderr) == (1, False)
    written = file.read_text().splitlines()
    away = {"OPENLATCH_URL": "http://127.0.0.1:1", "OPENLATCH_TOKEN": ""}

    def verify(rows: list[str], *more: str) -> subprocess.CompletedProcess[str]:
        file.write_text("\n".join(rows) + "\n")
        return run("journal", "verify", "--file", str(file), *more, **away)

    altered = verify([*written[:9], written[9].replace('"actor":{', '"actor":{"x":1,'), *written[10:]])
    assert (altered.returncode, "position 10: altered" in altered.stdout) == (4, True)
    assert "1 missing before it" in verify(written[:20] + written[21:]).stdout
    assert "out of order" in verify([*written[:20], written[21], written[20], *written[22:]]).stdout
    assert verify(written[:-1]).returncode == 6
    assert verify(written[:50], "--head", str(heads)).returncode == 4
    assert verify(written[:-1], "--expect", noted).returncode == 4
    assert verify(written, "--expect", noted).returncode == 0
    assert verify(["{"]).returncode == 1


def test_an_offer_from_preview_to_withdrawal(run: Run) -> None:
    """What it comes to is shown before it is sent; the same is refused while it waits."""
    what = ("--level", "See dates", "--until", "2099-12-31", "--hours", "mon-fri 08:00-18:00")
    offer = ("offer", "send", "Hut calendar", "--to", "nia@wardens.example.net", "--name", "Nia", *what)
    shown = run(*offer, "--preview").stdout
    assert "Hut calendar: “See dates”, to the end of 31 December 2099, Monday to Friday, 08:00 to 18:00" in shown
    assert "cannot: " in shown
    assert run(*offer, given="n\n").returncode == 5
    (sent,) = found(run(*offer, "--yes", "-o", "json"))
    assert sent["state"] == "pending"
    assert "waits for an answer" in run(*offer, "--yes").stderr
    changed = run("offer", "change", sent["id"], "--level", "Edit dates").stdout
    assert "“Edit dates”, to the end of 31 December 2099, Monday to Friday, 08:00 to 18:00" in changed
    assert "(2 times)" in run("offer", "again", sent["id"]).stdout
    assert "withdrawn" in run("offer", "withdraw", sent["id"]).stdout
    again = run("offer", "again", sent["id"])
    assert (again.returncode, "The offer is withdrawn" in again.stderr) == (1, True)
    assert run("offer", "send", "Hut calendar", "--to", "x", "--level", "Nothing").returncode == 2
    assert run(*offer[:-1], "sometimes").returncode == 2


def test_grants_are_changed_with_a_line_for_each(run: Run) -> None:
    """Named or by a filter; what is refused makes the exit code 4."""
    held = found(run("grant", "list", "-f", 'state eq "suspended"', "-o", "json"))[0]
    told = ("--reason", "For the test.", "--yes", "-o", "json")
    (line,) = found(run("grant", "set-end", held["id"], "--until", "2099-06-30", *told))
    assert line["does"] == "runs to the end of 30 June 2099"
    wish = (
        "grant",
        "suspend",
        "-f",
        f'holder.id eq "{held["holder"]["id"]}"',
        "--preview",
        "--reason",
        "x",
        "-o",
        "json",
    )
    assert [row["refused"] is None for row in found(run(*wish)) if row["grant_id"] == held["id"]] == [False]
    assert run("grant", "resume", held["id"], *told).returncode == 0
    assert found(run("grant", "suspend", held["id"], *told))[0]["does"].startswith("is suspended")
    assert run("grant", "suspend", held["id"], *told).returncode == 1


def test_levels_latches_and_ones_own_side(run: Run, stack: Demo, tokens: dict[str, str]) -> None:
    """Compared, previewed, set; switched in and out."""
    assert "Only Manage the shop account" in run("level", "compare", "Place orders", "Manage the shop account").stdout
    preview = run("level", "change", "Answer mail", "--add", "mail.share", "--preview").stdout
    assert "Let others into the mailbox" in preview
    assert "books.pay" in run("level", "permissions", "Bookkeeping service").stdout
    latch = ("latch", "set", "no_outsiders", "warn", "--account", "Rescue reports mailbox", "--preview")
    assert "is an outsider" in run(*latch).stdout
    assert "hold" in run("latch", "list", "Donations ledger").stdout
    fenna = {"OPENLATCH_TOKEN": tokens["delegate"]}
    assert "Offered to you: Booking desk mailbox" in run("mine", **fenna).stdout
    assert "on behalf of Hal Draycott" in run("enter", "Wardens' mailbox", **fenna).stdout
    assert [row["name"] for row in found(run("account", "list", "-o", "json", **fenna))] == ["Wardens' mailbox"]
    assert run("leave", **fenna).returncode == 0
    assert len(found(run("account", "list", "-o", "json", **fenna))) > 3
    visits = found(run("visit", "list", "-o", "json"))
    assert ("Fenna Aldous", "left") in {(v["person"]["name"], v["ended_as"]) for v in visits}
    assert json.loads(run("exchange", "Wardens' mailbox", **fenna).stdout)["expires_in"] == 300
    asked = ("request", "ask", "Hut sensors", "--reason", "To see the north hut.", "-o", "json")
    (wish,) = found(run(*asked, **fenna))
    assert run("request", "decline", wish["id"], "--words", "Ask in spring.").returncode == 0
    assert "Ask in spring." in run("notice", COLUMNS="300", **fenna).stdout


def test_an_app_is_disconnected_after_a_question(run: Run) -> None:
    """From one account, or from all."""
    refused = run("app", "disconnect", "Guest Forms", "--reason", "Not needed.", given="n\n")
    assert refused.returncode == 5
    assert "Booking desk mailbox" in refused.stdout
    lines = found(
        run(
            "app",
            "disconnect",
            "Donor Insight",
            "--account",
            "Appeal mailing list",
            "--reason",
            "Closed.",
            "--yes",
            "-o",
            "json",
        )
    )
    assert [line["does"] for line in lines] == ["ends"]


def test_a_schedule_is_previewed_made_paused_and_goes_on(run: Run) -> None:
    """With the next times, where the clocks are."""
    plan = ("schedule", "make", "Yearly", "--every", "year", "--starts", "2030-07-01T09:00")
    assert "2030-07-01 09:00 Europe/London" in run(*plan, "--preview").stdout
    made = found(run(*plan, "-o", "json"))
    assert made["next"][0] == "2030-07-01T08:00:00Z"
    assert "paused" in run("schedule", "pause", "Yearly").stdout
    assert found(run("schedule", "show", made["id"], "-o", "json"))["next"] == []
    assert "2030-07-01" in run("schedule", "resume", "Yearly").stdout
    assert "daily at most" in run(*plan[:4], "FREQ=HOURLY", *plan[5:]).stderr


def test_how_access_is_given_is_set_from_a_terminal(run: Run, tokens: dict[str, str]) -> None:
    """Of an account, a team, the organisation, and oneself; each put back again."""
    needs = run("account", "set-giving", "Press mailbox", "--emergency-hours", "3", "--needs", "second_factor").stdout
    assert needs == "Press mailbox opens for 3 hours in an emergency.\nTo accept, people need: second factor\n"
    assert found(run("account", "show", "Press mailbox", "-o", "json"))["prerequisites"] == ["second_factor"]
    assert "opens to nobody" in run("account", "set-giving", "Press mailbox").stdout
    assert "Ada Wim speaks for Volunteers" in run("team", "set-speaker", "Volunteers", "--person", "Ada Wim").stdout
    assert "Nobody speaks" in run("team", "set-speaker", "Volunteers").stdout
    held = found(run("settings", "show", "-o", "json"))
    assert found(run("settings", "set", "--offer-hours", "72", "-o", "json")) == {**held, "offer_hours": 72}
    assert run("settings", "set", "--offer-hours", "48").returncode == 0
    assert run("settings", "set", "--offer-hours", "72", OPENLATCH_TOKEN=tokens["delegate"]).returncode == 1
    reviewer = {"OPENLATCH_TOKEN": tokens["reviewer"]}
    assert "Nobody can send you" in run("me", "offers", "refuse", **reviewer).stdout
    refused = run("offer", "send", "Hut calendar", "--to", "person:Lene Marsh", "--level", "See dates", "--yes")
    assert "does not take offers" in refused.stderr
    assert run("me", "offers", "take", **reviewer).returncode == 0
    assert "on its way" in run("me", "confirm-address", **reviewer).stdout


def test_rules_are_tried_set_and_loaded(run: Run, tmp_path: Path) -> None:
    """What a change would raise is shown before the question; a file whose examples fail does not go live."""
    listed = {rule["key"]: rule for rule in found(run("rule", "list", "-o", "json"))}
    assert (listed["unused"]["open"] > 10, listed["agency_to_members"]["own"]) == (True, True)
    refused = run("rule", "set", "--limit", "unused=90,60,45,20", given="n\n")
    assert refused.returncode == 5
    assert "unused" in refused.stdout
    assert run("rule", "set", "--limit", "unused=90").returncode == 2
    assert run("rule", "set", "--limit", "colour=1,2,3,4", "--yes").returncode == 1
    kept = run("rule", "source", "agency_to_members").stdout
    file = tmp_path / "rules.toml"
    file.write_text(kept.replace("agency_to_members", "agency_twice"))
    assert "agency_twice" in run("rule", "check", str(file)).stdout
    file.write_text(kept.replace('co "member"', 'co "mailbox"'))
    failing = run("rule", "check", str(file))
    assert (failing.returncode, "Example 1 of matches" in failing.stdout) == (4, True)
    assert run("rule", "load", str(file)).returncode == 1
    assert run("rule", "drop", "nothing").returncode == 1


def test_who_could_and_who_would(run: Run, tmp_path: Path) -> None:
    """As of an instant, as everyone against everything, and after changes that are only supposed."""
    now = run("account", "access", "Heating control").stdout
    assert "Heating Planner" in now
    assert "Nobody can." in run("account", "access", "Heating control", "--at", "2001-01-01").stdout
    assert "No path is known" in run("paths", "Gwil Tresco", "Heating control", "--permission", "admit").stdout
    table = found(run("account", "matrix", "Heating control", "-o", "json"))
    assert {"see", "change", "admit"} == {p["key"] for p in table["permissions"]}
    days = ("2001-01-01", "2100-01-01")
    assert "gets in" in run("account", "difference", "Heating control", *days).stdout
    left = {"kind": "left", "person": "Gwil Tresco"}
    give = {"kind": "give", "account": "Heating control", "holder": {"person": "Kit Varley"}, "level": "Keeper"}
    file = tmp_path / "changes.json"
    file.write_text(json.dumps([left, give]))
    supposed = found(run("what-if", str(file), "-o", "json"))
    told = {(s["holder"]["name"], s["account"]["name"]): s for s in supposed["shifts"]}
    assert told["Gwil Tresco", "Heating control"]["last_path_lost"]
    assert told["Kit Varley", "Heating control"]["first_path_gained"]
    assert "Gwil Tresco" in run("account", "access", "Heating control").stdout
    file.write_text("no list")
    assert run("what-if", str(file)).returncode == 2


def test_use_says_which_level_would_do(run: Run) -> None:
    """With what it would give up, and how sure that is."""
    (grant,) = found(
        run(
            "grant",
            "list",
            "-o",
            "json",
            "-f",
            'holder.name eq "Tamar Quist" and account.name eq "Supplies ordering account"',
        )
    )
    use = found(run("grant", "use", grant["id"], "--days", "365", "-o", "json"))
    assert (use["level"]["name"], use["gives_up"]) == ("See orders", ["Order goods on account"])
    assert 0 < use["sure"] <= 100
    assert "would have been enough" in run("grant", "use", grant["id"], "--days", "365").stdout


def test_flags_are_given_to_somebody_accepted_and_remedied_together(run: Run) -> None:
    """On many by a filter; what only a person can do is left alone, and said."""
    rows = found(run("flag", "list", "-o", "json", "-f", 'rule eq "app_unused"'))
    ids = [row["id"] for row in rows[:2]]
    assert "Lene Marsh sees to 2 flags" in run("flag", "assign", *ids, "--to", "Lene Marsh").stdout
    assert "2 flags accepted" in run("flag", "accept", *ids, "--reason", "Winter.", "--until", "2099-01-01").stdout
    assert run("flag", "reopen", ids[0]).returncode == 0
    asked = run(
        "flag", "remedy", "-f", 'rule eq "left_signed_in" or rule eq "owner_left"', "--reason", "x", given="n\n"
    )
    assert asked.returncode == 5
    assert "call for something else; they are left alone" in asked.stderr
    assert "is signed in to" in asked.stdout


def test_the_map_the_ends_and_the_facts_come_as_data(run: Run) -> None:
    """The same as the console draws."""
    drawn = found(run("map", "-o", "json"))
    assert sum(cell["count"] for cell in drawn["cells"]) > 150
    assert found(run("ends", "--months", "6", "-o", "json"))
    assert "danger,unused,grants" in run("map", "-o", "csv").stdout
    facts = found(run("facts", "Petra Sorley", "-o", "json"))
    assert any(rule["key"] == "private_address" and rule["found"] for entry in facts for rule in entry["rules"])
    assert "rules look at this" in run("facts").stdout
    assert "does not come any more" in run("me", "letter", "never").stdout


_EVERY = """
import importlib, os, sys, click
from openlatch.cli.main import _CLIENT, cli

def below(command, path):
    if not isinstance(command, click.Group):
        return {path}
    context = click.Context(command)
    names = command.list_commands(context)
    return set().union(*(below(command.get_command(context, name), f"{path} {name}") for name in names))

def at_once(names):
    return set().union(*(below(cli.get_command(click.Context(cli), name), name) for name in names))

for module in set(_CLIENT.values()):
    pid = os.fork()
    if not pid:
        names = [name for name, of in _CLIENT.items() if of == module]
        alone = at_once(names)
        for module in set(_CLIENT.values()):
            importlib.import_module(f"openlatch.cli.{module}")
        print("".join(f"{one}\\n" for one in sorted(at_once(names) - alone)), end="", flush=True)
        os._exit(0)
    os.waitpid(pid, 0)
"""


def test_every_command_is_there_by_its_name_alone() -> None:
    """Modules are read when a command is used: none may need another one to have been read before."""
    done = subprocess.run([sys.executable, "-c", _EVERY], capture_output=True, text=True, check=True, timeout=120)
    assert done.stdout == ""


def test_names_are_completed_from_the_service(run: Run) -> None:
    """As the shell asks; nothing, and no error, where nobody is signed in."""

    def completed(*words: str, **more: str) -> set[str]:
        asked = {"_OPENLATCH_COMPLETE": "bash_complete", "COMP_WORDS": " ".join(("openlatch", *words)), **more}
        asked["COMP_CWORD"] = str(len(words))
        return {line.partition(",")[2] for line in run(**asked).stdout.splitlines() if line}

    assert r"Booking\ desk\ mailbox" in completed("account", "show", "Book")
    assert r"Mara\ Oduya" in completed("person", "access", "Mara")
    assert "show" in completed("account", "sh")
    assert completed("account", "show", "Book", OPENLATCH_TOKEN="wrong") == set()


def test_the_tutorial_works_line_by_line(run: Run) -> None:
    """Every command of it, in its order, as somebody would type it."""
    written = (Path(__file__).parents[2] / "docs" / "tutorial" / "from-the-terminal.md").read_text()
    blocks = re.findall(r"```sh\n(.*?)```", written, re.DOTALL)
    commands = [line for block in blocks for line in block.splitlines()]
    assert len(commands) > 18
    for command in commands:
        program, *words = shlex.split(command)
        done = run(*words)
        assert (program, done.returncode, done.stdout != "") == ("openlatch", 0, True), f"{command}: {done.stderr}"
