"""The webcam host: a folder with those files of a Unix host that decide who has access."""

from __future__ import annotations

import re
import shutil
import struct
import subprocess
from datetime import datetime, timedelta
from pathlib import Path

from openlatch.json_values import JsonObject

FIRST_UID = 60_000
# utmp(5) on Linux: kind 7 is a user who is signed in.
_UTMP = struct.Struct("<hxxi32s4s32s256shhiii4I20x")


def prepare(root: Path, plan: JsonObject, base: datetime) -> None:
    """Write the files of ``plan`` below a root folder. ``{day+N}`` in it is the Nth day after ``base``.

    User and group ids start where no real ones are, so that an entry in a list never matches somebody by chance.
    """
    for name in ("etc/sudoers.d", "run", "home"):
        (root / name).mkdir(parents=True, exist_ok=True)
    users, groups, shadow = [], [], []
    for place, (name, told) in enumerate(plan["users"].items()):
        number = FIRST_UID + place
        users.append(f"{name}:x:{number}:{number}:{told}:/home/{name}:/bin/bash\n")
        shadow.append(f"{name}:$y$made$up:20000:0:99999:7:::\n")
        (root / "home" / name).mkdir(exist_ok=True)
    for place, (name, members) in enumerate(plan["groups"].items()):
        groups.append(f"{name}:x:{FIRST_UID + 500 + place}:{','.join(members)}\n")
    (root / "etc/passwd").write_text("root:x:0:0:root:/root:/bin/bash\n" + "".join(users))
    (root / "etc/group").write_text("root:x:0:\n" + "".join(groups))
    (root / "etc/shadow").write_text("root:*:20000:0:99999:7:::\n" + "".join(shadow))
    (root / "etc/shadow").chmod(0o640)
    for name, lines in plan["keys"].items():
        folder = root / "home" / name / ".ssh"
        folder.mkdir(mode=0o700, exist_ok=True)
        (folder / "authorized_keys").write_text("".join(f"{_dated(line, base)}\n" for line in lines))
    for name in plan.get("unreadable", ()):
        # A folder in place of the key file: the keys can't be read.
        (root / "home" / name / ".ssh/authorized_keys").mkdir(parents=True)
    for name, lines in plan.get("jobs", {}).items():
        (root / "var/spool/cron/crontabs").mkdir(parents=True, exist_ok=True)
        (root / "var/spool/cron/crontabs" / name).write_text("".join(f"{line}\n" for line in lines))
    for name, lines in plan["rules"].items():
        (root / "etc/sudoers.d" / name).write_text("".join(f"{line}\n" for line in lines))
    for folder, entries in plan["folders"].items():
        path = root / folder.lstrip("/")
        path.mkdir(parents=True, exist_ok=True)
        _list(path, entries, list(plan["users"]), list(plan["groups"]))
    (root / "made").touch()


def _dated(line: str, base: datetime) -> str:
    return re.sub(r"\{day\+(\d+)\}", lambda m: f"{base + timedelta(days=int(m[1])):%Y%m%d}", line)


def _list(path: Path, entries: dict[str, str], users: list[str], groups: list[str]) -> None:
    if shutil.which("setfacl") is None:
        return
    for who, rights in entries.items():
        if who.startswith("%"):
            entry = f"g:{FIRST_UID + 500 + groups.index(who[1:])}:{rights}"
        else:
            entry = f"u:{FIRST_UID + users.index(who)}:{rights}"
        subprocess.run(["setfacl", "-m", entry, "-m", f"d:{entry}", str(path)], check=True)  # noqa: S607  Debian's


def sign_in(root: Path, process: int, user: str, line: str, origin: str, since: datetime) -> None:
    """Record somebody as signed in with a running process."""
    names = (line.encode(), b"", user.encode(), origin.encode())
    seconds = int(since.timestamp())
    with (root / "run/utmp").open("ab") as file:
        file.write(_UTMP.pack(7, process, *names, 0, 0, 0, seconds, since.microsecond, 0, 0, 0, 0))


def usual(root: Path, plan: JsonObject) -> JsonObject:
    """The settings by which Open Latch connects to it."""
    return {"root": str(root), "folders": ",".join(plan["folders"]), "time_zone": "UTC"}
