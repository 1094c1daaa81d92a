"""Power cuts: what is written and flushed is recorded with strace; at many points all that was not flushed is dropped.

A disk promises little: what a file holds once that file was flushed, what a folder says of its files once the folder
was flushed, and nothing else. At each point the folder is put together from that alone, with none, some or all of what
was on its way (some of it being the worst, as writes come in no order). Then every upload and file that had been
acknowledged by then has to be there.
"""

import hashlib
import json
import os
import random
import re
import shutil
import sqlite3
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Iterator
from contextlib import closing
from dataclasses import dataclass, field
from pathlib import Path

from mastering.certain import certain

_CALLS = (
    "open,openat,creat,close,dup,dup2,dup3,read,pread64,write,pwrite64,writev,lseek,ftruncate,fsync,fdatasync,rename,"
    "renameat,renameat2,link,linkat,unlink,unlinkat,mkdir,mkdirat,rmdir,copy_file_range,sendfile"
)
_LINE = re.compile(r"^(\d+) +(.*)$")
_ACKNOWLEDGED = b"acknowledged "
_AT = r'(?:AT_FDCWD(?:<[^>]*>)?, )?"([^"]*)"'


def main(count: int, seed: int) -> int:
    """Record a scenario once, and cut the power at so many points of it. Prints a table."""
    if shutil.which("strace") is None:
        print("strace is not installed here, so that no power cut can be shown. Install it from the system's packages.")
        return 2
    tallied, lost = cut_at(count, seed)
    print("| power cut at | points | acknowledged by then | lost |\n| --- | --- | --- | --- |")
    for name, (points, acknowledged) in tallied.items():
        print(f"| {name} | {points} | {acknowledged} | {sum(each == name for each, _ in lost)} |")
    for name, said in lost:
        print(f"{name}: {said}")
    return 1 if lost else 0


def cut_at(
    count: int, seed: int, *, turns: int = 4, database: Path | None = None
) -> tuple[dict[str, tuple[int, int]], list[tuple[str, str]]]:
    """For each way of dropping what was not flushed: how many points, how much was acknowledged; and what was lost.
    `database` is one that is made already and empty.
    """
    chance = random.Random(seed)
    lost: list[tuple[str, str]] = []
    tallied: dict[str, tuple[int, int]] = {}
    with tempfile.TemporaryDirectory(prefix="powercut-") as kept:
        folder = Path(kept)
        disk = recorded(folder, turns, database)
        after = [at for at, _ in disk.acknowledged]
        # Just after something was acknowledged is where a promise may break; the others lie anywhere.
        points = [chance.choice(after) + 1 if at % 2 else chance.randrange(disk.length + 1) for at in range(count)]
        for number, point in enumerate(points):
            name, keep = (("none of it kept", 0.0), ("half of it kept", 0.5), ("all of it kept", 1.0))[number % 3]
            left = folder / "left"
            disk.after_cut(point, left, keep, chance)
            acknowledged = [said for at, said in disk.acknowledged if at < point]
            ever = {(kind, *each) for _, said in disk.acknowledged for kind, each in said.items()}
            lost += [(name, f"point {point}: {said}") for said in _missing(left, acknowledged, ever)]
            points_so_far, so_far = tallied.get(name, (0, 0))
            tallied[name] = (points_so_far + 1, so_far + len(acknowledged))
            shutil.rmtree(left)
    return tallied, lost


@dataclass
class Inode:
    """A file: how it was at the beginning, what was written since, and when it was flushed."""

    base: bytes = b""
    changes: list[tuple[int, int, bytes | None]] = field(default_factory=list)
    flushed: list[int] = field(default_factory=list)

    def at(self, point: int, keep: float, chance: random.Random) -> bytes:
        """What it holds after a cut. A change is (when, where, what), or (when, length, None) for a new length."""
        flushed = max((at for at in self.flushed if at < point), default=-1)
        content = bytearray(self.base)
        for when, where, what in self.changes:
            if when >= point or when > flushed and chance.random() >= keep:
                continue
            if what is None:
                content = content[:where].ljust(where, b"\0")
            else:
                content = content.ljust(where, b"\0")
                content[where : where + len(what)] = what
        return bytes(content)


class Disk:
    """All that was done to the files below a folder, in order."""

    def __init__(self, top: Path):
        self._top = str(top)
        self.length = 0
        self.acknowledged: list[tuple[int, dict]] = []
        self._names: dict[str, Inode | None] = {}
        """What each path is now; None for a folder."""
        self._base: dict[str, Inode | None] = {}
        self._entries: dict[str, list[tuple[int, str, Inode | None, bool]]] = {}
        """For each folder, what became of its names: (when, path, what it is, whether it is there)."""
        self._flushed: dict[str, list[int]] = {}
        self._positions: dict[tuple[str, int], int] = {}
        self._open: dict[tuple[str, int], Inode] = {}
        for path in sorted(top.rglob("*")):
            self._names[str(path)] = None if path.is_dir() else Inode(path.read_bytes())
        self._names[self._top] = None
        self._base = dict(self._names)

    def after_cut(self, point: int, target: Path, keep: float, chance: random.Random) -> None:
        """Put together what is left after a cut."""
        names = dict(self._base)
        for folder, changes in self._entries.items():
            flushed = max((at for at in self._flushed.get(folder, ()) if at < point), default=-1)
            pending = [change for change in changes if flushed < change[0] < point]
            kept = pending[: round(len(pending) * (keep if keep in (0.0, 1.0) else chance.random()))]
            for _, path, what, is_there in [*(c for c in changes if c[0] <= flushed), *kept]:
                if is_there:
                    names[path] = what
                else:
                    names.pop(path, None)
        target.mkdir()
        for path in sorted(names):
            place = target / os.path.relpath(path, self._top)
            if not place.parent.is_dir():
                continue  # The folder it was in did not stay.
            if (inode := names[path]) is None:
                place.mkdir(exist_ok=True)
            else:
                place.write_bytes(inode.at(point, keep, chance))

    def read(self, trace: Path) -> None:
        """Follow what strace recorded."""
        begun: dict[str, str] = {}
        for line in trace.read_text("latin-1").splitlines():
            found = _LINE.match(line)
            if not found:
                continue
            task, call = found.groups()
            if call.endswith("<unfinished ...>"):
                begun[task] = call.removesuffix("<unfinished ...>")
                if begun[task].startswith("close("):
                    # Its number is free from here on, and may be another file's before the call is over.
                    self._close(begun.pop(task).removeprefix("close("), 0)
                continue
            if resumed := re.match(r"<\.\.\. \w+ resumed>(.*)", call):
                call = begun.pop(task, "") + resumed[1]
            if done := re.match(r"(\w+)\((.*)\)\s+= (-?\d+)(?:<.*>)?(?: .*)?$", call):
                name, arguments, result = done[1], done[2], int(done[3])
                if result >= 0:
                    self.length += 1
                    getattr(self, f"_{name}", lambda *_: None)(arguments, result)

    # Each of these follows one call of the system; `done` is what it returned.

    def _openat(self, said: str, done: int) -> None:
        path, flags = _quoted(said), said.rpartition('"')[2]
        path = self._absolute(said, path)
        if not self._is_below(path):
            self._open.pop(("", done), None)
            return
        inode = self._names.get(path)
        if inode is None and path not in self._names and "O_CREAT" in flags:
            inode = Inode()
            self._named(path, inode, is_there=True)
        if inode is None:
            return
        if "O_TRUNC" in flags:
            inode.changes.append((self.length, 0, None))
        self._open["", done] = inode
        self._positions["", done] = -1 if "O_APPEND" in flags else 0

    _open_, _creat = _openat, _openat

    def _close(self, said: str, done: int) -> None:
        self._open.pop(("", _descriptor(said)), None)

    def _dup(self, said: str, done: int) -> None:
        if inode := self._open.get(("", _descriptor(said))):
            self._open["", done], self._positions["", done] = inode, self._positions["", _descriptor(said)]

    _dup2, _dup3 = _dup, _dup

    def _lseek(self, said: str, done: int) -> None:
        if ("", _descriptor(said)) in self._open and self._positions["", _descriptor(said)] >= 0:
            self._positions["", _descriptor(said)] = done

    def _read(self, said: str, done: int) -> None:
        key = ("", _descriptor(said))
        if key in self._open and self._positions[key] >= 0:
            self._positions[key] += done

    def _write(self, said: str, done: int) -> None:
        key, data = ("", _descriptor(said)), _data(said)[:done]
        if data.startswith(_ACKNOWLEDGED):
            for line in data.splitlines():
                self.acknowledged.append((self.length, json.loads(line.removeprefix(_ACKNOWLEDGED))))
        if inode := self._open.get(key):
            at = self._positions[key]
            if at < 0:
                self._append(inode, data)
            else:
                inode.changes.append((self.length, at, data))
                self._positions[key] = at + done

    def _append(self, inode: Inode, data: bytes) -> None:
        at = len(inode.at(self.length + 1, 1.0, random.Random(0)))
        inode.changes.append((self.length, at, data))

    def _writev(self, said: str, done: int) -> None:
        whole = b"".join(_unescaped(part).encode("latin-1") for part in re.findall(r'iov_base="([^"]*)"', said))
        if inode := self._open.get(("", _descriptor(said))):
            at = self._positions["", _descriptor(said)]
            inode.changes.append((self.length, at, whole[:done]))
            self._positions["", _descriptor(said)] = at + done

    def _pwrite64(self, said: str, done: int) -> None:
        if inode := self._open.get(("", _descriptor(said))):
            at = int(said.rpartition(", ")[2])
            inode.changes.append((self.length, at, _data(said)[:done]))

    def _copied(self, said: str, done: int) -> None:
        raise NotImplementedError(f"This is copied inside the system, which is not followed: {said[:200]}")

    def _copy_file_range(self, said: str, done: int) -> None:
        if done:
            self._copied(said, done)

    def _sendfile(self, said: str, done: int) -> None:
        out, source = (_descriptor(part) for part in said.split(", ")[:2])
        inode, own = self._open.get(("", out)), self._open.get(("", source))
        if inode and own and done:
            begin = self._positions["", source]
            data = own.at(self.length + 1, 1.0, random.Random(0))[begin : begin + done]
            inode.changes.append((self.length, self._positions["", out], data))
            for key in (("", out), ("", source)):
                self._positions[key] += done

    def _ftruncate(self, said: str, done: int) -> None:
        if inode := self._open.get(("", _descriptor(said))):
            inode.changes.append((self.length, int(said.rpartition(", ")[2]), None))

    def _fsync(self, said: str, done: int) -> None:
        path = _unescaped(certain(re.search(r"<([^>]*)>", said))[1])
        if path in self._names and self._names[path] is None:
            self._flushed.setdefault(path, []).append(self.length)
        elif inode := self._open.get(("", _descriptor(said))):
            inode.flushed.append(self.length)

    _fdatasync = _fsync

    def _rename(self, said: str, done: int) -> None:
        old, new = (self._absolute(said, _unescaped(path)) for path in re.findall(r'"([^"]*)"', said)[:2])
        if self._is_below(old):
            inode = self._names[old]
            self._named(old, inode, is_there=False)
            self._named(new, inode, is_there=True)

    _renameat, _renameat2 = _rename, _rename

    def _link(self, said: str, done: int) -> None:
        old, new = (self._absolute(said, _unescaped(path)) for path in re.findall(r'"([^"]*)"', said)[:2])
        if self._is_below(new):
            self._named(new, self._names[old], is_there=True)

    _linkat = _link

    def _unlink(self, said: str, done: int) -> None:
        path = self._absolute(said, _quoted(said))
        if self._is_below(path) and path in self._names:
            self._named(path, self._names[path], is_there=False)

    _unlinkat, _rmdir = _unlink, _unlink

    def _mkdir(self, said: str, done: int) -> None:
        path = self._absolute(said, _quoted(said))
        if self._is_below(path):
            self._named(path, None, is_there=True)

    _mkdirat = _mkdir

    def _named(self, path: str, what: Inode | None, *, is_there: bool) -> None:
        self._entries.setdefault(os.path.dirname(path), []).append((self.length, path, what, is_there))
        if is_there:
            self._names[path] = what
        else:
            del self._names[path]

    def _absolute(self, said: str, path: str) -> str:
        if path.startswith("/"):
            return path
        within = re.match(r"(?:AT_FDCWD|\d+)<([^>]*)>", said)
        return os.path.join(_unescaped(within[1]), path) if within else path

    def _is_below(self, path: str) -> bool:
        return path.startswith(self._top + "/")


def _descriptor(said: str) -> int:
    return int(certain(re.match(r"\d+", said))[0])


def _quoted(said: str) -> str:
    return _unescaped(certain(re.search(r'"([^"]*)"', said))[1])


def _data(said: str) -> bytes:
    found = re.search(r'"([^"]*)"', said)
    return _unescaped(found[1]).encode("latin-1") if found else b""


def _unescaped(text: str) -> str:
    return bytes.fromhex(text.replace("\\x", "")).decode("latin-1") if text.startswith("\\x") else text


def recorded(folder: Path, turns: int, database: Path | None) -> Disk:
    """Run the scenario, so many times over, under strace, on a folder that is as it is after a first start."""
    data = folder / "data"
    data.mkdir()
    if database:
        shutil.copy(database, data)
    environment = os.environ | {"SERMOVOX_DATA": str(data), "DJANGO_SETTINGS_MODULE": "sermovox.settings"}
    command = [sys.executable, "-m", "sermovox.faults.scenario"]
    subprocess.run([*command, "prepare"], env=environment, check=True)
    process = subprocess.Popen([*command, str(turns)], env=environment, stdin=subprocess.PIPE, stdout=subprocess.PIPE)
    given, told = certain(process.stdin), certain(process.stdout)
    told.readline()
    disk, trace = Disk(data), folder / "trace"
    tracing = ["strace", "-f", "-y", "-xx", "-s", "4000000", "-e", f"trace={_CALLS}", "-o", str(trace)]
    tracer = subprocess.Popen([*tracing, "-p", str(process.pid)], stderr=subprocess.PIPE)
    tracing_said = certain(tracer.stderr)
    tracing_said.readline()
    threading.Thread(target=tracing_said.read, daemon=True).start()
    time.sleep(0.2)
    given.write(b"go\n")
    given.close()
    told.read()
    if process.wait(600):
        raise RuntimeError("The scenario failed.")
    tracer.wait(60)
    disk.read(trace)
    return disk


def _missing(data: Path, acknowledged: list[dict], ever: set[tuple[str, int, str]]) -> Iterator[str]:
    """What had been acknowledged and is not there, and what says that it is there and is not whole.

    What became of it just before it was acknowledged may be there already: `ever` is all that ever was.
    """
    if not (data / "sermovox.sqlite3").exists():
        yield "the database is gone"
        return
    with closing(sqlite3.connect(data / "sermovox.sqlite3")) as rows:
        if (said := rows.execute("PRAGMA integrity_check").fetchone()[0]) != "ok":
            yield f"database: {said}"
            return
        recordings = dict(rows.execute("SELECT sha256, state FROM recordings_recording"))
        files = rows.execute(
            "SELECT id, delivery_id, stored_as, sha256, name, state FROM deliveries_finishedfile"
        ).fetchall()
    for sha256, state in recordings.items():
        if state in ("measuring", "ready") and not _is(data / "recordings" / sha256[:2] / sha256, sha256):
            yield f"recording {sha256[:8]} ({state}) is not whole"
    made = {}
    for key, delivery, stored_as, sha256, name, state in files:
        if state in ("passes", "passes with a remark", "fails"):
            made[key] = (sha256, name)
            if not _is(data / "deliveries" / str(delivery) / str(key) / stored_as, sha256):
                yield f"finished file {key} is not whole"
    said_last = {(kind, key): value for each in acknowledged for kind, (key, value) in each.items()}
    for (kind, key), value in said_last.items():
        if kind == "here" and recordings.get(value) not in ("measuring", "ready", "deleted"):
            yield f"acknowledged upload {value[:8]}: {recordings.get(value, 'no row')}"
        if kind == "sha256" and (key not in made or ("sha256", key, made[key][0]) not in ever):
            yield f"acknowledged file {key} is not the one that was made"
        if kind == "name" and (key not in made or made[key][1] != value):
            yield f"acknowledged name {value} of file {key} is not kept"


def _is(path: Path, sha256: str) -> bool:
    try:
        return hashlib.sha256(path.read_bytes()).hexdigest() == sha256
    except OSError:
        return False
