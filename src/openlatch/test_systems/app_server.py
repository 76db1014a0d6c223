"""A simulated service on loopback, in a thread of its own."""

from __future__ import annotations

import threading

from flask import Flask
from werkzeug.serving import WSGIRequestHandler, make_server


class _Quiet(WSGIRequestHandler):
    def log_request(self, code: int | str = "-", size: int | str = "-") -> None:
        """Requests are not logged."""


class AppServer:
    """Serves a Flask application until it is stopped."""

    def __init__(self, app: Flask, port: int) -> None:
        self.port = port
        self._server = make_server("127.0.0.1", port, app, threaded=True, request_handler=_Quiet)
        self._thread = threading.Thread(target=self._server.serve_forever, daemon=True)

    @property
    def address(self) -> str:
        """Its address."""
        return f"http://127.0.0.1:{self.port}"

    def start(self) -> None:
        """Serve."""
        self._thread.start()

    def stop(self) -> None:
        """Stop serving."""
        self._server.shutdown()
        self._server.server_close()
        self._thread.join(5)
