"""What the tests of the application share."""

import base64
import re
import shutil
import sqlite3
import tempfile
from copy import deepcopy
from pathlib import Path
from typing import Any

from django.contrib.auth import get_user_model
from django.core.management import call_command
from django.db import connection
from django.http import HttpResponse
from django.test import TransactionTestCase, override_settings

from mastering.tests.signals import picture, speech, written
from sermovox.productions import order
from sermovox.productions.models import Production

TUS = {"Tus-Resumable": "1.0.0"}


def _laid_together(response):
    """A page with each run of white space as one space, as browsers show it: templates break lines where they like."""
    if response.streaming or not response["Content-Type"].startswith("text/html"):
        return response
    return HttpResponse(" ".join(response.content.decode().split()), status=response.status_code)


class AppTestCase(TransactionTestCase):
    """A data folder of its own, a narrator who is signed in, and a production of hers.

    What `prepare` makes is made once for a class. Each of its tests begins with a copy of that: the database, the
    folder and what it has set on the test itself.
    """

    folder: Path

    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        kept = tempfile.TemporaryDirectory()
        cls.addClassCleanup(kept.cleanup)
        cls.folder, cls._aside = Path(kept.name, "now"), Path(kept.name, "prepared")
        cls._prepared: tuple[sqlite3.Connection, dict[str, Any]] | None = None

    def setUp(self):
        settings = override_settings(DATA_DIR=self.folder / "data")
        settings.enable()
        self.addCleanup(settings.disable)
        self.addCleanup(shutil.rmtree, self.folder)
        if self._prepared is None:
            self.folder.mkdir()
            own = set(vars(self))
            # Keys begin with 1, whatever ran before.
            with connection.cursor() as cursor:
                cursor.execute("DELETE FROM sqlite_sequence")
            self.prepare()
            shutil.copytree(self.folder, self._aside)
            database = sqlite3.connect(":memory:")
            self.addClassCleanup(database.close)
            connection.connection.backup(database)
            made = {name: value for name, value in vars(self).items() if name not in own}
            type(self)._prepared = (database, deepcopy(made))
        else:
            database, made = self._prepared
            shutil.copytree(self._aside, self.folder)
            database.backup(connection.connection)
            vars(self).update(deepcopy(made))
            self.client.force_login(self.narrator)

    def prepare(self) -> None:
        """What every test of the class begins with."""
        self.narrator = get_user_model().objects.create_user("narrator", first_name="Ilse", last_name="Brandt")
        self.client.force_login(self.narrator)
        self.production = Production.objects.create(owner=self.narrator, title="Salt and Cedar")
        self.production.set_artwork(picture())

    def _fixture_teardown(self) -> None:
        # As Django does, but for content types and permissions, which take most of its time and nothing here asks for.
        call_command("flush", verbosity=0, interactive=False, reset_sequences=False, inhibit_post_migrate=True)

    def work(self) -> None:
        """Let a worker empty the queue."""
        call_command("db_worker", queue_name="*", batch=True, startup_delay=False, reload=False, verbosity=0)

    def fill_in(self, address: str, **values):
        """Fill in fields of the form on a page, leave the others as they are, and save it; the page that follows."""
        form = self.client.get(address).context["form"]
        shown = {field.name: field.value() for field in form if field.name not in form.files}
        return self.client.post(address, {n: v for n, v in (shown | values).items() if v is not None}, follow=True)

    def assertContains(self, response, text, *counted, **asked):
        super().assertContains(_laid_together(response), text, *counted, **asked)

    def assertNotContains(self, response, text, *counted, **asked):
        super().assertNotContains(_laid_together(response), text, *counted, **asked)

    def submit(self, address: str, values: dict, *, shown: str = ""):
        """Send a form as the page shows it that it is on; the page that follows."""
        seen = re.search(r'name="seen"\s+value="(\w+)"', self.client.get(shown or address).content.decode())
        return self.client.post(address, {"seen": seen[1] if seen else ""} | values, follow=True)

    def begin_upload(self, name: str, size_bytes: int, *, production=None, client=None, **facts):
        """Announce a file by the tus protocol; the answer has its address under Location."""
        pairs = {"filename": name} | {key: str(value) for key, value in facts.items()}
        metadata = ",".join(f"{key} {base64.b64encode(value.encode()).decode()}" for key, value in pairs.items())
        return (client or self.client).post(
            f"/recordings/uploads/into/{(production or self.production).pk}/",
            headers=TUS | {"Upload-Length": str(size_bytes), "Upload-Metadata": metadata},
        )

    def send(self, address: str, part: bytes, offset: int, *, client=None):
        """Send a part of an announced file."""
        return (client or self.client).patch(
            address, part, content_type="application/offset+octet-stream", headers=TUS | {"Upload-Offset": str(offset)}
        )

    def upload(self, path: Path, *, name: str | None = None, production=None, client=None, **facts) -> dict:
        """Send a file as the page does; returns what became of it: {"state", "said", "recording"}."""
        data = path.read_bytes()
        begun = self.begin_upload(name or path.name, len(data), production=production, client=client, **facts)
        self.assertEqual(begun.status_code, 201, begun.content)
        if data:
            self.assertEqual(self.send(begun["Location"], data, 0, client=client).status_code, 204)
        return (client or self.client).get(begun["Location"]).json()

    def give_all(self, recording) -> None:
        """Give all sections one recording."""
        wanted = dict.fromkeys(self.production.sections.values_list("pk", flat=True), recording.pk)
        order.assign(self.production, self.narrator, wanted, "Give all one recording")

    def bring_in(self, samples=None, *, name: str = "take.wav", rate_hz: int = 44100, subtype: str = "PCM_16"):
        """Upload and measure a recording; returns its section."""
        samples = speech(seconds=5) if samples is None else samples
        outcome = self.upload(written(self.folder, samples, rate_hz, name, subtype))
        self.assertEqual(outcome["state"], "here", outcome)
        self.work()
        return self.production.sections.last()
