"""Mending a file that fails: what has to be allowed for its section, and making it again with that."""

from django.db import transaction

from mastering.errors import MasteringError
from mastering.said import Said
from sermovox.deliveries.models import Delivery, FinishedFile
from sermovox.deliveries.runs import start_run
from sermovox.levelling.forms import in_words
from sermovox.levelling.remedies import Remedy, remedy_of
from sermovox.productions import order
from sermovox.productions.models import Naming, Section


def remedy_for(file: FinishedFile) -> Remedy | None:
    """What mends the levels of a file that fails and stands for its section, if anything does."""
    if file.state != FinishedFile.State.FAILS or file.replaced_at or file.excerpt or file.section_id is None:
        return None
    section = Section.objects.select_related("production").filter(pk=file.section_id).with_pieces().first()
    try:
        return section and remedy_of(section, file.delivery.outlet)
    except MasteringError:
        return None


def make_mended(file: FinishedFile, user, remedy: Remedy) -> Delivery | None:
    """Give the section of a file the treatment that mends it, and begin to make it in the file's place. Raises
    MasteringError; nothing is changed then.
    """
    production, outlet = file.delivery.production, file.delivery.outlet
    with transaction.atomic():
        section = production.sections.with_pieces().get(pk=file.section_id)
        words = Said("treat", title=section.title, in_words=in_words([(section.wishes, remedy.treatment)]))
        order.treat(production, user, {section.pk: remedy.treatment}, words)
        ticked = production.last_outlets
        section = production.sections.with_pieces().get(pk=file.section_id)
        deliveries = start_run(production, [outlet], [section], existing={outlet.key: Naming.Existing.REPLACE})
        # Which columns are ticked stays as it was.
        production.last_outlets = ticked
        production.save(update_fields=["last_outlets"])
    return deliveries[0] if deliveries else None
