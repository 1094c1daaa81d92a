"""What it costs that bytes are on the disk before an upload is answered with "here"."""

import os
import subprocess
import sys
import tempfile
from pathlib import Path

from sermovox.bench.tools import ROUNDS, line, seconds, timed

_LARGE_BYTES = 1_000_000_000
_SMALL_FILES = 300


def tables() -> None:
    """Print the table of flushing."""
    for what, said in (("large", "bringing in 1 GB by tus"), ("small", f"bringing in {_SMALL_FILES} files of 44 kB")):
        times: dict[str, list[float]] = {"flushed": [], "not flushed": []}
        for _ in range(ROUNDS):
            for how, found in times.items():
                found.append(_once(what, how == "flushed"))
        ratio = sorted(f / n for f, n in zip(times["flushed"], times["not flushed"], strict=True))[ROUNDS // 2]
        line(f"{said}, nothing flushed and SQLite not waiting", seconds(times["not flushed"]), "1", "")
        line("the same, on the disk before it is answered", seconds(times["flushed"]), f"{ratio:.2f}", "")


def _once(what: str, flushed: bool) -> float:
    with tempfile.TemporaryDirectory() as data:
        environment = os.environ | {"SERMOVOX_DATA": data, "DJANGO_SETTINGS_MODULE": "sermovox.settings"}
        environment["SERMOVOX_SYNCHRONOUS"] = "FULL" if flushed else "OFF"
        command = [sys.executable, "-m", "sermovox.bench.flushing", what, "yes" if flushed else "no"]
        return float(subprocess.run(command, env=environment, check=True, capture_output=True, text=True).stdout)


def _bring_in(what: str) -> float:
    import django

    django.setup()
    from django.contrib.auth import get_user_model
    from django.core.management import call_command
    from django.test import Client

    from sermovox.bench.desk import large_wav
    from sermovox.faults.load import take
    from sermovox.productions.models import Production

    call_command("migrate", verbosity=0)
    owner = get_user_model().objects.create_user("bench")
    production = Production.objects.create(owner=owner, title="Bench")
    client = Client(SERVER_NAME="localhost")
    client.force_login(owner)
    tus, into = {"Tus-Resumable": "1.0.0"}, f"/recordings/uploads/into/{production.pk}/"

    def send(data: bytes) -> None:
        address = client.post(into, headers=tus | {"Upload-Length": str(len(data))})["Location"]
        kind = "application/offset+octet-stream"
        client.patch(address, data, content_type=kind, headers=tus | {"Upload-Offset": "0"})
        assert client.get(address).json()["state"] == "here"

    if what == "large":
        with tempfile.TemporaryDirectory() as folder:
            large = large_wav(Path(folder), _LARGE_BYTES).read_bytes()
        return timed(lambda: send(large))
    small = [take(seed) for seed in range(_SMALL_FILES)]

    def send_small() -> None:
        for data in small:
            send(data)

    return timed(send_small)


if __name__ == "__main__":
    if sys.argv[2] == "no":
        os.fsync = lambda fd: None
    print(_bring_in(sys.argv[1]))
