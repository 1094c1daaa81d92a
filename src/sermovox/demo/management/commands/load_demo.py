"""Bring in the demonstration, once."""

from django.contrib.auth import get_user_model
from django.core.management.base import BaseCommand

from sermovox.accounts.models import DEMO_USERNAME
from sermovox.deliveries.models import Delivery
from sermovox.demo.scenario import BOOK, BOOK_SECTIONS, NARRATOR, PROGRAMME, PROGRAMME_SECTIONS
from sermovox.demo.takes import FOLDER
from sermovox.productions.models import Production
from sermovox.recordings.intake import file_chunks, take_in
from sermovox.recordings.models import Recording
from sermovox.recordings.tasks import measure_recording


class Command(BaseCommand):
    help = "Make the demo narrator and the demo productions, unless they are there."

    def handle(self, **options):
        people = get_user_model().objects
        narrator = people.filter(username=DEMO_USERNAME).first()
        if narrator is None:
            narrator = people.create(username=DEMO_USERNAME, first_name=NARRATOR[0], last_name=NARRATOR[1])
            narrator.set_unusable_password()
            narrator.save()
        if Production.objects.of(narrator).exists():
            return
        self._production(narrator, PROGRAMME, PROGRAMME_SECTIONS, outlet="radio-playout")
        self._production(narrator, BOOK, BOOK_SECTIONS, outlet="audiobook-retail")

    def _production(self, narrator, facts: dict, sections: list, *, outlet: str) -> None:
        production = Production.objects.create(owner=narrator, **facts)
        for name, role, number, title, content_kind, *_ in sections:
            recording = take_in(production, name, file_chunks(FOLDER / name)).recording
            # Measured here and now, so that the first page shows slips; the task in the queue finds it done.
            measure_recording.call(recording.pk)
            recording.sections.update(role=role, number=number, title=title, content_kind=content_kind)
        ready = production.sections.filter(recording__state=Recording.State.READY)
        Delivery.start(production, outlet, list(ready.select_related("recording")))
