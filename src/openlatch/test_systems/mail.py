"""A small mail server: accepts every message by SMTP, stores it as a file, and shows it on a page.

For the demo and the tests, on loopback only. It forwards nothing.
"""

from __future__ import annotations

import threading
from email import message_from_bytes, policy
from email.message import EmailMessage
from html import escape
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from urllib.parse import parse_qs, urlsplit

from aiosmtpd.controller import Controller
from aiosmtpd.smtp import Envelope

from openlatch.private_files import private_folder

_STYLE = (
    "body{font:16px/1.5 sans-serif;margin:2rem auto;max-width:60rem;padding:0 1rem;color:#1c2422;background:#f6f4ef}"
    "table{border-collapse:collapse;width:100%;background:#fff}td,th{padding:.5rem .75rem;text-align:left;"
    "border-bottom:1px solid #ddd8cc}a{color:#1f4d46}pre{white-space:pre-wrap;background:#fff;padding:1rem}"
    "iframe{width:100%;height:28rem;border:1px solid #ddd8cc;background:#fff}"
)


class MailServer:
    """An SMTP server and a page that shows its mail, each on its own port."""

    def __init__(self, folder: Path, smtp_port: int, page_port: int) -> None:
        self.folder = folder
        self.smtp_port, self.page_port = smtp_port, page_port
        private_folder(folder)
        self._smtp = Controller(_Keeper(folder), hostname="127.0.0.1", port=smtp_port)
        handler = type("Page", (_Page,), {"folder": folder})
        self._page = ThreadingHTTPServer(("127.0.0.1", page_port), handler)

    @property
    def address(self) -> str:
        """The page's address."""
        return f"http://127.0.0.1:{self.page_port}"

    def start(self) -> None:
        """Start both."""
        self._smtp.start()
        threading.Thread(target=self._page.serve_forever, daemon=True, name="mail page").start()

    def stop(self) -> None:
        """Stop both."""
        self._smtp.stop()
        self._page.shutdown()
        self._page.server_close()

    def messages(self, recipient: str = "") -> list[EmailMessage]:
        """The messages received, oldest first; those to one recipient, or all."""
        return [m for _, m in _read(self.folder) if not recipient or recipient in str(m["To"])]


class _Keeper:
    """Writes each message to a file; called by aiosmtpd."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self._number = len(list(folder.glob("*.eml")))

    async def handle_DATA(self, server: object, session: object, envelope: Envelope) -> str:  # noqa: N802  aiosmtpd's name for it
        self._number += 1
        waiting = self._folder / f"{self._number:05}.part"
        waiting.write_bytes(envelope.original_content or b"")
        waiting.rename(self._folder / f"{self._number:05}.eml")
        return "250 kept"


def _read(folder: Path) -> list[tuple[str, EmailMessage]]:
    found = sorted(folder.glob("*.eml"))
    return [(f.stem, message_from_bytes(f.read_bytes(), policy=policy.default)) for f in found]


def _part(message: EmailMessage, kind: str) -> str:
    body = message.get_body((kind,))
    return str(body.get_content()) if body is not None else ""


class _Page(BaseHTTPRequestHandler):
    folder: Path

    def do_GET(self) -> None:
        asked = urlsplit(self.path)
        messages = dict(_read(self.folder))
        number = asked.path.strip("/").removesuffix(".html")
        if number in messages:
            whole = asked.path.endswith(".html")
            self._answer(_part(messages[number], "html") if whole else _one(number, messages[number]))
        elif not number:
            self._answer(_list(messages, parse_qs(asked.query).get("to", [""])[0]))
        else:
            self.send_error(404)

    def _answer(self, page: str) -> None:
        sent = page.encode()
        self.send_response(200)
        self.send_header("Content-Type", "text/html; charset=utf-8")
        self.send_header("Content-Length", str(len(sent)))
        self.end_headers()
        self.wfile.write(sent)

    def log_message(self, format: str, *args: object) -> None:
        """Requests are not logged."""


def _frame(title: str, body: str) -> str:
    return (
        f'<!doctype html><html lang="en"><head><meta charset="utf-8"><title>{escape(title)}</title>'
        f"<style>{_STYLE}</style></head><body><h1>{escape(title)}</h1>{body}</body></html>"
    )


def _list(messages: dict[str, EmailMessage], to: str) -> str:
    rows = "".join(
        f'<tr><td><a href="/{number}">{escape(str(m["Subject"]))}</a></td><td>{escape(str(m["To"]))}</td>'
        f"<td>{escape(str(m['Date']))}</td></tr>"
        for number, m in reversed(messages.items())
        if to in str(m["To"])
    )
    return _frame("Mail of the demo", f"<table><tr><th>Subject</th><th>To</th><th>Sent</th></tr>{rows}</table>")


def _one(number: str, message: EmailMessage) -> str:
    head = (
        f"<p>To {escape(str(message['To']))}, from {escape(str(message['From']))}, {escape(str(message['Date']))}</p>"
    )
    shown = f'<iframe src="/{number}.html" title="As HTML"></iframe>'
    plain = f"<h2>As plain text</h2><pre>{escape(_part(message, 'plain'))}</pre>"
    return _frame(str(message["Subject"]), f'{head}{shown}{plain}<p><a href="/">All mail</a></p>')
