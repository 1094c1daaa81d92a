"""Sending a hundred files to the stand-in of a station, against nothing but the library."""

import ftplib
import os
import statistics
import subprocess
import sys
import tempfile
import threading
from pathlib import Path

from sermovox.bench.tools import ROUNDS, line, seconds, timed
from sermovox.standins.mischief import received_in
from sermovox.standins.station import PASSWORD, USER, station

_FILES, _FILE_BYTES = 100, 5_000_000


def tables() -> None:
    """Print the table of sending; each round sends to a station with nothing in it."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        files = [folder / f"file-{number:03}.bin" for number in range(_FILES)]
        for path in files:
            path.write_bytes(os.urandom(_FILE_BYTES))
        bare, ours = [], []
        for turn in range(ROUNDS):
            bare.append(_served(folder / f"bare-{turn}", lambda port: timed(lambda: _bare(files, port))))
            ours.append(_served(folder / f"ours-{turn}", lambda port, turn=turn: _sent(folder, files, port, turn)))
        line(f"{_FILES} files of 5 MB by FTP, the library alone", seconds(bare), "1", "")
        ratio = statistics.median(b / o for b, o in zip(bare, ours, strict=True))
        line("the same sent and known to have arrived, times as fast", seconds(ours), f"{ratio:.2f}", "at least 0.8")


def _served(top: Path, work) -> float:
    server = station(top, 0)
    threading.Thread(target=server.serve_forever, kwargs={"handle_exit": False}, daemon=True).start()
    try:
        took = work(server.address[1])
        if len(list(received_in(top).iterdir())) != _FILES:
            raise RuntimeError("not all files are there")
        return took
    finally:
        server.close_all()


def _bare(files: list[Path], port: int) -> None:
    with ftplib.FTP() as session:
        session.connect("127.0.0.1", port)
        session.login(USER, PASSWORD)
        for path in files:
            with path.open("rb") as file:
                session.storbinary(f"STOR {path.name}", file, 1 << 16)


def _sent(folder: Path, files: list[Path], port: int, turn: int) -> float:
    """In a process of its own, with a database of its own, as a worker would."""
    code = f"from sermovox.bench.sending import report; report({[str(path) for path in files]!r}, {port})"
    environment = os.environ | {"SERMOVOX_DATA": str(folder / f"data-{turn}"), "SERMOVOX_SEND_TO_OWN_NETWORK": "1"}
    environment["DJANGO_SETTINGS_MODULE"] = "sermovox.settings"
    done = subprocess.run([sys.executable, "-c", code], env=environment, check=True, capture_output=True, text=True)
    return float(done.stdout)


def report(paths: list[str], port: int) -> None:
    """Send these files and print how long it took."""
    import django
    from django.core.management import call_command

    django.setup()
    call_command("migrate", verbosity=0)
    import hashlib

    from django.contrib.auth import get_user_model

    from mastering.outlets.receiving import PLAIN
    from sermovox.dispatch.models import Dispatch, Part, Secret
    from sermovox.dispatch.tasks import send_dispatch

    owner = get_user_model().objects.create_user("bench")
    Secret.keep(owner, "bench", password=PASSWORD)
    receiving = {"way": "ftp", "address": f"127.0.0.1:{port}", "user": USER, "security": PLAIN}
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
