"""Access control lists of WebDAV (RFC 3744): their entries and privileges, read from XML and written as XML."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from xml.etree.ElementTree import Element, SubElement, tostring

from defusedxml import DefusedXmlException
from defusedxml.ElementTree import ParseError, fromstring

from openlatch.adapters.contract import FoundLevel
from openlatch.core.exposure.rules import Right
from openlatch.core.vocabulary import Reach
from openlatch.errors import SystemRefused

DAV = "{DAV:}"
CALDAV = "{urn:ietf:params:xml:ns:caldav}"

ALL, AUTHENTICATED, UNAUTHENTICATED, SELF = "all", "authenticated", "unauthenticated", "self"
OPEN = (ALL, AUTHENTICATED, UNAUTHENTICATED)

# The privileges of RFC 3744, section 3, and RFC 4791 and 6638, section 6.1: what each lets somebody do.
PRIVILEGES: Mapping[str, tuple[str, Reach, Right]] = {
    "read": ("Read what is in it", Reach.OBSERVE, Right.SEE),
    "read-free-busy": ("See which times are taken", Reach.OBSERVE, Right.SEE),
    "read-acl": ("See who gets in", Reach.OBSERVE, Right.SEE),
    "read-current-user-privilege-set": ("See what one may do oneself", Reach.OBSERVE, Right.SEE),
    "write": ("Change everything in it", Reach.OPERATE, Right.CHANGE),
    "write-content": ("Change entries", Reach.OPERATE, Right.CHANGE),
    "write-properties": ("Change its name and properties", Reach.OPERATE, Right.CHANGE),
    "bind": ("Add entries", Reach.OPERATE, Right.CHANGE),
    "unbind": ("Remove entries", Reach.OPERATE, Right.CHANGE),
    "unlock": ("Take other people's locks away", Reach.OPERATE, Right.CHANGE),
    "schedule-deliver": ("Deliver invitations and answers", Reach.OPERATE, Right.CHANGE),
    "schedule-deliver-invite": ("Deliver invitations", Reach.OPERATE, Right.CHANGE),
    "schedule-deliver-reply": ("Deliver answers to invitations", Reach.OPERATE, Right.CHANGE),
    "schedule-query-freebusy": ("Ask which times are taken", Reach.OBSERVE, Right.SEE),
    "schedule-send": ("Send invitations and answers in its name", Reach.OPERATE, Right.CHANGE),
    "schedule-send-invite": ("Send invitations in its name", Reach.OPERATE, Right.CHANGE),
    "schedule-send-reply": ("Answer invitations in its name", Reach.OPERATE, Right.CHANGE),
    "schedule-send-freebusy": ("Ask in its name which times are taken", Reach.OPERATE, Right.CHANGE),
    "share": ("Share it with others", Reach.STEWARD, Right.ADMINISTER),
    "write-acl": ("Decide who gets in", Reach.STEWARD, Right.ADMINISTER),
    "all": ("Do everything", Reach.STEWARD, Right.ADMINISTER),
}
# Privileges that contain others, by the standards; a server may have more of them.
_CONTAINED: Mapping[str, tuple[str, ...]] = {
    "read": ("read-current-user-privilege-set", "read-free-busy"),
    "write": ("write-content", "write-properties", "bind", "unbind"),
    "schedule-deliver": ("schedule-deliver-invite", "schedule-deliver-reply", "schedule-query-freebusy"),
    "schedule-send": ("schedule-send-invite", "schedule-send-reply", "schedule-send-freebusy"),
    "all": tuple(name for name in PRIVILEGES if name != "all"),
}
_NAMED = {
    "read": "Read",
    "read-free-busy": "Read free-busy",
    "read write": "Read and write",
    "write": "Write",
    "all": "All privileges",
}


@dataclass(frozen=True, slots=True)
class Entry:
    """One entry of a list: whom it is about, and what it grants or denies.

    ``who`` is ``all``, ``authenticated``, ``unauthenticated``, the path of a principal, or empty if it is not
    understood; then ``said`` has its text. ``own``: the entry belongs to the list itself, and a client may change it.
    """

    who: str
    privileges: frozenset[str]
    grants: bool = True
    own: bool = True
    inverted: bool = False
    said: str = ""


class Containment:
    """Which privileges contain which, by the standards and by the server."""

    def __init__(self, told: Mapping[str, Iterable[str]]) -> None:
        self._told = {name: frozenset(within) for name, within in told.items()}

    @classmethod
    def of(cls, tree: Element | None) -> Containment:
        """From a server's ``supported-privilege-set``, or None where it has none."""
        told: dict[str, set[str]] = {}

        def walk(node: Element) -> set[str]:
            name = _privilege(node.find(f"{DAV}privilege"))
            within = set[str]().union(*(walk(child) for child in node.findall(f"{DAV}supported-privilege")))
            told.setdefault(name, set()).update(within)
            return {name, *within}

        for node in tree.findall(f"{DAV}supported-privilege") if tree is not None else ():
            walk(node)
        return cls(told)

    def known(self, privileges: Iterable[str]) -> frozenset[str]:
        """All privileges of the standards that these contain."""
        found, waiting = set[str](), list(privileges)
        while waiting:
            name = waiting.pop()
            if name not in found:
                found.add(name)
                waiting += [*_CONTAINED.get(name, ()), *self._told.get(name, ())]
        return frozenset(found & PRIVILEGES.keys())

    def unknown(self, privileges: Iterable[str]) -> list[str]:
        """The server's own privileges that contain none of the standards."""
        return sorted(name for name in privileges if name not in PRIVILEGES and not self.known([name]))


def parsed(body: bytes, what: str) -> Element:
    """The root of an XML document. SystemRefused if it is invalid or unsafe."""
    try:
        root: Element = fromstring(body)
    except (ParseError, DefusedXmlException, ValueError) as error:
        raise SystemRefused(
            f"The answer to {what} is not understood: {error}", "Look whether this is a WebDAV server."
        ) from error
    return root


def entries(tree: Element, ourselves: str, owner: str) -> list[Entry]:
    """The entries of an ``acl`` property, in order. ``ourselves`` is whom the server calls ``self``."""
    return [entry for ace in tree.findall(f"{DAV}ace") for entry in _entries(ace, ourselves, owner)]


def _entries(ace: Element, ourselves: str, owner: str) -> Iterator[Entry]:
    inverted = ace.find(f"{DAV}invert/{DAV}principal")
    principal = ace.find(f"{DAV}principal") if inverted is None else inverted
    who, said = _who(principal, ourselves, owner)
    if inverted is not None and who in OPEN:
        who, said = "", f"everyone but {who}"
    own = ace.find(f"{DAV}inherited") is None and ace.find(f"{DAV}protected") is None
    for effect in ("grant", "deny"):
        for part in ace.findall(f"{DAV}{effect}"):
            names = frozenset(_privilege(one) for one in part.findall(f"{DAV}privilege"))
            yield Entry(who, names, effect == "grant", own, inverted is not None, said)


def _who(principal: Element | None, ourselves: str, owner: str) -> tuple[str, str]:
    """Whom an entry is about, and its text if that is not understood."""
    kinds = list(principal) if principal is not None else []
    if len(kinds) != 1:
        return "", "nobody"
    kind = kinds[0]
    name = kind.tag.removeprefix(DAV)
    if name == "href":
        return (kind.text or "").strip(), ""
    if name in OPEN:
        return name, ""
    if name == SELF and ourselves:
        return ourselves, ""
    if name == "property" and owner and [one.tag for one in kind] == [f"{DAV}owner"]:
        return owner, ""
    return "", f"{name} {' '.join(one.tag for one in kind)}".strip()


def _privilege(node: Element | None) -> str:
    """A privilege's name; those of the standards without their namespace."""
    tag = node[0].tag if node is not None and len(node) else ""
    plain = tag.removeprefix(DAV).removeprefix(CALDAV)
    return plain if plain in PRIVILEGES else tag


def _element(name: str) -> str:
    """The XML name of a privilege."""
    if name.startswith("{"):
        return name
    return (CALDAV if name.startswith(("read-free-busy", "schedule-")) else DAV) + name


def written(kept: Iterable[Entry], ourselves: str) -> bytes:
    """The body of an ACL request that sets a list's own entries."""
    root = Element(f"{DAV}acl")
    for entry in kept:
        ace = SubElement(root, f"{DAV}ace")
        above = SubElement(ace, f"{DAV}invert") if entry.inverted else ace
        principal = SubElement(above, f"{DAV}principal")
        if entry.who in OPEN:
            SubElement(principal, DAV + entry.who)
        elif entry.who == ourselves:
            SubElement(principal, f"{DAV}{SELF}")
        else:
            SubElement(principal, f"{DAV}href").text = entry.who
        effect = SubElement(ace, f"{DAV}grant" if entry.grants else f"{DAV}deny")
        for name in sorted(entry.privileges):
            SubElement(SubElement(effect, f"{DAV}privilege"), _element(name))
    return bytes(tostring(root, encoding="utf-8", xml_declaration=True))


def key(privileges: Iterable[str]) -> str:
    """A set of privileges as the key of a level: without those that others contain."""
    names = set(privileges)
    within = {inner for name in names for inner in _CONTAINED.get(name, ())}
    return " ".join(sorted(names - within))


def level(key_: str, containment: Containment) -> FoundLevel:
    """A set of privileges as a level, with a permission for each that the standards have."""
    names = sorted(containment.known(key_.split()), key=list(PRIVILEGES).index)
    permissions = tuple((f"dav-{name}", *PRIVILEGES[name][:2]) for name in names)
    if containment.unknown(key_.split()) or not permissions:
        permissions = (*permissions, ("dav-other", "Do what only the server knows", Reach.STEWARD))
    shown = [PRIVILEGES[one][0] if one in PRIVILEGES else one.rpartition("}")[2] for one in key_.split()]
    sentence = "Can " + ", ".join(text[0].lower() + text[1:] for text in shown) + "."
    plain = " ".join(one.rpartition("}")[2] for one in key_.split())
    return FoundLevel(key_, _NAMED.get(key_, f"Privileges {plain}"), sentence, permissions)
