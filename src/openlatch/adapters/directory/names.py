"""Normalised distinguished names (RFC 4514), so that two spellings of one name compare equal.

Escapes are resolved, types go by one of their names, several values of one RDN are sorted, and values are compared as
caseIgnoreMatch does (RFC 4518): that is the matching rule of all naming attributes used for people.
"""

from __future__ import annotations

import re
import unicodedata

from cryptography import x509

from openlatch.errors import SystemRefused

# The attribute names of RFC 4519, 4524 and 2798 that have aliases.
_SAME = {
    "commonname": "cn",
    "2.5.4.3": "cn",
    "surname": "sn",
    "2.5.4.4": "sn",
    "localityname": "l",
    "2.5.4.7": "l",
    "stateorprovincename": "st",
    "2.5.4.8": "st",
    "organizationname": "o",
    "2.5.4.10": "o",
    "organizationalunitname": "ou",
    "2.5.4.11": "ou",
    "countryname": "c",
    "2.5.4.6": "c",
    "userid": "uid",
    "0.9.2342.19200300.100.1.1": "uid",
    "domaincomponent": "dc",
    "0.9.2342.19200300.100.1.25": "dc",
    "streetaddress": "street",
    "2.5.4.9": "street",
}
# The library needs an OID for each attribute name in a DN; one that it does not know passes unchecked.
_ARC = "1.3.6.1.4.1.32473."
_TYPE = re.compile(r"(?:^|(?<!\\)(?:\\\\)*[,+])([A-Za-z][A-Za-z0-9-]*|\d+(?:\.\d+)+)(?==)")
_UNIQUE = re.compile(r"#'[01]*'B\Z")


def dn(name: str) -> str:
    """A normalised distinguished name. SystemRefused if it is invalid."""
    # Spaces around separators don't count; people write them in settings.
    text = re.sub(r"(?<!\\)([,+])\s+", r"\1", re.sub(r"\s*(?<!\\)=\s*", "=", re.sub(r"(?<!\\)\s+(?=[,+])", "", name)))
    types = list(dict.fromkeys(_TYPE.findall(text.strip())))
    try:
        parsed = x509.Name.from_rfc4514_string(
            re.sub(_TYPE, lambda match: f"{match[0][: -len(match[1])]}t{types.index(match[1])}", text.strip()),
            {f"t{number}": x509.ObjectIdentifier(f"{_ARC}{number}") for number in range(len(types))},
        )
    except ValueError as error:
        raise SystemRefused(f"{name!r} is no distinguished name.", "Look at where it comes from.") from error
    if not parsed.rdns:
        raise SystemRefused("An empty name is nobody's distinguished name.", "Look at where it comes from.")
    return ",".join(_rdn(rdn, types) for rdn in reversed(parsed.rdns))


def without_uid(name: str) -> str:
    """A value of uniqueMember without the optional UID (RFC 4517, 3.3.21)."""
    return _UNIQUE.sub("", name)


def is_below(name: str, base: str) -> bool:
    """Whether a name is below a base; both normalised by ``dn``."""
    return name.endswith("," + base)


def _rdn(rdn: x509.RelativeDistinguishedName, types: list[str]) -> str:
    pairs = []
    for one in rdn:
        kind = types[int(one.oid.dotted_string.removeprefix(_ARC))].lower()
        value = one.value if isinstance(one.value, str) else one.value.decode("utf-8", "surrogateescape")
        pairs.append(f"{_SAME.get(kind, kind)}={_escaped(_prepared(value))}")
    return "+".join(sorted(pairs))


def _prepared(value: str) -> str:
    return " ".join(unicodedata.normalize("NFKC", value).casefold().split())


def _escaped(value: str) -> str:
    text = re.sub(r'([,+"\\<>;])', r"\\\1", value).replace("\0", "\\00")
    return f"\\{text}" if text.startswith("#") else text
