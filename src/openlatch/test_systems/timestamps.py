"""A time-stamping authority (RFC 3161) as a stand-in: OpenSSL's own ``ts`` behind a small HTTP server on loopback."""

from __future__ import annotations

import shutil
import subprocess
import tempfile
import threading
from datetime import UTC, datetime, timedelta
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import rsa
from cryptography.x509.oid import ExtendedKeyUsageOID, NameOID

from openlatch.processes import CantStart

_SECONDS = 10
_LARGEST_QUERY = 10_000
_CONFIGURATION = """
[tsa]
default_tsa = authority
[authority]
serial = {folder}/serial
signer_cert = {folder}/certificate.pem
certs = {folder}/certificate.pem
signer_key = {folder}/key.pem
signer_digest = sha256
default_policy = 1.3.6.1.4.1.32473.1
digests = sha256, sha512
accuracy = secs:1
ordering = yes
tsa_name = yes
ess_cert_id_chain = no
ess_cert_id_alg = sha256
"""


class TimestampServer:
    """Answers time-stamp requests. Its key and certificate are in its folder."""

    def __init__(self, folder: Path, port: int) -> None:
        self.folder = folder
        self.port = port
        self._server: ThreadingHTTPServer | None = None

    @property
    def address(self) -> str:
        """Its address."""
        return f"http://127.0.0.1:{self.port}/"

    @property
    def certificate(self) -> Path:
        """The certificate by which its time stamps are verified."""
        return self.folder / "certificate.pem"

    def start(self) -> None:
        """Create a key and a certificate if needed, and start answering. CantStart without OpenSSL."""
        if shutil.which("openssl") is None:
            raise CantStart("OpenSSL is not installed.", "Install Debian's package openssl.")
        self.folder.mkdir(parents=True, exist_ok=True, mode=0o700)
        if not self.certificate.exists():
            self._make()
        folder, lock = self.folder, threading.Lock()

        class Handler(BaseHTTPRequestHandler):
            def do_POST(self) -> None:
                length = min(int(self.headers.get("Content-Length") or 0), _LARGEST_QUERY)
                with lock:
                    answer = _reply(folder, self.rfile.read(length))
                self.send_response(200 if answer else 400)
                self.send_header("Content-Type", "application/timestamp-reply")
                self.send_header("Content-Length", str(len(answer)))
                self.end_headers()
                self.wfile.write(answer)

            def log_message(self, format: str, *arguments: object) -> None:
                """Requests are not logged."""

        self._server = ThreadingHTTPServer(("127.0.0.1", self.port), Handler)
        threading.Thread(target=self._server.serve_forever, daemon=True).start()

    def _make(self) -> None:
        key = rsa.generate_private_key(65537, 2048)
        name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "Made-up time-stamping authority")])
        now = datetime.now(UTC)
        usage = x509.ExtendedKeyUsage([ExtendedKeyUsageOID.TIME_STAMPING])
        certificate = (
            x509.CertificateBuilder()
            .subject_name(name)
            .issuer_name(name)
            .public_key(key.public_key())
            .serial_number(x509.random_serial_number())
            .not_valid_before(now - timedelta(days=1))
            .not_valid_after(now + timedelta(days=3650))
            .add_extension(x509.BasicConstraints(False, None), True)
            .add_extension(usage, True)
            .sign(key, hashes.SHA256())
        )
        pem, plain = serialization.Encoding.PEM, serialization.NoEncryption()
        secret = self.folder / "key.pem"
        secret.touch(mode=0o600)
        secret.write_bytes(key.private_bytes(pem, serialization.PrivateFormat.PKCS8, plain))
        self.certificate.write_bytes(certificate.public_bytes(pem))
        (self.folder / "serial").write_text("01\n")
        (self.folder / "authority.cnf").write_text(_CONFIGURATION.format(folder=self.folder))

    def stop(self) -> None:
        """Stop answering."""
        if self._server is not None:
            self._server.shutdown()
            self._server.server_close()
            self._server = None


def _reply(folder: Path, query: bytes) -> bytes:
    with tempfile.TemporaryDirectory(dir=folder) as held:
        asked, answer = Path(held) / "query", Path(held) / "reply"
        asked.write_bytes(query)
        command = ["openssl", "ts", "-reply", "-config", str(folder / "authority.cnf"), "-section", "authority"]
        done = subprocess.run(
            [*command, "-queryfile", str(asked), "-out", str(answer)],
            capture_output=True,
            timeout=_SECONDS,
            check=False,
        )
        return answer.read_bytes() if done.returncode == 0 and answer.exists() else b""
