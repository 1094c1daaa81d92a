"""What is done while its writes are recorded: brought in, measured, made, renamed, tagged, replaced, taken back."""

import hashlib
import json
import os
import sys
from itertools import count

from mastering.certain import certain


def main(deed: str) -> None:
    import django

    django.setup()
    if deed == "prepare":
        _prepare()
    else:
        _run(int(deed))


def _prepare() -> None:
    from django.contrib.auth import get_user_model
    from django.core.management import call_command
    from django.db import connection

    from sermovox.productions.models import Production

    call_command("migrate", verbosity=0)
    Production.objects.create(owner=get_user_model().objects.create_user("narrator"), title="Power")
    connection.close()


def _run(turns: int) -> None:
    from django.conf import settings
    from django.contrib.auth import get_user_model
    from django.db import connection
    from django.test import Client

    from sermovox.deliveries.models import FinishedFile
    from sermovox.faults.load import take
    from sermovox.productions.models import Production

    settings.ALLOWED_HOSTS = ["testserver"]
    _work_off()
    production = Production.objects.get()
    client = Client()
    client.force_login(get_user_model().objects.get())
    connection.close()
    print("ready", flush=True)
    sys.stdin.readline()
    tus = {"Tus-Resumable": "1.0.0"}
    numbers = count()
    for turn in range(turns):
        for parts in (1, 3):
            data = take(next(numbers))
            into = f"/recordings/uploads/into/{production.pk}/"
            said = tus | {"Upload-Length": str(len(data)), "Upload-Metadata": "filename dGFrZS53YXY="}
            address = client.post(into, headers=said)["Location"]
            size = -(-len(data) // parts)
            for at in range(0, len(data), size):
                kind = "application/offset+octet-stream"
                headers = tus | {"Upload-Offset": str(at)}
                client.patch(address, data[at : at + size], content_type=kind, headers=headers)
            if (outcome := client.get(address).json())["state"] == "here":
                _acknowledge("here", outcome["recording"], hashlib.sha256(data).hexdigest())
        _work_off()
        sections = list(production.sections.values_list("pk", flat=True))
        asked = {"outlet": "volunteer-archive", "section": sections, "existing": "replace", "again": "yes"}
        client.post(f"/deliveries/start/{production.pk}/", asked)
        _work_off()
        files = list(FinishedFile.objects.standing())
        for file in files:
            _acknowledge("sha256", file.pk, file.sha256)
        delivery = files[-1].delivery
        table = f"{files[-1].name},turn-{turn}.mp3"
        if client.post(f"/deliveries/{delivery.pk}/rename/", {"map": table, "apply": "yes"}).status_code == 302:
            _acknowledge("name", files[-1].pk, f"turn-{turn}.mp3")
        Production.objects.update(author=f"Author {turn}")
        page = client.get(f"/deliveries/{delivery.pk}/tags/").content.decode()
        seen = page.partition('name="seen" value="')[2].partition('"')[0]
        client.post(f"/deliveries/{delivery.pk}/tags/", {"seen": seen, "file": [file.pk for file in files]})
        for file in FinishedFile.objects.standing():
            _acknowledge("sha256", file.pk, file.sha256)
        binned = FinishedFile.objects.filter(in_bin=True).last()
        if binned:
            client.post(f"/deliveries/files/{binned.pk}/take-back/")
        recording = certain(production.recordings.last())
        client.post("/recordings/storage/delete/", {"chosen": f"recording-{recording.pk}", "sure": "yes"})
        client.post("/recordings/storage/bin/take-back/", {"chosen": f"recording-{recording.pk}"})


def _work_off() -> None:
    from django_tasks_db.models import DBTaskResult

    while task := DBTaskResult.objects.filter(status="READY").first():
        asked = task.args_kwargs
        task.delete()
        task.task.func(*asked["args"], **asked["kwargs"])


def _acknowledge(kind: str, key: int, value: str) -> None:
    os.write(1, b"acknowledged " + json.dumps({kind: [key, value]}).encode() + b"\n")


if __name__ == "__main__":
    main(*sys.argv[1:])
