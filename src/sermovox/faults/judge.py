"""What must be true after any fault, from the bare rows and the files alone: shares no code with the application."""

import hashlib
import io
import json
import random
import sqlite3
import time
import zipfile
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path

from sermovox.faults.client import Unanswered, Visitor

_BACK_WITHIN_S = 30.0
MADE = "('passes', 'passes with a remark', 'fails')"


class Rows:
    """The database, read beside the application."""

    def __init__(self, data: Path):
        self._path = data / "sermovox.sqlite3"

    def ask(self, question: str) -> list[tuple]:
        with closing(sqlite3.connect(f"file:{self._path}?mode=ro", uri=True, timeout=60)) as database:
            return database.execute(question).fetchall()

    def sections_ready(self) -> list[int]:
        return [key for (key,) in self.ask(
            "SELECT s.id FROM productions_section s JOIN productions_piece p ON p.section_id = s.id AND p.place = 0"
            " JOIN recordings_recording r ON r.id = p.recording_id WHERE NOT s.removed AND r.state = 'ready'"
        )]  # fmt: skip

    def standing_names(self) -> list[tuple[int, list[str]]]:
        found: dict[int, list[str]] = {}
        for delivery, name in self.ask(
            f"SELECT f.delivery_id, f.name FROM deliveries_finishedfile f JOIN deliveries_delivery d"
            f" ON d.id = f.delivery_id WHERE d.deleted_at IS NULL AND f.state IN {MADE} AND f.replaced_at IS NULL"
        ):
            found.setdefault(delivery, []).append(name)
        return list(found.items())

    def deletable(self) -> list[str]:
        recordings = self.ask("SELECT id FROM recordings_recording WHERE state IN ('ready', 'measuring')")
        deliveries = self.ask("SELECT id FROM deliveries_delivery WHERE deleted_at IS NULL")
        return [f"recording-{key}" for (key,) in recordings] + [f"delivery-{key}" for (key,) in deliveries]

    def binned(self) -> list[str]:
        recordings = self.ask("SELECT id FROM recordings_recording WHERE binned_at IS NOT NULL")
        deliveries = self.ask("SELECT id FROM deliveries_delivery WHERE deleted_at IS NOT NULL")
        files = self.ask("SELECT id FROM deliveries_finishedfile WHERE in_bin")
        named = (("recording", recordings), ("delivery", deliveries), ("file", files))
        return [f"{kind}-{key}" for kind, rows in named for (key,) in rows]

    def under_way(self) -> list[str]:
        """What is not done yet and does not wait for something that it names."""
        asked = {
            "task": "SELECT task_path || args_kwargs FROM django_tasks_database_dbtaskresult"
            " WHERE status IN ('READY', 'RUNNING')",
            "file": "SELECT id || state FROM deliveries_finishedfile WHERE state IN ('waiting', 'making')",
            "recording": "SELECT id FROM recordings_recording WHERE state = 'measuring' AND waits_for = ''",
            "upload": "SELECT id FROM recordings_upload WHERE state = 'finishing'"
            " OR state = 'arriving' AND flushed_bytes = size_bytes",
        }
        return [f"{kind} {row[0]}" for kind, question in asked.items() for row in self.ask(question)]


def wait_until_still(data: Path, *, within_s: float) -> list[str]:
    """Wait until nothing is under way any more; what still is when the time is over."""
    until = time.monotonic() + within_s
    left = ["not looked yet"]
    while left and time.monotonic() < until:
        time.sleep(0.1)
        left = Rows(data).under_way()
    return left


def losses(data: Path, here: dict[int, str], let_go: set[int]) -> Iterator[str]:
    """Everything that is not as it must be, on the disk and in the database."""
    rows = Rows(data)
    for (said,) in rows.ask("PRAGMA integrity_check"):
        if said != "ok":
            yield f"database: {said}"
    for broken in rows.ask("PRAGMA foreign_key_check"):
        yield f"database: row without what it points to: {broken}"
    known = {
        key: (state, sha256, binned)
        for key, state, sha256, binned in rows.ask("SELECT id, state, sha256, binned_at FROM recordings_recording")
    }
    for key, sha256 in here.items():
        state, kept, binned = known.get(key, ("no row", "", None))
        if kept != sha256:
            yield f"acknowledged upload {key}: {state}"
        elif state == "refused":
            yield f"acknowledged upload {key} was refused"
        elif (state != "deleted" or binned) and key not in let_go and not _is(_recording(data, sha256), sha256):
            yield f"acknowledged upload {key} ({state}): its bytes are not there"
        elif state == "deleted" and not binned and key not in let_go:
            yield f"acknowledged upload {key}: gone from the bin unasked"
    for key, delivery, stored_as, sha256 in rows.ask(
        f"SELECT id, delivery_id, stored_as, sha256 FROM deliveries_finishedfile"
        f" WHERE state IN {MADE} AND (replaced_at IS NULL OR in_bin)"
    ):
        if not _is(data / "deliveries" / str(delivery) / str(key) / stored_as, sha256):
            yield f"finished file {key} is not whole"


def pages_that_fail(visitor: Visitor, data: Path, production: int, chance: random.Random) -> Iterator[str]:
    """A third of the pages, in turn, each that does not answer as it should, and archives that lack what stands."""
    rows = Rows(data)
    deliveries = [key for (key,) in rows.ask("SELECT id FROM deliveries_delivery WHERE deleted_at IS NULL")][-3:]
    recordings = rows.ask("SELECT id, state FROM recordings_recording WHERE state != 'deleted'")[-4:]
    sections = rows.ask("SELECT id FROM productions_section WHERE NOT removed")[-2:]
    files = rows.ask(
        f"SELECT f.id FROM deliveries_finishedfile f JOIN deliveries_delivery d ON d.id = f.delivery_id"
        f" WHERE f.state IN {MADE} AND d.deleted_at IS NULL"
    )[-2:]
    addresses = ["/", "/deliveries/", "/outlets/", "/recordings/storage/", "/recordings/storage/bin/"]
    addresses += [f"/productions/{production}/{part}" for part in ("", "edit/", "history/", "names/", "sheet/")]
    addresses += [f"/levels/{production}/", f"/recordings/storage/of/{production}/"]
    for key in deliveries:
        addresses += [f"/deliveries/{key}/{part}" for part in ("", "tags/", "manifest.json", "check-sheets.html")]
    for key, state in recordings:
        addresses += [f"/recordings/{key}/", f"/recordings/{key}/audio/", f"/recordings/{key}/waveform/?columns=50"]
        addresses += [f"/cutting/{key}/"] if state == "ready" else []
    addresses += [f"/sections/{key}/" for (key,) in sections] + [f"/levels/sections/{key}/" for (key,) in sections]
    addresses += [f"/deliveries/files/{key}/" for (key,) in files]
    for address in chance.sample(addresses, len(addresses) // 3):
        status = _status(visitor, address)
        if status not in (200, 202, 404) or status == 404 and "/deliveries/files/" not in address:
            yield f"{address} answers {status}"
    for key in deliveries[-1:]:
        status, content = visitor.get(f"/deliveries/{key}/files.zip")
        standing = rows.ask(
            f"SELECT name FROM deliveries_finishedfile WHERE delivery_id = {key} AND state IN {MADE}"
            " AND replaced_at IS NULL"
        )
        if not standing:
            continue
        if status != 200:
            yield f"the archive of delivery {key} answers {status}"
            continue
        archive = zipfile.ZipFile(io.BytesIO(content))
        sums = {row["name"]: row["sha256"] for row in json.loads(archive.read("manifest.json"))["files"]}
        names = {name.rpartition("/")[2]: name for name in archive.namelist()}
        for (name,) in standing:
            if name not in names or hashlib.sha256(archive.read(names[name])).hexdigest() != sums.get(name):
                yield f"the archive of delivery {key} lacks {name}"


def _status(visitor: Visitor, address: str) -> int | str:
    """What an address answers, once the server is there again."""
    until = time.monotonic() + _BACK_WITHIN_S
    while True:
        try:
            return visitor.get(address)[0]
        except Unanswered as error:
            if time.monotonic() > until:
                return str(error)
            time.sleep(0.2)


def _recording(data: Path, sha256: str) -> Path:
    return data / "recordings" / sha256[:2] / sha256


def _is(path: Path, sha256: str) -> bool:
    try:
        return hashlib.sha256(path.read_bytes()).hexdigest() == sha256
    except OSError:
        return False
