"""Bring in the demonstration, once."""

from dataclasses import replace
from datetime import timedelta

from django.contrib.auth import get_user_model
from django.core.management.base import BaseCommand
from django.utils import timezone

from mastering.editing.scripts import entries, recognised
from mastering.outlets.receiving import receiving_from
from mastering.outlets.rulesheets import shipped
from sermovox.accounts.models import DEMO_USERNAME
from sermovox.cutting.models import Page
from sermovox.cutting.texts import Words
from sermovox.cutting.wordcuts import give_text
from sermovox.deliveries.runs import start_run
from sermovox.demo.artwork import book_cover
from sermovox.demo.scenario import (
    BOOK,
    BOOK_OUTLETS,
    BOOK_SECTIONS,
    FOLDER,
    LINE_OUTLETS,
    LINE_SCRIPT,
    LINE_TAKES,
    LINES,
    NARRATOR,
    PLACES,
    PROGRAMME,
    PROGRAMME_OUTLETS,
    PROGRAMME_SECTIONS,
    TALE_TITLES,
    TALES,
    TALES_TAKE,
    TALES_TEXT,
    text_of,
)
from sermovox.demo.tasks import go_on
from sermovox.dispatch.models import Promise, Secret
from sermovox.outlets.models import RuleSheet
from sermovox.productions import order
from sermovox.productions.models import Production, Section
from sermovox.recordings.intake import take_in
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
        programme = self._production(narrator, PROGRAMME, PROGRAMME_SECTIONS)
        self._places(narrator)
        self._deliver(programme, "radio-playout", columns=PROGRAMME_OUTLETS)
        book = self._production(narrator, BOOK, BOOK_SECTIONS)
        book.set_artwork(book_cover())
        self._deliver(book, "audiobook-retail", "single-file-audiobook", columns=BOOK_OUTLETS)
        promises = (
            (programme, "radio-playout", 2, "Skerrow Sound"),
            (book, "volunteer-archive", 21, "Larkfield Library"),
        )
        for production, key, days, client in promises:
            Promise.objects.create(
                production=production,
                outlet_key=key,
                client=client,
                due_on=timezone.localdate() + timedelta(days=days),
            )
        go_on.enqueue(book.pk)
        self._lines(narrator)
        self._tales(narrator)

    def _places(self, narrator) -> None:
        """Where outlets receive."""
        for key, (stand_in, way, stated) in PLACES.items():
            (stand_in.top / "received").mkdir(parents=True, exist_ok=True)
            reached = {"way": way, "address": stand_in.address} | ({"user": stand_in.user} if stand_in.user else {})
            receiving = receiving_from(reached | stated)
            RuleSheet.change(
                narrator, replace(shipped()[key], receives=receiving), f"How it receives: {receiving.kind.title}"
            )
            if stand_in.password:
                Secret.keep(narrator, key, receiving, password=stand_in.password)

    def _production(self, narrator, facts: dict, sections: list) -> Production:
        production = Production.objects.create(owner=narrator, **facts)
        for name, role, number, title, content_kind, _, spoken in sections:
            recording = self._recording(production, name)
            facts = {"role": role, "number": number, "title": title, "content_kind": content_kind}
            Section.objects.whole_of(recording).update(**facts, script=text_of(spoken))
        return production

    def _deliver(self, production: Production, *keys: str, columns: tuple[str, ...]) -> None:
        """Make the files of all sections for some outlets in one run; `columns` are those of the running order."""
        production.outlet_keys = list(columns)
        production.save(update_fields=["outlet_keys"])
        ready = production.sections.filter(pieces__recording__state=Recording.State.READY)
        start_run(production, [shipped()[key] for key in keys], list(ready.with_pieces()))

    def _lines(self, narrator) -> None:
        """A client's lines whose takes wait to be paired with them."""
        production = Production.objects.create(owner=narrator, outlet_keys=list(LINE_OUTLETS), **LINES)
        order.build(production, narrator, entries(LINE_SCRIPT, recognised(LINE_SCRIPT)), instead=False)
        for name, *_ in LINE_TAKES:
            self._recording(production, name)

    def _tales(self, narrator) -> None:
        """Tales read in one take, which waits to be cut on its page."""
        production = Production.objects.create(owner=narrator, **TALES)
        for number, title in enumerate(TALE_TITLES, 1):
            production.add_section(title=title, number=number)
        recording = self._recording(production, TALES_TAKE[0])
        page = Page.of(recording)
        give_text(page, narrator, text=TALES_TEXT, data=b"", name="", language="en")
        Words(page).queue()

    def _recording(self, production: Production, name: str) -> Recording:
        """Brought in and measured here and now, so that the first page shows slips; the queued task finds it done."""
        recording = take_in(production, FOLDER / name).recording
        measure_recording.call(recording.pk)
        recording.refresh_from_db()
        return recording
