"""What the tests of the application share."""

import tempfile
from pathlib import Path
from urllib.parse import quote

from django.contrib.auth import get_user_model
from django.core.management import call_command
from django.test import TransactionTestCase, override_settings

from mastering.tests.signals import speech, written
from sermovox.productions.models import Production


class AppTestCase(TransactionTestCase):
    """A data folder of its own, a narrator who is signed in, and a production of hers."""

    def setUp(self):
        kept = tempfile.TemporaryDirectory()
        self.addCleanup(kept.cleanup)
        self.folder = Path(kept.name)
        settings = override_settings(DATA_DIR=self.folder / "data")
        settings.enable()
        self.addCleanup(settings.disable)
        self.narrator = get_user_model().objects.create_user("narrator", first_name="Ilse", last_name="Brandt")
        self.client.force_login(self.narrator)
        self.production = Production.objects.create(owner=self.narrator, title="Salt and Cedar")

    def work(self) -> None:
        """Let a worker empty the queue."""
        call_command("db_worker", queue_name="*", batch=True, startup_delay=False, reload=False, verbosity=0)

    def upload(self, path: Path, *, name: str | None = None, production: Production | None = None, client=None):
        """Send a file as the page does."""
        return (client or self.client).post(
            f"/recordings/upload/{(production or self.production).pk}/",
            data=path.read_bytes(),
            content_type="application/octet-stream",
            headers={"X-File-Name": quote(name or path.name)},
        )

    def bring_in(self, samples=None, *, name: str = "take.wav", rate_hz: int = 44100, subtype: str = "PCM_16"):
        """Upload and measure a recording; returns its section."""
        samples = speech(seconds=5) if samples is None else samples
        answer = self.upload(written(self.folder, samples, rate_hz, name, subtype))
        self.assertEqual(answer.status_code, 200, answer.content)
        self.work()
        return self.production.sections.last()
