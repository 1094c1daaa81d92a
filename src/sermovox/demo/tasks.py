"""What happens to the demonstration once its first files are made, so that every mark is to be seen."""

from datetime import timedelta

from django.utils import timezone
from django_tasks import task

from mastering.outlets.rulesheets import shipped
from mastering.said import Said, word
from mastering.shaping.treatment import treatment_of
from sermovox.deliveries.models import FinishedFile
from sermovox.deliveries.runs import start_run
from sermovox.demo.scenario import MADE_AGAIN, RETITLED, TREATED
from sermovox.history.changing import changing
from sermovox.productions import order
from sermovox.productions.models import Naming, Production

_LOOK_AGAIN = timedelta(seconds=1)


@task()
def go_on(production_id: int) -> None:
    """Once all files of a production are made: make one again in its place, and change what two others follow from."""
    production = Production.objects.filter(pk=production_id).first()
    if production is None:
        return
    if FinishedFile.objects.filter(delivery__production=production).under_way().exists():
        go_on.using(run_after=timezone.now() + _LOOK_AGAIN).enqueue(production_id)
        return
    sections = {section.title: section for section in production.sections.with_pieces()}
    again, treated, retitled = (sections.get(title) for title in (MADE_AGAIN, TREATED, RETITLED[0]))
    if not (again and treated and retitled):
        # Somebody has gone on with it already.
        return
    outlet = shipped()["audiobook-retail"]
    hush = {again.pk: treatment_of({"hush": "if needed"})}
    order.treat(
        production,
        production.owner,
        hush,
        Said("treat", title=again.title, in_words=Said("hush-2", choice=word("if needed"))),
    )
    start_run(
        production,
        [outlet],
        list(production.sections.filter(pk=again.pk).with_pieces()),
        existing={outlet.key: Naming.Existing.REPLACE},
    )
    ride = {treated.pk: treatment_of({"ride": "always"})}
    order.treat(
        production,
        production.owner,
        ride,
        Said("treat", title=treated.title, in_words=Said("ride-2", choice=word("always"))),
    )
    with changing(production, production.owner, Said("change", title=retitled.title)):
        retitled.title = RETITLED[1]
        retitled.save(update_fields=["title"])
