"""Configuration: a TOML file, and environment variables over it.

Every setting ``name`` is ``name = …`` in the file that OPENLATCH_CONFIG names, or OPENLATCH_NAME in the
environment, which wins.
"""

from __future__ import annotations

import os
import tomllib
from pathlib import Path

from cryptography.fernet import Fernet, MultiFernet
from pydantic import ValidationError
from pydantic_settings import BaseSettings, PydanticBaseSettingsSource, SettingsConfigDict, TomlConfigSettingsSource

from openlatch.errors import BadInput

PREFIX = "OPENLATCH_"


class Settings(BaseSettings):
    """What the service needs to know to run.

    ``database_url`` is the service's own login, ``owner_database_url`` the owner's, which only migrations use;
    Where ``database_url`` leads to a pool that gives a connection to each transaction, ``direct_database_url`` is the
    same login at the server itself, by which changes and the queue are listened to.
    Reads go to ``standby_database_url``, the same login at standbys, as long as these lack nothing.
    ``secret_key`` encrypts mail that waits and second factors (``openlatch new-key`` makes one), ``systems_key`` the
    secrets of systems: the worker and ``openlatch connect`` need it. By ``evidence_key`` the worker signs evidence and
    heads of the journal. The web process must have neither of these two. ``public_address`` is where people reach the
    console, which links in mail begin with; the ``smtp_`` settings say which server mail goes through.
    ``tree_heads_file`` is where signed heads of the journal are appended, ``timestamp_authority`` the address of one by
    RFC 3161 that stamps them. What ``openlatch archive`` takes out of the database is in ``archive_folder``. Whoever
    has ``metrics_token`` may read ``/metrics``. ``private_receivers`` names hosts in private networks, with commas
    between them, that webhooks may be sent to, also without TLS. Journals are forwarded to ``syslog_server``
    (host:port) over TLS, checked by the certificates in the file
    ``syslog_authorities``. Traces and metrics go to ``otlp_endpoint`` by OTLP over HTTP.
    """

    model_config = SettingsConfigDict(env_prefix=PREFIX, extra="forbid", frozen=True, coerce_numbers_to_str=True)

    database_url: str = ""
    direct_database_url: str = ""
    standby_database_url: str = ""
    owner_database_url: str = ""
    secret_key: str = ""
    systems_key: str = ""
    evidence_key: str = ""
    bind: str = "127.0.0.1:8620"
    web_processes: int = 2
    web_threads: int = 32
    seconds_in_line: float = 1.0
    trusted_proxies: int = 0
    public_address: str = ""
    smtp_host: str = ""
    smtp_port: int = 25
    smtp_user: str = ""
    smtp_password: str = ""
    smtp_starttls: int = 0
    mail_from: str = "openlatch@localhost"
    tree_heads_file: str = ""
    archive_folder: str = ""
    timestamp_authority: str = ""
    metrics_token: str = ""
    private_receivers: str = ""
    syslog_server: str = ""
    syslog_authorities: str = ""
    log_requests: int = 1
    otlp_endpoint: str = ""

    @classmethod
    def settings_customise_sources(
        cls, settings_cls: type[BaseSettings], *_: PydanticBaseSettingsSource, **sources: PydanticBaseSettingsSource
    ) -> tuple[PydanticBaseSettingsSource, ...]:
        """What is given, the environment, then the file that it names."""
        path = os.environ.get(f"{PREFIX}CONFIG")
        file = (TomlConfigSettingsSource(settings_cls, Path(path)),) if path else ()
        return (sources["init_settings"], sources["env_settings"], *file)

    @classmethod
    def load(cls) -> Settings:
        """From the file and the environment. BadInput names an unknown or invalid setting."""
        path = os.environ.get(f"{PREFIX}CONFIG", "")
        try:
            if path:
                # pydantic-settings ignores a missing file.
                Path(path).read_bytes()
            return cls()
        except (OSError, tomllib.TOMLDecodeError) as error:
            raise BadInput(
                f"The configuration {path} can't be read: {error}", f"Mend it, or unset {PREFIX}CONFIG."
            ) from None
        except ValidationError as error:
            wrong = {str(e["loc"][0]): e["msg"] for e in error.errors(include_url=False)}
            unknown = sorted(wrong.keys() - cls.model_fields.keys())
            if unknown:
                raise BadInput(
                    f"{path} has unknown settings: {', '.join(unknown)}.", f"Known: {', '.join(cls.model_fields)}."
                ) from None
            told = "; ".join(f"{name} ({PREFIX}{name.upper()}): {why}" for name, why in wrong.items())
            raise BadInput(
                f"The configuration can't be used: {told}.", "Look at the settings in the reference."
            ) from None

    def require(self, *names: str) -> Settings:
        """The values of these settings. BadInput names those that are empty."""
        missing = [name for name in names if not getattr(self, name)]
        if missing:
            told = ", ".join(f"{n} (OPENLATCH_{n.upper()})" for n in missing)
            raise BadInput(f"Not configured: {told}.", "Set them in the environment or in OPENLATCH_CONFIG's file.")
        return self

    @property
    def listening_url(self) -> str:
        """The address at which the database can be listened to, which a pool may not allow."""
        return self.direct_database_url or self.database_url

    def cipher(self) -> Fernet:
        """The cipher for mail that waits and second factors. BadInput when the key is not one."""
        return _fernet("secret_key", self.secret_key)

    def systems_cipher(self) -> MultiFernet | None:
        """The cipher for the secrets of systems; it also decrypts those from before they had a key of their own."""
        if not self.systems_key:
            return None
        return MultiFernet([_fernet("systems_key", self.systems_key), self.cipher()])

    def evidence_seed(self) -> bytes:
        """The seed of the key that signs evidence; the secret key where no evidence key is set."""
        if self.evidence_key:
            _fernet("evidence_key", self.evidence_key)
        return (self.evidence_key or self.secret_key).encode()


def _fernet(name: str, key: str) -> Fernet:
    try:
        return Fernet(key)
    except ValueError:
        raise BadInput(f"{name} is not a key.", "Make one with: openlatch new-key") from None
