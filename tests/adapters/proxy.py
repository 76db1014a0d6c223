"""A proxy in front of a system, that stalls, cuts, slows down or spoils what goes through it."""

from __future__ import annotations

import random
import select
import socket
import threading
import time
from contextlib import suppress
from dataclasses import dataclass, field


@dataclass
class Fault:
    """What happens to the answers of a system after so many bytes of them: stall, cut, slow or spoil."""

    how: str
    after: int = 0


@dataclass
class Proxy:
    """Listens on loopback and passes on to a port there. ``fault`` holds for connections that are made from then on."""

    port_behind: int
    fault: Fault | None = None
    listener: socket.socket = field(default_factory=lambda: socket.create_server(("127.0.0.1", 0)))
    ended: threading.Event = field(default_factory=threading.Event)

    def __post_init__(self) -> None:
        self.port = self.listener.getsockname()[1]
        self._threads = [threading.Thread(target=self._listen, daemon=True)]
        self._threads[0].start()

    def stop(self) -> None:
        """End it, with every connection through it."""
        self.ended.set()
        with suppress(OSError):
            self.listener.shutdown(socket.SHUT_RDWR)
        self.listener.close()
        for thread in self._threads:
            thread.join(5)

    def _listen(self) -> None:
        while not self.ended.is_set():
            try:
                near, _ = self.listener.accept()
            except OSError:
                return
            self._threads.append(threading.Thread(target=self._pass_on, args=(near, self.fault), daemon=True))
            self._threads[-1].start()

    def _pass_on(self, near: socket.socket, fault: Fault | None) -> None:
        passed = 0
        with near, socket.create_connection(("127.0.0.1", self.port_behind)) as far, suppress(OSError):
            while not self.ended.is_set():
                ready, _, _ = select.select([near, far], [], [], 0.05)
                for one in ready:
                    data = one.recv(65_536)
                    if not data:
                        return
                    if one is near or fault is None or passed + len(data) <= fault.after:
                        passed += len(data) if one is far else 0
                        (far if one is near else near).sendall(data)
                        continue
                    kept = data[: max(fault.after - passed, 0)]
                    near.sendall(kept)
                    if not self._spoil(fault, near, data[len(kept) :]):
                        return
                    passed += len(data)

    def _spoil(self, fault: Fault, near: socket.socket, rest: bytes) -> bool:
        """What comes of the rest of an answer; gives whether the connection goes on."""
        if fault.how == "stall":
            self.ended.wait()
        elif fault.how == "slow":
            for place in range(len(rest)):
                near.sendall(rest[place : place + 1])
                if self.ended.wait(0.3):
                    return False
            return True
        elif fault.how == "spoil":
            near.sendall(random.Random(fault.after).randbytes(len(rest)))
        return False


def seconds_of(limit: float) -> float:
    """How long something with a limit may take on a machine that is busy with other things."""
    return limit * 4 + 8


def now() -> float:
    """A clock that only goes forward."""
    return time.monotonic()
