"""Sending a hundred files to the stand-ins, against nothing but the libraries."""

import asyncio
import ftplib
import logging
import os
import statistics
import subprocess
import sys
import tempfile
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from functools import partial
from pathlib import Path

import asyncssh

from sermovox.bench.tools import ROUNDS, line, seconds, timed
from sermovox.standins import archive, station
from sermovox.standins.known import ARCHIVE, STATION
from sermovox.standins.mischief import received_in

_FILES, _FILE_BYTES = 100, 5_000_000


def tables() -> None:
    """Print the table of sending; each round sends to a place with nothing in it."""
    logging.basicConfig(level=logging.WARNING)
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        files = [folder / f"file-{number:03}.bin" for number in range(_FILES)]
        for path in files:
            path.write_bytes(os.urandom(_FILE_BYTES))
        for way, served, bare in (("ftp", _station, _by_ftplib), ("sftp", _archive, _by_asyncssh)):
            alone, ours = [], []
            for turn in range(ROUNDS):
                with served(folder / f"{way}-alone-{turn}") as port:
                    alone.append(timed(partial(bare, files, port)))
                with served(folder / f"{way}-{turn}") as port:
                    ours.append(_sent(folder / f"data-{way}-{turn}", files, port, way))
            line(f"{_FILES} files of 5 MB by {way.upper()}, the library alone", seconds(alone), "1", "")
            ratio = statistics.median(a / o for a, o in zip(alone, ours, strict=True))
            line("sent and known to have arrived, times as fast", seconds(ours), f"{ratio:.2f}", "at least 0.8")


@contextmanager
def _station(top: Path) -> Iterator[int]:
    server = station.station(top, 0)
    threading.Thread(target=server.serve_forever, kwargs={"handle_exit": False}, daemon=True).start()
    try:
        yield server.address[1]
        _whole(top)
    finally:
        server.close_all()


@contextmanager
def _archive(top: Path) -> Iterator[int]:
    with archive.InAThread(top) as server:
        yield server.port
    _whole(top)


def _whole(top: Path) -> None:
    sizes = [path.stat().st_size for path in received_in(top).iterdir()]
    if sizes != [_FILE_BYTES] * _FILES:
        raise RuntimeError("not all files are there")


def _by_ftplib(files: list[Path], port: int) -> None:
    with ftplib.FTP() as session:
        session.connect("127.0.0.1", port)
        session.login(STATION.user, STATION.password)
        for path in files:
            with path.open("rb") as file:
                session.storbinary(f"STOR {path.name}", file, 1 << 16)


def _by_asyncssh(files: list[Path], port: int) -> None:
    async def put() -> None:
        who = {"username": ARCHIVE.user, "password": ARCHIVE.password}
        async with (
            asyncssh.connect("127.0.0.1", port, known_hosts=None, client_keys=None, config=None, **who) as connection,
            connection.start_sftp_client() as client,
        ):
            for path in files:
                await client.put(str(path), path.name)

    asyncio.run(put())


def _sent(data: Path, files: list[Path], port: int, way: str) -> float:
    """In a process of its own, with a database of its own, as a worker would."""
    code = f"from sermovox.bench.sending import report; report({[str(path) for path in files]!r}, {port}, {way!r})"
    environment = os.environ | {"SERMOVOX_DATA": str(data), "SERMOVOX_SEND_TO_OWN_NETWORK": "1"}
    environment["DJANGO_SETTINGS_MODULE"] = "sermovox.settings"
    done = subprocess.run([sys.executable, "-c", code], env=environment, check=True, capture_output=True, text=True)
    return float(done.stdout)


def report(paths: list[str], port: int, way: str) -> None:
    """Send these files and print how long it took."""
    import django
    from django.core.management import call_command

    django.setup()
    call_command("migrate", verbosity=0)
    import hashlib

    from django.contrib.auth import get_user_model

    from mastering.outlets.ways import PLAIN
    from sermovox.dispatch.models import Dispatch, Part, Secret
    from sermovox.dispatch.tasks import send_dispatch

    owner = get_user_model().objects.create_user("bench")
    who = STATION if way == "ftp" else ARCHIVE
    Secret.keep(owner, "bench", password=who.password)
    receiving = {"way": way, "address": f"127.0.0.1:{port}", "user": who.user}
    if way == "ftp":
        receiving["security"] = PLAIN
    dispatch = Dispatch.objects.create(owner=owner, outlet_key="bench", receiving=receiving)
    dispatch.folder.parent.mkdir(parents=True)
    dispatch.folder.symlink_to(Path(paths[0]).parent)
    for place, path in enumerate(map(Path, paths)):
        with path.open("rb") as file:
            sha256 = hashlib.file_digest(file, "sha256").hexdigest()
        facts = {"name": path.name, "size_bytes": path.stat().st_size, "sha256": sha256}
        Part.objects.create(dispatch=dispatch, place=place, **facts)
    print(timed(lambda: send_dispatch.func(dispatch.pk)))
    dispatch.refresh_from_db()
    if dispatch.state != Dispatch.State.ARRIVED:
        raise RuntimeError(dispatch.said)
