"""Names and meaning of access to a Unix host."""

from __future__ import annotations

from openlatch.adapters.contract import FoundLevel
from openlatch.adapters.unix_host import rules
from openlatch.core.vocabulary import Reach

SHELL = FoundLevel(
    "shell",
    "Shell login",
    "Can do all that the login can.",
    (("shell", "Do everything that the login can do", Reach.OPERATE),),
)
COMMAND = FoundLevel(
    "command",
    "Forced command",
    "Can run one fixed command as the login.",
    (("command", "Run one fixed command as the login", Reach.OPERATE),),
)
NO_SHELL = FoundLevel(
    "no_shell",
    "No shell",
    "Can sign in without a shell, and forward connections or copy files.",
    (("forward", "Sign in without a shell, and forward connections or copy files", Reach.OPERATE),),
)
AUTHORITY = FoundLevel(
    "authority",
    "Certificate authority",
    "Can let in whoever it signs a certificate for.",
    (("sign", "Let in whoever it signs a certificate for", Reach.STEWARD),),
)
MEMBER = FoundLevel(
    "member", "Member", "Has what the group gives.", (("belong", "Have what the group gives", Reach.OPERATE),)
)
LIKE_ROOT = FoundLevel(
    "like_root",
    "Member, equal to root",
    "Has what the group gives, which amounts to the whole host.",
    (("like_root", "Have what the group gives, which amounts to the whole host", Reach.STEWARD),),
)
SOME = FoundLevel(
    rules.SOME,
    "sudo, some commands",
    "Can run some commands as the administrator.",
    (("administer_some", "Run some commands as the administrator", Reach.OPERATE),),
)
AS_OTHERS = FoundLevel(
    rules.AS_OTHERS,
    "sudo as other users",
    "Can run commands as other users, who are not the administrator.",
    (("as_others", "Run commands as other users", Reach.OPERATE),),
)
EVERYTHING = FoundLevel(
    rules.EVERYTHING,
    "sudo, all commands",
    "Can do everything on the host, and let others in.",
    (("administer", "Do everything on the host", Reach.STEWARD),),
)
_SEE = ("see", "See what is in the folder", Reach.OBSERVE)
READ = FoundLevel("read", "Read", "Can see what is in the folder.", (_SEE,))
WRITE = FoundLevel(
    "write",
    "Read and write",
    "Can see and change what is in the folder.",
    (_SEE, ("change", "Change what is in the folder", Reach.OPERATE)),
)
OWNER = FoundLevel(
    "owner",
    "Owner",
    "Can do everything with the folder, and let others in.",
    (_SEE, ("own", "Do everything with the folder, and let others in", Reach.STEWARD)),
)
EVERYONE = FoundLevel(
    "everyone",
    "Everyone",
    "Has what everyone has on the host.",
    (("everyone", "Have what everyone has on the host", Reach.OBSERVE),),
)
LEVELS = (
    SHELL,
    COMMAND,
    NO_SHELL,
    AUTHORITY,
    MEMBER,
    LIKE_ROOT,
    SOME,
    AS_OTHERS,
    EVERYTHING,
    READ,
    WRITE,
    OWNER,
    EVERYONE,
)
BY_KEY = {level.key: level for level in LEVELS}
# Groups whose members can gain control of the whole host, and why.
AMOUNT_TO_ROOT = {
    "root": "its files are the system's own",
    "docker": "a container can be given the whole disk",
    "podman": "a container can be given the whole disk",
    "lxd": "a container can be given the whole disk",
    "incus-admin": "a container can be given the whole disk",
    "libvirt": "a virtual machine can be given the whole disk",
    "disk": "disks can be read and written past all permissions",
    "shadow": "the passwords of all can be read",
    "kmem": "the memory of the system can be read",
    "sudo": "it is let in as the administrator by the usual rules",
    "wheel": "it is let in as the administrator by the usual rules",
    "staff": "programs that the administrator runs can be replaced",
}
