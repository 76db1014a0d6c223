"""Somebody's own server, which is told what happens here."""

from __future__ import annotations

import json
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any


@dataclass
class Received:
    """A message as it came."""

    method: str
    url: str
    headers: dict[str, str]
    body: bytes

    @property
    def event(self) -> Any:
        return json.loads(self.body)


@dataclass
class Receiver:
    """Somebody's own server, which answers as it is told."""

    port: int = 0
    answers: list[int] = field(default_factory=list)
    retry_after: str = ""
    got: list[Received] = field(default_factory=list)

    @property
    def url(self) -> str:
        return f"http://127.0.0.1:{self.port}/hook?for=latch"

    def positions(self) -> list[Any]:
        return [one.event["data"]["position"] for one in self.got]


@contextmanager
def listening() -> Iterator[Receiver]:
    """A receiver that listens on loopback."""
    made = Receiver()

    class Handler(BaseHTTPRequestHandler):
        def do_POST(self) -> None:
            body = self.rfile.read(int(self.headers["Content-Length"]))
            made.got.append(Received("POST", f"http://{self.headers['Host']}{self.path}", dict(self.headers), body))
            self.send_response(made.answers.pop(0) if made.answers else 204)
            if made.retry_after:
                self.send_header("Retry-After", made.retry_after)
            self.send_header("Location", "http://127.0.0.1:1/elsewhere")
            self.end_headers()

        def log_message(self, *_: object) -> None:
            """Nothing."""

    server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    made.port = server.server_address[1]
    threading.Thread(target=server.serve_forever, daemon=True).start()
    try:
        yield made
    finally:
        server.shutdown()
        server.server_close()
