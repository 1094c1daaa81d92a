"""However a start is ended, however busy the machine: nothing is left, nothing complained of, and the port is free."""

import contextlib
import os
import pty
import shutil
import signal
import socket
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from unittest import TestCase

from sermovox.tests import kept

_ENDED_WITHIN_S = 40.0
_BUSY = 3


def of_folder(data: Path) -> list[str]:
    """The commands of the processes that live with a data folder."""
    found = []
    for entry in Path("/proc").glob("[0-9]*"):
        with contextlib.suppress(OSError):
            is_zombie = (entry / "stat").read_text().rpartition(")")[2].split()[0] == "Z"
            if not is_zombie and f"SERMOVOX_DATA={data}\0".encode() in (entry / "environ").read_bytes():
                found.append((entry / "cmdline").read_bytes().replace(b"\0", b" ").decode())
    return found


class Ending(TestCase):
    takes_long = True

    def setUp(self):
        self.top = Path(tempfile.mkdtemp(prefix="ending-"))
        self.addCleanup(shutil.rmtree, self.top, ignore_errors=True)
        self.data, self.log = kept.with_a_database(self.top / "data"), self.top / "log"
        with socket.socket() as free:
            free.bind(("127.0.0.1", 0))
            self.port = free.getsockname()[1]
        for _ in range(_BUSY):
            busy = subprocess.Popen([sys.executable, "-c", "while True: pass"])
            self.addCleanup(busy.wait)
            self.addCleanup(busy.kill)

    def started(self, **how) -> subprocess.Popen:
        command = [sys.executable, "-m", "sermovox.cli", "start", "--port", str(self.port), "--workers", "1"]
        return subprocess.Popen(command, env=os.environ | {"SERMOVOX_DATA": str(self.data)}, **how)

    def told(self) -> str:
        return self.log.read_text(errors="replace") if self.log.exists() else ""

    def wait_until(self, is_so, what: str, within_s: float = 90.0) -> None:
        until = time.monotonic() + within_s
        while not is_so():
            self.assertLess(time.monotonic(), until, f"{what}\n{self.told()}\n{of_folder(self.data)}")
            time.sleep(0.1)

    def ended(self, process: subprocess.Popen) -> None:
        process.wait(_ENDED_WITHIN_S)
        # One that still loads what it needs sees only after that that the others are gone.
        self.wait_until(lambda: not of_folder(self.data), "processes are left", _ENDED_WITHIN_S)
        self.assertNotIn("Traceback", self.told())
        socket.create_server(("127.0.0.1", self.port)).close()

    def test_by_what_a_terminal_sends_to_all_of_it(self):
        with self.log.open("w") as log:
            process = self.started(stdout=log, stderr=log, start_new_session=True)
            self.wait_until(lambda: "is ready at" in self.told(), "it did not start")
            os.killpg(process.pid, signal.SIGINT)
            self.ended(process)
            self.assertEqual(process.returncode, 0)

    def test_by_a_time_limit_while_it_still_starts(self):
        with self.log.open("w") as log:
            process = self.started(stdout=log, stderr=log, start_new_session=True)
            time.sleep(1.5)
            os.killpg(process.pid, signal.SIGTERM)
            self.ended(process)

    def test_by_a_terminal_that_is_closed(self):
        ours, theirs = pty.openpty()
        process = self.started(stdin=theirs, stdout=theirs, stderr=theirs, start_new_session=True)
        os.close(theirs)
        read = b""
        while b"is ready at" not in read:
            read += os.read(ours, 4096)
        os.close(ours)
        # What the system tells the leader of a terminal's session.
        process.send_signal(signal.SIGHUP)
        self.ended(process)

    def test_by_a_kill_that_nobody_can_hold_off(self):
        with self.log.open("w") as log:
            process = self.started(stdout=log, stderr=log, start_new_session=True)
            self.wait_until(lambda: "is ready at" in self.told(), "it did not start")
            process.kill()
            self.ended(process)
