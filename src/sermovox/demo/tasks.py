"""What happens to the demonstration once its first files are made, so that every mark is to be seen."""

from datetime import timedelta

from django.utils import timezone
from django_tasks import task

from mastering.outlets.rulesheets import shipped
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
    order.treat(production, production.owner, hush, f"Treat \u201c{again.title}\u201d: hush if needed")
    start_run(
        production,
        [outlet],
        list(production.sections.filter(pk=again.pk).with_pieces()),
        existing={outlet.key: Naming.Existing.REPLACE},
    )
    ride = {treated.pk: treatment_of({"ride": "always"})}
    order.treat(production, production.owner, ride, f"Treat \u201c{treated.title}\u201d: ride always")
    with changing(production, production.owner, f"Change \u201c{retitled.title}\u201d"):
        retitled.title = RETITLED[1]
        retitled.save(update_fields=["title"])
