"""The program on a remote host: it takes requests from its input, one a line, and answers in lines of JSON.

It is what the key of Open Latch has run there, whatever else that key asks for (sshd(8), ``command="…"``). It needs
Python 3.11 and nothing else. Below which folder it works stands on its command line, not in the request.

A request is ``{"version": 1, "call": …, "settings": {…}, "kind": …, "detail": {…}}``. Lines of an answer are
``{"found": …}``, and at the end ``{"done": …}``, or ``{"refused": …}`` or ``{"down": …}`` with ``remedy``.
"""

from __future__ import annotations

import argparse
import json
import sys
from collections.abc import Callable, Iterator
from typing import TextIO

from openlatch.adapters.unix_host import wire
from openlatch.adapters.unix_host.adapter import HostAdapter
from openlatch.core.vocabulary import StepKind
from openlatch.errors import SystemDown, SystemRefused
from openlatch.json_values import JsonObject

VERSION = 1
LONGEST = 4_000_000
# What a request may set; below which folder, only the command line may.
SETTINGS = ("folders", "time_zone", "sessions")


def answers(root: str, asked: JsonObject) -> Iterator[JsonObject]:
    """The lines of the answer to a request."""
    if asked.get("version") != VERSION:
        yield {"refused": f"The program on the host speaks version {VERSION}.", "remedy": "Install that of Open Latch."}
        return
    told = asked.get("settings", {})
    settings = {"root": root, **{name: told[name] for name in SETTINGS if name in told}}
    try:
        yield from _answered(HostAdapter(settings, ""), asked)
    except SystemRefused as error:
        yield {"refused": error.detail, "remedy": error.remedy}
    except SystemDown as error:
        yield {"down": error.detail, "remedy": error.remedy}


def _answered(host: HostAdapter, asked: JsonObject) -> Iterator[JsonObject]:
    call = asked.get("call")
    if call == "read":
        for thing in host.read():
            yield {"found": wire.written(thing)}
        yield {"done": None}
        return
    if call == "check":
        host.check()
        yield {"done": None}
        return
    calls: dict[str, Callable[[StepKind, JsonObject], str | None]] = {"apply": host.apply, "confirm": host.confirm}
    if call not in calls:
        raise SystemRefused(f"{call!r} is no call.", "Install the program of this version of Open Latch.")
    yield {"done": calls[call](StepKind(asked["kind"]), asked["detail"])}


def run(root: str, given: TextIO, out: TextIO) -> None:
    """Answer one request after the other, until there are no more."""
    while line := given.readline(LONGEST):
        try:
            asked = dict(json.loads(line))
        except (TypeError, ValueError) as error:
            asked = {"call": f"no request ({error})", "version": VERSION}
        for answer in answers(root, asked):
            out.write(json.dumps(answer) + "\n")
        out.flush()


def main() -> None:
    """Answer the requests on standard input."""
    parser = argparse.ArgumentParser(description="Answers Open Latch about this host.")
    parser.add_argument("--root", default="/", help="the folder that the host's files are below (default /)")
    run(parser.parse_args().root, sys.stdin, sys.stdout)


if __name__ == "__main__":
    main()
