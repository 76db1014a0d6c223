"""The systems around the demo, besides the telemetry database: directory, mail, calendars, a host and a cloud service.

Each is a real server where Debian has one. Where a package can't be installed, that system is left out with a message.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from uuid import UUID

from sqlalchemy import select

from openlatch.demo import loader
from openlatch.json_values import JsonObject
from openlatch.processes import CantStart, usual_port
from openlatch.service import connections
from openlatch.service.identity import providers
from openlatch.service.systems import readings
from openlatch.service.unit import Service, Viewer
from openlatch.store.tables import IdentityProvider, System
from openlatch.test_systems import calendars, cloud, directory, host, identity_provider, mailboxes
from openlatch.test_systems.app_server import AppServer
from openlatch.test_systems.server import Server

DOMAIN = "hollinfell.example.org"
PROVIDER, PROVIDER_CLIENT = "Fellside login", "open-latch"


@dataclass
class Surroundings:
    """The systems that were started, and how each is connected: name, kind and settings."""

    folder: Path
    secret: str
    said: Callable[[str], None]
    plan: JsonObject = field(default_factory=dict)
    servers: list[Server | AppServer] = field(default_factory=list)
    provider: identity_provider.IdentityProvider | None = None
    connections: list[tuple[str, str, JsonObject]] = field(default_factory=list)

    def start(self, service: Service) -> None:
        """Start every system that is installed; print which are missing."""
        day = loader.base_day(service.clock())
        self.plan = loader.systems_plan(day)
        for start in (self._directory, self._mailboxes, self._calendars):
            try:
                start()
            except CantStart as error:
                self.said(f"{error.detail} {error.remedy} The demo continues without it.")
        root = self.folder / "host"
        if not (root / "made").exists():
            host.prepare(root, self.plan["host"], day)
        self.connections.append(("Camera host", "host", host.usual(root, self.plan["host"])))
        self._cloud()
        self._identity_provider(service)

    def _identity_provider(self, service: Service) -> None:
        folder = self.folder / "identity-provider"
        folder.mkdir(parents=True, exist_ok=True)
        port = usual_port(folder)
        self.provider = identity_provider.IdentityProvider(
            f"http://127.0.0.1:{port}",
            PROVIDER_CLIENT,
            self.secret,
            f"{service.address}{providers.CALLBACK}",
            f"{service.address}{providers.BACK_CHANNEL}",
            loader.provider_people(),
        )
        server = AppServer(self.provider.app(), port)
        server.start()
        self.servers.append(server)

    def _directory(self) -> None:
        server = directory.DirectoryServer(self.folder / "directory")
        server.start()
        self.servers.append(server)
        if not server.is_made:
            server.prepare(self.plan["directory"], self.secret)
        self.connections.append(("Call-out directory", "directory", directory.usual(server)))

    def _mailboxes(self) -> None:
        server = mailboxes.MailboxServer(self.folder / "mailboxes", secret=self.secret)
        server.start()
        self.servers.append(server)
        if not server.is_made:
            server.prepare(self.plan["mailboxes"])
        server.sign_in(self.plan["mailboxes"]["signed_in"])
        self.connections.append(("Desk mail server", "mailboxes", {**mailboxes.usual(server), "domain": DOMAIN}))

    def _calendars(self) -> None:
        server = calendars.CalendarServer(self.folder / "calendars", secret=self.secret)
        server.start()
        self.servers.append(server)
        if not server.is_made:
            server.prepare(self.plan["calendars"])
        self.connections.append(("Office calendars", "dav", calendars.usual(server)))

    def _cloud(self) -> None:
        folder = self.folder / "cloud"
        folder.mkdir(parents=True, exist_ok=True)
        service = cloud.Cloud(self.secret, folder)
        if not service.state.people:
            service.load(self.plan["cloud"])
        service.manners = cloud.Manners(**self.plan["manners"])
        server = cloud.CloudServer(service, usual_port(folder))
        server.start()
        self.servers.append(server)
        self.connections.append(("Design cloud", "cloud", {"address": server.address}))

    def connect(self, service: Service, organisation: UUID) -> None:
        """Connect each system whose settings changed, and read it."""
        viewer = Viewer.itself(organisation)
        for name, kind, settings in self.connections:
            with service.unit(viewer) as unit:
                known = unit.db.scalars(select(System).where(System.key == name)).first()
                ident = known.id if known is not None and known.settings == settings else None
            if ident is None:
                ident = connections.connect(service, viewer, name, name, kind, settings, self.secret)
            readings.read(service, organisation, ident)

    def let_sign_in(self, service: Service, organisation: UUID) -> None:
        """Let the people of the organisation sign in by the identity provider, wherever it is this time."""
        assert self.provider is not None
        with service.unit(Viewer.itself(organisation)) as unit:
            row = unit.db.scalars(select(IdentityProvider).where(IdentityProvider.name == PROVIDER)).first()
            row = row or IdentityProvider(organisation_id=organisation, name=PROVIDER, client_id=PROVIDER_CLIENT)
            row.issuer = self.provider.issuer
            row.client_secret = service.cipher.encrypt(self.secret.encode())
            unit.db.add(row)

    def stop(self) -> None:
        """Stop the servers that were started."""
        for server in self.servers:
            server.stop()
