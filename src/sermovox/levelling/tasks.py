"""Measuring what plans are made from, in the background."""

import logging

from django_tasks import task

from mastering.errors import MasteringError
from mastering.said import Said
from sermovox.levelling.members import members_of
from sermovox.outlets.models import outlets_of
from sermovox.productions.models import Production
from sermovox.sources.soundings import Soundings

logger = logging.getLogger(__name__)


@task()
def measure_sections(production_id: int, outlet_key: str) -> None:
    """Measure every section of a production as an outlet would have it, where that is not known yet."""
    production = Production.objects.filter(pk=production_id).first()
    if production is None or (outlet := outlets_of(production.owner).get(outlet_key)) is None:
        return
    soundings = Soundings(production)
    for member in members_of(soundings, soundings.sections, outlet):
        if member.refusal:
            continue
        try:
            member.measure()
        except MasteringError as error:
            member.refuse(str(error))
        except Exception:
            logger.exception("Measuring “%s” of production %s", member.sounding.title, production_id)
            member.refuse(Said("sermovox-stumbled-over-section-recording-untouched"))
