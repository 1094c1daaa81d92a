"""Sending to the stand-ins, against nothing but the libraries; each sender is a process of its own, as a worker is."""

import asyncio
import base64
import ftplib
import http.client
import json
import logging
import os
import statistics
import subprocess
import sys
import tempfile
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from functools import partial
from pathlib import Path

import asyncssh

from sermovox.bench.tools import ROUNDS, line, seconds, timed
from sermovox.standins import archive, share, station, store
from sermovox.standins.known import ARCHIVE, BUCKET, SHARE, STATION, STORE, StandIn
from sermovox.standins.mischief import received_in

_FILES, _FILE_BYTES = 100, 5_000_000
_SMALL_FILES, _SMALL_BYTES = 1000, 1000
_LARGE_BYTES = {"ftp": 2_000_000_000, "sftp": 2_000_000_000, "webdav": 2_000_000_000, "objects": 500_000_000}
"""Of object storage less, as its stand-in keeps all of it in memory."""
_WAYS = {"ftp": STATION, "sftp": ARCHIVE, "webdav": SHARE, "objects": STORE}
_TITLES = {"ftp": "FTP", "sftp": "SFTP", "webdav": "WebDAV", "objects": "object storage"}


def tables() -> None:
    """Print the table of sending; each round sends to a place with nothing in it."""
    logging.basicConfig(level=logging.WARNING)
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        files = _written(folder / "files", _FILES, _FILE_BYTES)
        small = _written(folder / "small", _SMALL_FILES, _SMALL_BYTES)
        for way in _WAYS:
            alone, ours = [], []
            for turn in range(ROUNDS):
                with _served(way, folder / f"{way}-alone-{turn}", files) as port:
                    alone.append(_in_a_process("alone", folder, files, port, way)["seconds"])
                with _served(way, folder / f"{way}-{turn}", files) as port:
                    ours.append(_in_a_process("sent", folder / f"data-{way}-{turn}", files, port, way)["seconds"])
            line(f"{_FILES} files of 5 MB by {_TITLES[way]}, the library alone", seconds(alone), "1", "")
            ratio = statistics.median(a / o for a, o in zip(alone, ours, strict=True))
            line("sent and known to have arrived, times as fast", seconds(ours), f"{ratio:.2f}", "at least 0.8")
            with _served(way, folder / f"{way}-small", small) as port:
                found = _in_a_process("sent", folder / f"data-{way}-small", small, port, way)
            line(f"{_SMALL_FILES} files that are there, looked for and compared", f"{found['again']:.1f} s", "", "3 s")
            memory = []
            for size_bytes in (_FILE_BYTES, _LARGE_BYTES[way]):
                one = _written(folder / f"{way}-{size_bytes}", 1, size_bytes)
                with _served(way, folder / f"{way}-one-{size_bytes}", one) as port:
                    told = _in_a_process("sent", folder / f"data-{way}-one-{size_bytes}", one, port, way)
                memory.append(told["memory_mb"])
                one[0].unlink()
            words = " and ".join(f"{each:.0f}" for each in memory)
            line(f"memory for 5 MB and for {_LARGE_BYTES[way] / 1e6:.0f} MB", f"{words} MB", "", "flat")


def _written(folder: Path, count: int, size_bytes: int) -> list[Path]:
    folder.mkdir(parents=True)
    files = [folder / f"file-{number:04}.bin" for number in range(count)]
    for path in files:
        with path.open("wb") as file:
            file.write(os.urandom(min(size_bytes, _FILE_BYTES)))
            file.truncate(size_bytes)
    return files


@contextmanager
def _served(way: str, top: Path, files: list[Path]) -> Iterator[int]:
    """A stand-in for as long as it is wanted; yields its port, and looks whether all has come."""
    if way == "ftp":
        server = station.station(top, 0)
        thread = threading.Thread(target=server.serve_forever, kwargs={"handle_exit": False}, daemon=True)
        thread.start()
        try:
            yield server.address[1]
        finally:
            server.close_all()
            thread.join(5)
    else:
        serving: dict[str, Callable] = {
            "sftp": archive.InAThread,
            "webdav": share.InAThread,
            "objects": store.InAThread,
        }
        with serving[way](top) as running:
            yield running.port
    sizes = {path.name: path.stat().st_size for path in received_in(top).iterdir()}
    if sizes != {path.name: path.stat().st_size for path in files}:
        raise RuntimeError("not all files are there")
    for path in received_in(top).iterdir():
        path.unlink()


def _in_a_process(what: str, data: Path, files: list[Path], port: int, way: str) -> dict[str, float]:
    code = f"from sermovox.bench import sending; sending.{what}({[str(path) for path in files]!r}, {port}, {way!r})"
    environment = os.environ | {"SERMOVOX_DATA": str(data), "SERMOVOX_SEND_TO_OWN_NETWORK": "1"}
    environment["DJANGO_SETTINGS_MODULE"] = "sermovox.settings"
    done = subprocess.run([sys.executable, "-c", code], env=environment, check=True, stdout=subprocess.PIPE, text=True)
    return json.loads(done.stdout)


def alone(paths: list[str], port: int, way: str) -> None:
    """Send these files by nothing but the library, and print how long it took."""
    work = {"ftp": _by_ftplib, "sftp": _by_asyncssh, "webdav": _by_http, "objects": _by_boto3}[way]
    print(json.dumps({"seconds": timed(partial(work, [Path(path) for path in paths], port, _WAYS[way]))}))


def _by_ftplib(files: list[Path], port: int, who: StandIn) -> None:
    with ftplib.FTP() as session:
        session.connect("127.0.0.1", port)
        session.login(who.user, who.password)
        for path in files:
            with path.open("rb") as file:
                session.storbinary(f"STOR {path.name}", file, 1 << 16)


def _by_asyncssh(files: list[Path], port: int, who: StandIn) -> None:
    async def put() -> None:
        login = {"username": who.user, "password": who.password}
        async with (
            asyncssh.connect("127.0.0.1", port, known_hosts=None, client_keys=None, config=None, **login) as connection,
            connection.start_sftp_client() as client,
        ):
            for path in files:
                await client.put(str(path), path.name)

    asyncio.run(put())


def _by_http(files: list[Path], port: int, who: StandIn) -> None:
    connection = http.client.HTTPConnection("127.0.0.1", port)
    login = base64.b64encode(f"{who.user}:{who.password}".encode()).decode()
    for path in files:
        headers = {"Authorization": f"Basic {login}", "Content-Length": str(path.stat().st_size)}
        with path.open("rb") as file:
            connection.request("PUT", f"/{share.PATH}/{path.name}", file, headers)
        connection.getresponse().read()


def _by_boto3(files: list[Path], port: int, who: StandIn) -> None:
    import boto3  # type: ignore[import-untyped]
    from botocore.config import Config

    keys = {"aws_access_key_id": who.user, "aws_secret_access_key": who.password, "region_name": store.REGION}
    where = {"endpoint_url": f"http://127.0.0.1:{port}", "config": Config(s3={"addressing_style": "path"})}
    client = boto3.client("s3", **keys, **where)
    for path in files:
        with path.open("rb") as file:
            client.put_object(Bucket=BUCKET, Key=path.name, Body=file, ChecksumAlgorithm="SHA256")


def _largest_mb() -> float:
    """The most memory this process has had since it was begun (the usual count has that of what began it as well)."""
    status = Path("/proc/self/status").read_text()
    return int(status.split("VmHWM:")[1].split()[0]) / 1000


def sent(paths: list[str], port: int, way: str) -> None:
    """Send these files as a worker does, and once more look whether they are there; print how long each took."""
    import hashlib

    import django
    from django.core.management import call_command

    django.setup()
    call_command("migrate", verbosity=0)
    from django.contrib.auth import get_user_model

    from mastering.outlets.receiving import receiving_from
    from mastering.outlets.ways import PLAIN
    from sermovox.dispatch.models import Dispatch, Part, Secret
    from sermovox.dispatch.tasks import send_dispatch

    owner, who = get_user_model().objects.create_user("bench"), _WAYS[way]
    stated = {"way": way, "address": f"127.0.0.1:{port}", "user": who.user}
    stated |= {} if way == "sftp" else {"security": PLAIN}
    stated |= {"webdav": {"share": share.PATH}, "objects": {"bucket": BUCKET}}.get(way, {})
    receiving = receiving_from(stated)
    Secret.keep(owner, "bench", receiving, password=who.password)
    dispatch = Dispatch.objects.create(owner=owner, outlet_key="bench", receiving=receiving.table())
    dispatch.folder.parent.mkdir(parents=True)
    dispatch.folder.symlink_to(Path(paths[0]).parent)
    parts = []
    for place, path in enumerate(map(Path, paths)):
        with path.open("rb") as file:
            sha256 = hashlib.file_digest(file, "sha256").hexdigest()
        facts = {"name": path.name, "size_bytes": path.stat().st_size, "sha256": sha256}
        parts.append(Part(dispatch=dispatch, place=place, **facts))
    Part.objects.bulk_create(parts)
    seconds_taken = timed(lambda: send_dispatch.func(dispatch.pk))
    memory_mb = _largest_mb()
    # As after a kill: begun, and not noted.
    Part.objects.update(state=Part.State.SENDING)
    Dispatch.objects.update(state=Dispatch.State.WAITING)
    if not dispatch.folder.exists():
        dispatch.folder.symlink_to(Path(paths[0]).parent)
    again = timed(lambda: send_dispatch.func(dispatch.pk))
    print(json.dumps({"seconds": seconds_taken, "memory_mb": memory_mb, "again": again}))
