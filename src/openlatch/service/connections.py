"""Connecting systems, and the adapter by which a connected one is reached."""

from __future__ import annotations

from uuid import UUID

from cryptography.fernet import Fernet, InvalidToken, MultiFernet
from sqlalchemy import select

from openlatch.adapters import Adapter
from openlatch.core.vocabulary import SystemKind
from openlatch.errors import BadInput, NotAllowed, NotFound, SystemRefused
from openlatch.json_values import JsonObject
from openlatch.service.unit import Service, Viewer
from openlatch.store.tables import System


def connect(
    service: Service, viewer: Viewer, key: str, name: str, kind: str, settings: JsonObject, secret: str
) -> UUID:
    """Add a system, or change how it is reached; gives its id. Its secret is encrypted before it is stored.

    It is tried first, outside any transaction: a secret that does not work is refused before it is kept, with what is
    missing.
    """
    if not viewer.administrator:
        raise NotAllowed("Only an administrator may do this.", "Ask an administrator of your organisation.")
    if kind not in service.adapters:
        raise BadInput(f"There is no adapter for {kind!r}.", f"Use one of: {', '.join(service.adapters)}.")
    service.adapters[kind](settings, secret).check()
    with service.unit(viewer) as unit:
        unit.sight.require_administrator()
        system = unit.db.scalars(select(System).where(System.key == key).with_for_update()).first()
        if system is None:
            system = System(organisation_id=unit.viewer.organisation, key=key, name=name)
            unit.db.add(system)
        system.name, system.kind, system.settings = name, kind, settings
        system.secret = secrets_cipher(service).encrypt(secret.encode())
        # Change tokens of another place are worthless here.
        system.stamps, system.read_fully_at = {}, None
        unit.db.flush()
        unit.record("system.connected", "system", system.id, name, settings=settings)
        unit.wake("read_system", system=system.id)
        return system.id


def adapter_for(service: Service, system: System) -> Adapter:
    """The adapter of a system. NotFound when its steps are carried out by hand."""
    if system.kind == SystemKind.OPEN_LATCH:
        # Whose register it is comes from the row, and not from settings that somebody could write.
        if service.itself is None:
            raise NotFound(f"{system.name} is not among its own systems here.")
        return service.itself(service, system.organisation_id)
    maker = service.adapters.get(system.kind)
    if maker is None or not system.has_secret:
        raise NotFound(f"{system.name} is not connected; what happens there is done by hand.")
    if not service.holds_secrets:
        return maker(system.settings, "")
    try:
        assert system.secret is not None
        secret = secrets_cipher(service).decrypt(system.secret).decode()
    except InvalidToken as error:
        raise SystemRefused(
            f"The secret of {system.name} can't be opened with the key that this process has.",
            "Give the worker the systems_key by which it was encrypted, or connect the system again.",
        ) from error
    return maker(system.settings, secret)


def secrets_cipher(service: Service) -> Fernet | MultiFernet:
    """What encrypts the secrets of systems: a key of their own, where there is one."""
    return service.systems_cipher or service.cipher


def renew_secrets(service: Service, viewer: Viewer) -> int:
    """Encrypt the secrets of systems by the key of their own, where they are not yet; gives how many were not."""
    if service.systems_cipher is None:
        return 0
    with service.unit(viewer) as unit:
        rows = unit.db.scalars(select(System).where(System.has_secret).with_for_update()).all()
        renewed = 0
        for row in rows:
            assert row.secret is not None
            try:
                plain = service.cipher.decrypt(row.secret)
            except InvalidToken:
                continue
            row.secret = service.systems_cipher.encrypt(plain)
            renewed += 1
        return renewed
