"""Rounds of sendings to the stand-ins, with planted parts, others under their names, cut lines, kills, and damage to
what has arrived; judged by what lies there: `bin/faults --sending`.
"""

import hashlib
import multiprocessing
import os
import random
import shutil
import socket
import tempfile
import time
from collections import Counter
from contextlib import closing, suppress
from pathlib import Path

_MOST_TRIES = 25
_SIZES = (300_000, 40_000, 1_500_000)
_WAYS = ("ftp", "sftp", "webdav", "objects", "folder")


def main(count: int, seed: int) -> int:
    """Do so many rounds, one way after the other. Returns 1 where something was false, doubled or lost."""
    top = Path(tempfile.mkdtemp(prefix="sendings-"))
    first = _free_ports(4)
    os.environ |= {
        "SERMOVOX_DATA": str(top / "data"),
        "SERMOVOX_STAND_IN_PORT": str(first),
        "SERMOVOX_SEND_TO": str(top),
        "SERMOVOX_SEND_TO_OWN_NETWORK": "1",
        "DJANGO_SETTINGS_MODULE": "sermovox.settings",
    }
    try:
        return _Rounds(top, random.Random(seed)).table(count)
    finally:
        shutil.rmtree(top, ignore_errors=True)


def _free_ports(count: int) -> int:
    """The first of several free ports in a row."""
    while True:
        with closing(socket.socket()) as first:
            first.bind(("127.0.0.1", 0))
            port = first.getsockname()[1]
        with suppress(OSError, OverflowError):
            for each in range(port, port + count):
                with closing(socket.socket()) as probe:
                    probe.bind(("127.0.0.1", each))
            return port


class _Rounds:
    def __init__(self, top: Path, chance: random.Random):
        import django

        django.setup()
        from django.contrib.auth import get_user_model
        from django.core.management import call_command

        from sermovox.standins import archive, share, station, store
        from sermovox.standins.known import ARCHIVE, SHARE, STATION, STORE

        call_command("migrate", verbosity=0)
        self._top, self._chance = top, chance
        self._owner = get_user_model().objects.create_user("sender")
        self._known = {"ftp": STATION, "sftp": ARCHIVE, "webdav": SHARE, "objects": STORE}
        served = {"ftp": station, "sftp": archive, "webdav": share, "objects": store}
        begin = multiprocessing.get_context("spawn").Process
        for way, each in self._known.items():
            begin(target=served[way].serve, args=(each.port, each.top), daemon=True).start()
            _wait_for(each.port)
        self.counts: Counter[tuple[str, str]] = Counter()
        self.wrong: list[str] = []

    def table(self, count: int) -> int:
        for number in range(count):
            way = _WAYS[number % len(_WAYS)]
            self._round(number, way)
        columns = ("rounds", "planted", "cut", "killed", "damaged", "asked", "arrived", "false", "doubled", "lost")
        print(f"| way | {' | '.join(columns)} |\n|{' --- |' * (len(columns) + 1)}")
        for way in _WAYS:
            print(f"| {way} | {' | '.join(str(self.counts[way, column]) for column in columns)} |")
        print("\n".join(self.wrong))
        return 1 if self.wrong else 0

    def _count(self, way: str, what: str, said: str = "") -> None:
        self.counts[way, what] += 1
        if said:
            self.wrong.append(f"{way}: {what}: {said}")

    def _round(self, number: int, way: str) -> None:
        """A dispatch of three files, and whatever happens to it, until it has arrived or somebody is asked."""
        from sermovox.dispatch.models import Dispatch
        from sermovox.standins.mischief import Mischief, mischief_of, received_in

        chance = self._chance
        self._count(way, "rounds")
        files = {f"{place}.mp3": chance.randbytes(size) for place, size in enumerate(_SIZES)}
        received = received_in(self._known[way].top) if way in self._known else self._top / "player"
        there = received / f"round-{number}"
        there.mkdir(parents=True)
        dispatch = self._begun(way, f"round-{number}", files)
        foreign = self._plant(way, there, files)
        if way in self._known and chance.random() < 0.5:
            self._count(way, "cut")
            Mischief(drops=chance.randint(1, 3)).keep(mischief_of(self._known[way].top))
        self._carry(way, dispatch)
        if dispatch.name_taken:
            self._count(way, "asked")
            if any((there / name).read_bytes() != content for name, content in foreign.items()):
                self._count(way, "false", f"round {number}: another's file was changed unasked")
            dispatch.go_on(replacing=True)
            self._carry(way, dispatch)
        self._judge(way, number, dispatch, there, files)
        if chance.random() < 0.4:
            self._count(way, "damaged")
            name = chance.choice(list(files))
            path = there / name
            content = bytearray(path.read_bytes())
            content[chance.randrange(len(content))] ^= 0x10
            path.write_bytes(content)
            again = self._begun(way, f"round-{number}", files)
            self._carry(way, again)
            if again.state == Dispatch.State.ARRIVED and way != "objects":
                # Of an object that was damaged where it lies, a store tells what it kept of it.
                self._judge(way, number, again, there, files)
            elif again.name_taken:
                again.go_on(replacing=True)
                self._carry(way, again)
                self._judge(way, number, again, there, files)
        shutil.rmtree(there, ignore_errors=True)

    def _begun(self, way: str, folder: str, files: dict[str, bytes]):
        from mastering.outlets.receiving import receiving_from
        from mastering.outlets.ways import PLAIN
        from sermovox.dispatch.models import Dispatch, Part, Secret
        from sermovox.standins import share
        from sermovox.standins.known import BUCKET

        known = self._known.get(way)
        stated = {"way": way, "address": known.address if known else str(self._top / "player")}
        stated |= {"user": known.user} if known else {}
        stated |= {"security": PLAIN} if way in ("ftp", "webdav", "objects") else {}
        stated |= {"webdav": {"share": share.PATH}, "objects": {"bucket": BUCKET}}.get(way, {})
        receiving = receiving_from(stated)
        if known:
            Secret.keep(self._owner, way, receiving, password=known.password)
        dispatch = Dispatch.objects.create(owner=self._owner, outlet_key=way, receiving=receiving.table())
        dispatch.folder.mkdir(parents=True)
        for place, (name, content) in enumerate(files.items()):
            (dispatch.folder / name).write_bytes(content)
            sha256 = hashlib.sha256(content).hexdigest()
            Part.objects.create(
                dispatch=dispatch, place=place, name=f"{folder}/{name}", size_bytes=len(content), sha256=sha256
            )
        return dispatch

    def _plant(self, way: str, there: Path, files: dict[str, bytes]) -> dict[str, bytes]:
        """Leave what earlier tries, power cuts and others may have left. Returns what is another's."""
        foreign = {}
        for name, content in files.items():
            half = self._chance.randrange(1, len(content))
            part = there / f"{name}.{hashlib.sha256(content).hexdigest()[:8]}.part"
            match self._chance.randrange(8):
                case 0:
                    part.write_bytes(content[:half])
                case 1:
                    part.write_bytes(content[:half] + bytes(len(content) - half))
                case 2:
                    part.write_bytes(bytes(half))
                case 3:
                    part.write_bytes(content + b"more")
                case 4:
                    foreign[name] = bytes(len(content))
                    (there / name).write_bytes(foreign[name])
                case 5:
                    (there / name).write_bytes(content)
                case _:
                    continue
            self._count(way, "planted")
        return foreign

    def _carry(self, way: str, dispatch) -> None:
        """Send it, killed now and then, as often as the supervisor would try."""
        from django.db import connections

        from sermovox.dispatch.models import Dispatch
        from sermovox.dispatch.recovery import without_worker
        from sermovox.dispatch.tasks import send_dispatch

        for _ in range(_MOST_TRIES):
            Dispatch.objects.filter(pk=dispatch.pk, state=Dispatch.State.WAITING).update(next_at=None, tries=0)
            connections.close_all()
            child = os.fork()
            if not child:
                with suppress(BaseException):
                    send_dispatch.func(dispatch.pk)
                os._exit(0)
            if self._chance.random() < 0.4:
                time.sleep(self._chance.uniform(0, 0.25))
                if not os.waitpid(child, os.WNOHANG)[0]:
                    self._count(way, "killed")
                    os.kill(child, 9)
                    os.waitpid(child, 0)
            else:
                os.waitpid(child, 0)
            without_worker()
            dispatch.refresh_from_db()
            if dispatch.state != Dispatch.State.WAITING:
                return

    def _judge(self, way: str, number: int, dispatch, there: Path, files: dict[str, bytes]) -> None:
        from sermovox.dispatch.models import Dispatch

        if dispatch.state != Dispatch.State.ARRIVED:
            self._count(way, "lost", f"round {number}: {dispatch.state}, {dispatch.said}")
            return
        self._count(way, "arrived")
        found = {path.name: path.read_bytes() for path in there.iterdir()}
        for name, content in files.items():
            if found.pop(name, None) != content:
                self._count(way, "false", f"round {number}: {name} is not what was sent")
        # Nothing goes by the name of a part into a bucket, so that those that were planted there are nobody's business.
        if left := {name for name in found if way != "objects" or not name.endswith(".part")}:
            self._count(way, "doubled", f"round {number}: {', '.join(sorted(left))}")


def _wait_for(port: int) -> None:
    until = time.monotonic() + 30
    while time.monotonic() < until:
        with suppress(OSError), socket.create_connection(("127.0.0.1", port), 1):
            return
        time.sleep(0.1)
    raise RuntimeError(f"Nothing answers at port {port}.")
