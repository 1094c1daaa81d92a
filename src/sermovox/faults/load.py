"""What people do meanwhile: bring in, make, rename, replace, undo, delete, take back, write tags, back up.

Keeps a ledger of what the application has said "here" to.
"""

import hashlib
import io
import os
import random
import subprocess
import sys
import threading
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
import soundfile

from sermovox.faults.client import Unanswered, Visitor
from sermovox.faults.judge import Rows

OUTLETS = ("volunteer-archive", "podcast-host")


@dataclass
class Ledger:
    """What was acknowledged: the hash of each recording by its key, and those that were let go for good since."""

    here: dict[int, str] = field(default_factory=dict)
    let_go: set[int] = field(default_factory=set)
    done: int = 0


class Load:
    """Several people at work on one production until they are told to stop."""

    def __init__(self, port: int, data: Path, production: int, ledger: Ledger, *, seed: int, people: int):
        self._port, self._data, self._production, self._ledger = port, data, production, ledger
        self._stop, self._count = threading.Event(), 0
        self._backups = data.parent / "backups"
        self._chances = [random.Random(f"{seed}-{at}") for at in range(people)]
        self._people = ThreadPoolExecutor(people)
        self._at_work: list[Future[None]] = []

    def begin(self) -> None:
        self._at_work = [self._people.submit(self._work, chance) for chance in self._chances]

    def end(self) -> None:
        """Send them home. Raises what one of them stumbled over: without them nothing is proven."""
        self._stop.set()
        self._people.shutdown()
        for person in self._at_work:
            person.result()

    def _work(self, chance: random.Random) -> None:
        visitor = Visitor(self._port)
        deeds = [self._bring_in] * 4 + [self._make] * 3 + [self._rename, self._undo, self._delete, self._take_back]
        deeds += [self._write_tags, self._empty, self._back_up, self._watched]
        while not self._stop.is_set():
            try:
                chance.choice(deeds)(visitor, chance)
                self._ledger.done += 1
            except (Unanswered, LookupError, ValueError):
                self._stop.wait(0.1)

    def _rows(self) -> Rows:
        return Rows(self._data)

    def _bring_in(self, visitor: Visitor, chance: random.Random) -> None:
        data = take(chance.getrandbits(32))
        key = visitor.upload(self._production, f"take {chance.getrandbits(20)}.wav", data, chance.choice((1, 1, 2, 3)))
        if key is not None:
            self._ledger.here[key] = hashlib.sha256(data).hexdigest()

    def _watched(self, visitor: Visitor, chance: random.Random) -> None:
        for folder in (self._data.parent / "watched").glob("*"):
            with suppress(OSError):
                (folder / f"dropped {chance.getrandbits(20)}.wav").write_bytes(take(chance.getrandbits(32)))

    def _make(self, visitor: Visitor, chance: random.Random) -> None:
        sections = self._rows().sections_ready()
        chosen = chance.sample(sections, min(3, len(sections)))
        facts = {
            "outlet": chance.choice(OUTLETS),
            "section": chosen,
            "existing": chance.choice(("replace", "keep-both")),
        }
        visitor.post(f"/deliveries/start/{self._production}/", facts | {"again": "yes"})

    def _rename(self, visitor: Visitor, chance: random.Random) -> None:
        delivery, names = chance.choice(self._rows().standing_names())
        new = [f"{chance.getrandbits(30)}{Path(name).suffix}" for name in names]
        if len(names) > 1 and chance.random() < 0.3:
            new = [*names[1:], names[0]]
        table = "\n".join(f"{was},{now}" for was, now in zip(names, new, strict=True))
        visitor.post(f"/deliveries/{delivery}/rename/", {"map": table, "apply": "yes"})
        if chance.random() < 0.3:
            visitor.post(f"/deliveries/{delivery}/rename/undo/")

    def _undo(self, visitor: Visitor, chance: random.Random) -> None:
        visitor.post(f"/productions/{self._production}/change/", {"do": chance.choice(("undo", "redo"))})

    def _delete(self, visitor: Visitor, chance: random.Random) -> None:
        key = chance.choice(self._rows().deletable())
        visitor.post("/recordings/storage/delete/", {"chosen": key, "sure": "yes"})

    def _take_back(self, visitor: Visitor, chance: random.Random) -> None:
        visitor.post("/recordings/storage/bin/take-back/", {"chosen": chance.choice(self._rows().binned())})

    def _empty(self, visitor: Visitor, chance: random.Random) -> None:
        key = chance.choice(self._rows().binned())
        kind, _, number = key.partition("-")
        if kind == "recording":
            self._ledger.let_go.add(int(number))
        visitor.post("/recordings/storage/bin/empty/", {"chosen": key, "sure": "yes"})

    def _write_tags(self, visitor: Visitor, chance: random.Random) -> None:
        delivery, _ = chance.choice(self._rows().standing_names())
        visitor.post(f"/productions/{self._production}/edit/", {"title": "Faults", "author": f"A{chance.random()}"})
        _, page = visitor.get(f"/deliveries/{delivery}/tags/")
        seen = page.partition(b'name="seen" value="')[2].partition(b'"')[0].decode()
        files = [part.partition(b'"')[0].decode() for part in page.split(b'name="file" value="')[1:]]
        visitor.post(f"/deliveries/{delivery}/tags/", {"seen": seen, "file": files})

    def _back_up(self, visitor: Visitor, chance: random.Random) -> None:
        if chance.random() < 0.15:
            command = [sys.executable, "-m", "sermovox.cli", "backup", str(self._backups), "--keep", "2"]
            environment = os.environ | {"SERMOVOX_DATA": str(self._data)}
            subprocess.run(command, env=environment, capture_output=True, timeout=120)


def take(seed: int) -> bytes:
    """A short recording that no other is like."""
    chance = np.random.default_rng(seed)
    sound = io.BytesIO()
    samples = chance.normal(0, 0.05, 11025) * np.repeat(chance.uniform(0.02, 1.0, 25), 441)
    soundfile.write(sound, samples, 11025, format="WAV", subtype="PCM_16")
    return sound.getvalue()
