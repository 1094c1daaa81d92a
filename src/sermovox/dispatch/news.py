"""What every page tells at its head of what was sent."""

from django.db.models import Count
from django.utils.functional import SimpleLazyObject

from sermovox.dispatch.models import Dispatch


def news(request) -> dict:
    """How many have come to an end since they were looked at, by their state; asked only by pages that say so."""
    return {"sent_news": SimpleLazyObject(lambda: _counted(request.user))}


def _counted(user) -> dict[str, int]:
    if not user.is_authenticated:
        return {}
    counted = Dispatch.objects.of(user).news().order_by().values_list("state").annotate(Count("pk"))
    return dict(counted)
