"""The huts' calendar server: a real Cyrus with calendars and access control by WebDAV."""

from __future__ import annotations

import smtplib
import subprocess
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from urllib.parse import quote
from xml.etree import ElementTree
from xml.sax.saxutils import escape

import httpx

from openlatch.json_values import JsonObject
from openlatch.processes import CantStart, runner, unprivileged, usual_port
from openlatch.test_systems.server import Server
from openlatch.tls import trusted

OWNER = "huts"
REALM = "calendars.hollinfell.example.org"
LOGIN_PASSWORD = "made-up-for-the-demo"  # noqa: S105  every login of a demo server that listens on loopback only
_PROGRAMS = Path("/usr/lib/cyrus/bin")
_SETTINGS = """
configdirectory: {folder}/config
partition-default: {folder}/spool
defaultpartition: default
cyrus_user: {user}
servername: {realm}
sasl_pwcheck_method: auxprop
sasl_auxprop_plugin: sasldb
sasl_sasldb_path: {folder}/logins
sasl_mech_list: PLAIN
allowplaintext: yes
httpallowplaintext: yes
httpmodules: caldav webdav
caldav_create_default: no
unixhierarchysep: yes
autocreate_users: anyone
autocreate_quota: 0
autocreate_post: yes
"""
_SERVICES = """
START {{
}}
SERVICES {{
  http cmd="{programs}/httpd -C {folder}/imapd.conf" listen="127.0.0.1:{port}" prefork=1
  lmtp cmd="{programs}/lmtpd -a -C {folder}/imapd.conf" listen="127.0.0.1:{post_port}" prefork=0
}}
EVENTS {{
}}
"""
_ENTRY = (
    "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//Hollin Fell//Huts//EN\r\nBEGIN:VEVENT\r\nUID:{uid}\r\n"
    "DTSTAMP:20260101T000000Z\r\nDTSTART:20260601T080000Z\r\nDTEND:20260601T160000Z\r\nSUMMARY:{text}\r\n"
    "END:VEVENT\r\nEND:VCALENDAR\r\n"
)


@dataclass
class CalendarServer(Server):
    """A Cyrus of our own, with the calendars of one login."""

    program = "saslpasswd2"
    package = "cyrus-caldav"

    secret: str = ""
    post_port: int = 0

    @classmethod
    def installed(cls) -> str | None:
        """The path of the program that starts all others; None unless both packages are installed."""
        program = _PROGRAMS / "master"
        return str(program) if super().installed() and (_PROGRAMS / "httpd").exists() and program.exists() else None

    def write(self) -> None:
        """Write its configuration for these ports."""
        for name in ("config", "spool", "post"):
            (self.folder / name).mkdir(exist_ok=True)
        self.post_port = usual_port(self.folder / "post")
        where = {"folder": self.folder, "programs": _PROGRAMS, "port": self.port, "post_port": self.post_port}
        settings = _SETTINGS.format(**where, user=runner().pw_name, realm=REALM)
        (self.folder / "imapd.conf").write_text(settings)
        (self.folder / "cyrus.conf").write_text(_SERVICES.format(**where))

    def arguments(self) -> Sequence[str]:
        """The command that runs it in the foreground with our configuration."""
        at = self.folder
        return ["-D", "-C", f"{at}/imapd.conf", "-M", f"{at}/cyrus.conf", "-p", f"{at}/running"]

    @property
    def address(self) -> str:
        """The address of the owner's calendars."""
        return f"http://127.0.0.1:{self.port}/dav/calendars/user/{OWNER}/"

    def prepare(self, plan: JsonObject) -> None:
        """Create logins, the owner's calendars with their entries, and the access control list of each."""
        for name in (OWNER, *plan["logins"]):
            self._add_login(name, self.secret if name == OWNER else LOGIN_PASSWORD)
        with httpx.Client(auth=(OWNER, self.secret), timeout=30, verify=trusted()) as http:
            for name, shown, entries in plan["calendars"]:
                at = f"{self.address}{quote(name)}/"
                body = (
                    '<C:mkcalendar xmlns:D="DAV:" xmlns:C="urn:ietf:params:xml:ns:caldav"><D:set><D:prop>'
                    f"<D:displayname>{escape(shown)}</D:displayname></D:prop></D:set></C:mkcalendar>"
                )
                http.request("MKCALENDAR", at, content=body, headers={"Content-Type": "text/xml"}).raise_for_status()
                for number, text in enumerate(entries):
                    uid = f"{name}-{number}"
                    http.put(
                        f"{at}{quote(uid)}.ics",
                        content=_ENTRY.format(uid=uid, text=text),
                        headers={"Content-Type": "text/calendar"},
                    ).raise_for_status()
            for name, entries in plan["lists"].items():
                self.set_list(name, entries)
        (self.folder / "made").touch()

    def set_list(self, name: str, entries: Sequence[Sequence[str]]) -> None:
        """Set a calendar's whole access control list: the owner, and pairs of principal and privilege; a denial begins
        with a minus.
        """
        body = "".join(
            _ace(who, privileges.removeprefix("-"), "deny" if privileges.startswith("-") else "grant")
            for who, privileges in (("self", "all"), *entries)
        )
        with httpx.Client(auth=(OWNER, self.secret), timeout=30, verify=trusted()) as http:
            http.request(
                "ACL",
                f"{self.address}{quote(name)}/",
                headers={"Content-Type": "text/xml"},
                content=f'<D:acl xmlns:D="DAV:" xmlns:C="urn:ietf:params:xml:ns:caldav">{body}</D:acl>',
            ).raise_for_status()

    def granted(self, name: str, who: str) -> set[str]:
        """The privileges on a calendar that the server itself reports for a principal, by name."""
        body = '<D:propfind xmlns:D="DAV:"><D:prop><D:acl/></D:prop></D:propfind>'
        with httpx.Client(auth=(OWNER, self.secret), timeout=30, verify=trusted()) as http:
            answer = http.request(
                "PROPFIND",
                f"{self.address}{quote(name)}/",
                content=body,
                headers={"Content-Type": "text/xml", "Depth": "0"},
            ).raise_for_status()
        found = set[str]()
        for ace in ElementTree.fromstring(answer.content).iter("{DAV:}ace"):  # noqa: S314  a server of our own
            if ace.findtext("{DAV:}principal/{DAV:}href") == who:
                found |= {one[0].tag.partition("}")[2] for one in ace.iterfind("{DAV:}grant/{DAV:}privilege")}
        return found

    def _add_login(self, name: str, word: str) -> None:
        """Create a login with its password and its home, which the server makes when the first message arrives."""
        program = super().installed()
        if program is None:
            raise CantStart("saslpasswd2 is not installed.", "Install Debian's package sasl2-bin.")
        subprocess.run(
            [program, "-p", "-c", "-f", str(self.folder / "logins"), "-u", REALM, name],
            input=word.encode(),
            check=True,
            capture_output=True,
            cwd="/",
            **unprivileged(),
        )
        with smtplib.LMTP("127.0.0.1", self.post_port) as post:
            post.sendmail(
                "office@hollinfell.example.org", [name], "Subject: Welcome\r\n\r\nYour calendars are here.\r\n"
            )
        with httpx.Client(auth=(name, word), timeout=30, verify=trusted()) as http:
            home = f"http://127.0.0.1:{self.port}/dav/calendars/user/{quote(name)}/"
            http.request("PROPFIND", home, headers={"Depth": "1"}).raise_for_status()


def principal(name: str) -> str:
    """How the server names a login in an access control list."""
    return f"/dav/principals/user/{quote(name)}/"


def usual(server: CalendarServer) -> JsonObject:
    """The settings by which Open Latch connects to it. This server applies a denial whatever its place in the list."""
    return {"address": server.address, "user": OWNER, "domain": "hollinfell.example.org", "refusals": "first"}


def _ace(who: str, privileges: str, effect: str) -> str:
    is_word = who in ("self", "all", "authenticated", "unauthenticated")
    named = f"<D:{who}/>" if is_word else f"<D:href>{principal(who)}</D:href>"
    wanted = "".join(
        f"<D:privilege><{'C' if one.startswith(('read-free', 'schedule')) else 'D'}:{one}/></D:privilege>"
        for one in privileges.split()
    )
    return f"<D:ace><D:principal>{named}</D:principal><D:{effect}>{wanted}</D:{effect}></D:ace>"
