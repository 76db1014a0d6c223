"""A right line for every command, in the words of the demo: shown with its help, and where a line was wrong.

References are shown as their last characters, as tables show them.
"""

from __future__ import annotations

import re
import shlex
from collections.abc import Iterable, Sequence

import click

from openlatch.languages.terminal import say

_LINES = """
login --address ines.calder@hollinfell.example.org
logout
whoami
today
next -n 3
next postpone 3 --reason "The printing house answers on Monday." --until "next tuesday"
trends --span month --since "1 Jan"
trends letter monthly
charter adopt charter --source "revision 4c1d" --preview
charter compare charter
charter schema
charter status
charter write charter
explain matter
manual next
my-access
account access "Booking desk mailbox" --shortest
account add "Spare mailbox" --system "Mail server" --kind mailbox --sensitivity high --owner "Tobias Renn"
account archive "Old web shop"
account difference "Heating control" 2026-10-20 2026-11-20
account disconnect-apps "Hut calendar" --reason "Nobody uses them." --preview
account edit "Hut calendar" --owner "Hal Draycott" --purpose "Who sleeps where"
account hand-over "Building plans" --to "Imke Rosen" --keeps "Read files" --reason "Gwil leaves."
account list --filter 'sensitivity ge 3'
account matrix "Booking desk mailbox"
account record "Hut calendar"
account remove "Spare mailbox"
account set-giving "Rescue radio network" --emergency-hours 8 --needs second_factor
account show "Booking desk mailbox"
person access "Gwil Tresco"
person add "Nia Holt" --address nia@wardens.example.net --job "Warden of the season" --manager "Hal Draycott"
person edit "Gwil Tresco" --standing leaving --leaves-on "31 Jan 2027"
person erase "Col Abernethy"
person held-data "Kit Varley" --to held.zip
person list --filter 'standing eq "left"'
person merge "Camera technician" "Kit Varley"
person move "Imke Rosen" --job "Head of the huts" --join Office
person record "Gwil Tresco"
person remove "Camera technician"
person show "Gwil Tresco"
person unmerge "Camera technician"
team add "Path builders" --purpose "Stones and drains" --speaker "Imke Rosen"
team add-member "Booking desk" "Nia Holt" --until "30 Apr"
team archive "Wardens of the season"
team edit "Booking desk" --purpose "Answers guests"
team end-access "Slate & Fern" --reason "Their contract is over." --preview
team list --filter 'partner eq true'
team record "Booking desk"
team remove "Path builders"
team remove-member "Booking desk" "Nia Holt"
team set-speaker "Slate & Fern" --person "Juno Ashby"
team show "Booking desk"
grant accept 5b1c7d02 --until 2026-12-31 --reason "The auditors look until then."
grant adopt 5b1c7d02 --reason "Kit set it up in spring."
grant end --filter 'account.name eq "Hut calendar" and holder.kind eq "app"' --reason "Not needed." --preview
grant give-up 5b1c7d02 --reason "I have moved to the workshop."
grant list --filter 'state eq "active" and reach eq "steward"'
grant longer 5b1c7d02 --until "30 Apr" --reason "The season was moved."
grant record "Petty cash book" "Noor Ashdown" "Enter bookings" --evidence "The service's page of users"
grant replace --filter 'holder.name eq "Gwil Tresco"' --to "Imke Rosen" --reason "She takes over." --preview
grant restore 5b1c7d02 --reason "Nobody agreed to that level."
grant resume 5b1c7d02 --reason "Back from leave."
grant set-end --filter 'holder.name eq "Gwil Tresco"' --until "31 Jan 2027" --reason "He leaves then." --preview
grant set-level 5b1c7d02 --level "Read mail" --reason "Does not answer any more."
grant set-term 5b1c7d02 --number 1 --until "31 Mar" --reason "Until the handover."
grant show 5b1c7d02
grant suspend 5b1c7d02 --reason "On leave."
grant terms 5b1c7d02
grant use 5b1c7d02 --days 90
app add "Rota Printer" --publisher "Tern and Son" --purpose "Prints the rota"
app archive "Old Exporter"
app disconnect "Photo Wall" --account "Hut web pages" --reason "Not used since spring." --preview
app edit "Photo Wall" --publisher "Glass House"
app list --search wall
app merge "Ledger Link" "Old Exporter"
app record "Photo Wall"
app remove "Old Exporter"
app show "Photo Wall"
app unmerge "Old Exporter"
resource add "Lost keys" --account "Booking desk mailbox" --kind folder
resource archive Complaints
resource edit Complaints --name "Complaints and praise"
resource group list
resource group add Season --account "Booking desk mailbox" --resource Complaints
resource group archive Season
resource group edit Season --resource Complaints
resource group record Season
resource group remove Season
resource list --filter 'account.name eq "Booking desk mailbox"'
resource record Complaints
resource remove "Lost keys"
session end 0a66b41f --reason "That telephone is lost."
session end-own 0a66b41f
session list --filter 'account.name eq "Booking desk mailbox"'
level archive "Draft issues"
level change "Read mail" --sentence "Read all mail and attachments" --preview
level compare "Read mail" "Answer mail"
level list --search mail
level make "Mail server" triage --name "Sort mail" --sentence "Read mail and move it" --permission mail.read
level permissions "Mail server"
level remove "Sort mail"
offer accept 41f79e30
offer change 41f79e30 --level "See dates" --until "30 Apr"
offer decline 41f79e30 --words "I work for somebody else now."
offer list --filter 'state eq "pending"'
offer resend 41f79e30
offer send "Hut calendar" --to orla@wardens.example.net --name Orla --level "See dates" --until "in 6 weeks"
offer show 41f79e30
offer withdraw 41f79e30
request ask "Webcam host" --level "See the site's figures" --until "in 2 weeks" --reason "It is dark."
request decline e3905a18 --words "Ask Kit; he has the pictures."
request grant e3905a18 --until "31 Mar" --words "Until the camera is mended."
request list --filter 'state eq "open"'
request withdraw e3905a18
search booking desk
register export register.zip
register import register.zip
register schema
filter attributes grants holder.name --search tresco
filter keep "Outsiders who can spend" --list grants --filter 'holder.inside eq false and reach ge "spend"' --shared
filter list
filter mail "Outsiders who can spend" week
filter remove "Outsiders who can spend"
task assign 92d761cc --to "Kit Varley"
task done 92d761cc --words "Removed on the service's page of users."
task list
latch list "Booking desk mailbox"
latch set ends_within hold --account "Booking desk mailbox" --number 90 --preview
switch in "Booking desk mailbox"
switch out
exchange "Booking desk mailbox"
visit list --filter 'account.name eq "Booking desk mailbox"'
notice --read
factor remove
factor set-up
me add-address ines@hill.example.net
me confirm-address
me end-session --others
me end-token "Night script"
me letter weekly
me make-token "Night script" --scope read --days 30
me offers refuse
me recovery-codes
me remove-passkey "Old phone" --preview
me rename-passkey Phone "Old phone"
me set --time-zone Europe/Oslo --locale de
me show
me use-address ines@hill.example.net
settings mail --host mail.hollinfell.example.org --port 587 --sender latch@hollinfell.example.org --starttls --test
settings organisation --time-zone Europe/Oslo
settings set --remind 14 --remind 3 --when-deactivated ask
settings show
set-up --organisation "Hollin Fell Huts" --time-zone Europe/Oslo --address ines.calder@hollinfell.example.org
sign-in end-sessions "Kit Varley"
sign-in end-tokens "Kit Varley"
sign-in invite "Kit Varley" --role reviewer
sign-in list
sign-in reset-factor "Kit Varley"
sign-in resume "Kit Varley"
sign-in set-role "Kit Varley" reviewer
sign-in suspend "Kit Varley"
sign-in take-away "Kit Varley"
invitation accept https://latch.hollinfell.example.org/invitation/…
invitation list
invitation resend "Kit Varley"
invitation withdraw "Kit Varley"
provider add "Fellside login" --issuer https://login.example.org --client open-latch
provider list
provider remove "Fellside login" --preview
directory token "Staff directory" --days 365
webhook add "Duty channel" https://receiver.example.org/open-latch --action revocation --action grant.given
webhook change "Duty channel" --everything
webhook deliveries "Duty channel" --state given_up
webhook list
webhook pause "Duty channel"
webhook remove "Duty channel"
webhook resend "Duty channel"
webhook resume "Duty channel"
webhook secret "Duty channel" --hours 24
webhook test "Duty channel"
signal clear "Fenna Aldous"
signal list
signal receiver add "Booking desk"
signal receiver events "Booking desk"
signal receiver list
signal receiver pause "Booking desk" --reason "Its operator asked for it."
signal receiver remove "Booking desk"
signal receiver resume "Booking desk"
signal receiver send-again "Booking desk"
signal receiver verify "Booking desk"
signal source add Fellside https://login.example.org --on account-disabled=end_access
signal source change Fellside --on session-revoked=end_sessions
signal source list
signal source remove Fellside
password change
password forgot ines.calder@hollinfell.example.org
password new https://latch.hollinfell.example.org/password/…
partner accept fellside --team "Fellside Guides"
partner confirm fellside "Juno Ashby"
partner decline fellside
partner end fellside --reason "The contract is over." --preview
partner list
partner offer fellside --person "Kit Varley" --words "We keep your web pages."
partner people fellside --person "Kit Varley"
partner show fellside
organisations link fellside --address kit@fellside.example.org
organisations list
organisations unlink fellside
paths "Gwil Tresco" "Weather readings"
what-if changes.json
map
ends --months 6
rule check rules.toml
rule drop weekend_use
rule limits
rule list
rule load rules.toml
rule set --limit unused=180,120,90,45 --off long_window --preview
rule source weekend_use
facts "Gwil Tresco"
flag accept 70b13f9a --reason "Back from parental leave in May." --until "31 May"
flag assign 70b13f9a --to "Kit Varley"
flag list --filter 'severity ge 4'
flag remedy 70b13f9a --reason "Left 141 days ago." --preview
flag reopen 70b13f9a
flag show 70b13f9a
round ask "Sensitive accounts, autumn" 8 "Do you still need this after May?"
round close "Sensitive accounts, autumn"
round decide "Sensitive accounts, autumn" 3 revoke --reason "The survey is over."
round explain "Old web shop, after its closing" 3 "The shop's server is gone for good."
round item "Sensitive accounts, autumn" 3
round items "Sensitive accounts, autumn" --undecided
round list
round open "The calendar" --scope 'account.name eq "Hut calendar"' --reviewer owner --days 14 --preview
round pass "Sensitive accounts, autumn" 7 --to "Kit Varley" --reason "He runs that server."
round progress "Sensitive accounts, autumn"
round second "Sensitive accounts, autumn" 9 --agree
round show "Sensitive accounts, autumn"
round undo "Sensitive accounts, autumn" 4
schedule list
schedule make "Sensitive accounts" --scope 'account.sensitivity ge 3' --every quarter --starts "1 Apr"
schedule pause "Sensitive accounts"
schedule resume "Sensitive accounts"
schedule show "Sensitive accounts"
evidence schema
evidence take "Old web shop, after its closing" --to shop.zip
evidence trust
evidence verify shop.zip
question answer d4052b77 "Until the end of May."
question list
calendar end
calendar make
calendar show
away --from "23 Dec" --until "2 Jan" --deputy "Kit Varley"
exposure apply "Press room" press-room.json --reason "Change 118" --preview
exposure close 1f8ce05b --reason "The jubilee is over." --preview
exposure expected add "Press room" 'account.name eq "Press room" and right eq "see"' --reason "Newspapers."
exposure expected list
exposure expected remove "Press room"
exposure judge 1f8ce05b --intended --reason "Newspapers fetch pictures there." --until "31 Dec"
exposure list --filter 'audience ne "named" and right ne "see"'
exposure narrow 1f8ce05b --reason "Only the printers use it." --preview
exposure past "Press room" --at "1 Nov"
exposure rules "Press room" --to press-room.json
exposure show 1f8ce05b
exposure try "Press room" press-room.json
guard lift 6b2e88d1 --reason "We print it together now."
guard list
guard restore 6b2e88d1
guard set --account Yearbook --right change --reason "Only we write it."
boundary set --domain hollinfell.example.org --network 203.0.113.0/24 --preview
boundary show
revoke 5b1c7d02 --reason "Her contract is over." --preview
trim 5b1c7d02 --until "31 Mar" --reason "Until the handover."
revocation done a9531c40 2 --proof "Removed on the service's page of users."
revocation list
revocation retry a9531c40
revocation show a9531c40
revocation skip a9531c40 2 --reason "The server is gone for good."
revocation undo a9531c40 --reason "The wrong Lund."
import people people.csv --try-only
system adapters postgresql
system add "Production database" --kind postgresql --set host=db.internal --set database=app --set user=open_latch --try
system edit "Hut telemetry database" --set port=5433
system list
system match "Camera host" --by employee=sure --by uid=ask
system pause "Camera host"
system read "Camera host"
system remove "Supplies shop"
system schedule "Camera host" --every 15
drift decide user:kit --person "Kit Varley"
drift doubts
drift list --system "Hut telemetry database"
leaver preview "Gwil Tresco"
leaver report "Gwil Tresco"
leaver show "Gwil Tresco"
leaver start "Gwil Tresco" --successor "Building plans=Imke Rosen" --reason "He leaves today." --preview
journal archive
journal archived --after 1042
journal events events.jsonl --after 1042
journal export journal.jsonl
journal heads heads.jsonl
journal list --filter 'subject.name co "Booking desk"'
journal verify
run --data /var/lib/openlatch --address https://latch.example.org --trusted-proxies 1
restore /var/backups/openlatch --data /var/lib/openlatch
move --data /var/lib/openlatch --to postgresql://owner@db.internal/openlatch --configuration /etc/openlatch.conf
serve
worker
migrate --app-password "four words that nobody knows"
new-key
organisation "Hollin Fell Huts" hollin-fell --time-zone Europe/Oslo --administrator "Ines Calder" \
    --address ines.calder@hollinfell.example.org
connect hollin-fell "Production database" --kind postgresql --set host=db.internal --set database=app
doctor
archive --keep-days 365
routes /etc/openlatch/routes
host-program open-latch-host
demo
"""


def lines() -> list[str]:
    """All examples, each without the program's name."""
    return [" ".join(line.split()) for line in _LINES.strip().replace("\\\n", " ").splitlines()]


def example_of(command: click.Command, words: str) -> str | None:
    """The example of a command, by its words without the program's name; None for a group that does nothing itself."""
    if isinstance(command, click.Group) and not command.invoke_without_command:
        return None
    opening = re.compile(re.escape(words) + r"(?: |$)")
    # Of “next” and “next postpone”, both begin with “next”: its own is the first.
    return next((line for line in lines() if opening.match(line)), None)


def teach(command: click.Command, words: str) -> None:
    """Give a command and all below it their examples, at the end of their help."""
    if isinstance(command, click.Group):
        for name, below in command.commands.items():
            teach(below, f"{words} {name}")
    line = example_of(command, words)
    # A paragraph that begins with \b is not broken into lines anew.
    command.epilog = f"\b\n{say('For example:')}\n  openlatch {line}" if line else None


def after_refusal(program: click.Group, arguments: Sequence[str], fields: Iterable[str]) -> str | None:
    """What to type instead of a line that the service could not use: the options at fault, and the command's example.

    ``fields`` are the parts of what was sent that the service names.
    """
    command, words, context = _meant(program, arguments)
    line = example_of(command, " ".join(words))
    if line is None or shlex.split(line) == list(arguments):
        return None
    named = {param.name: _hint(param, context) for param in command.params}
    faults = [named[name] for field in fields if (name := field.partition(".")[0]) in named]
    example = f"{say('For example:')} openlatch {line}"
    return f"{say('At fault:')} {', '.join(dict.fromkeys(faults))}\n{example}" if faults else example


def _hint(param: click.Parameter, context: click.Context) -> str:
    """An option or an argument as it is typed."""
    return max(param.opts, key=len) if isinstance(param, click.Option) else param.make_metavar(context).strip("[].")


def _meant(program: click.Group, arguments: Sequence[str]) -> tuple[click.Command, list[str], click.Context]:
    """The command that a line calls, with its words."""
    command: click.Command = program
    context = click.Context(program, info_name="openlatch")
    words: list[str] = []
    for word in arguments:
        below = command.get_command(context, word) if isinstance(command, click.Group) else None
        if below is None:
            break
        command, context = below, click.Context(below, parent=context, info_name=word)
        words.append(word)
    return command, words, context


def after(error: click.UsageError) -> str | None:
    """The example of the command whose line was wrong."""
    if error.ctx is None:
        return None
    line = example_of(error.ctx.command, error.ctx.command_path.partition(" ")[2])
    return f"{say('For example:')} openlatch {line}" if line else None
