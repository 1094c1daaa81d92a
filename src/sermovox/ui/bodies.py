"""How much a form may bring, by its address: told before any of it is read, as reading writes it to the disk.

What brings no form is read by its view, or not at all.
"""

from collections.abc import Callable

from django.conf import settings

from sermovox.ui.views import too_much

STRANGERS_BYTES = 64 << 10
"""Of somebody who is not signed in: a name and a password, or a remark, and no file."""
USUAL_BYTES = settings.DATA_UPLOAD_MAX_MEMORY_SIZE + (24 << 20)
"""Of somebody who is: as much text as a book has, and a picture or a document."""
_FORMS = ("multipart/form-data", "application/x-www-form-urlencoded")


def takes_up_to(most_bytes: int) -> Callable:
    """A view whose forms bring more than usual."""

    def taking(view):
        # As decorators carry along what a view has of its own.
        vars(view)["most_form_bytes"] = most_bytes
        return view

    return taking


class Bodies:
    """Refuses forms that are larger than their address takes; stands before whatever reads them."""

    def __init__(self, get_response):
        self.get_response = get_response

    def __call__(self, request):
        return self.get_response(request)

    def process_view(self, request, view, args, kwargs):
        if request.content_type not in _FORMS:
            return None
        most = getattr(view, "most_form_bytes", USUAL_BYTES) if request.user.is_authenticated else STRANGERS_BYTES
        return too_much(request) if _length(request) > most else None


def _length(request) -> int:
    told = request.META.get("CONTENT_LENGTH") or "0"
    return int(told) if told.isascii() and told.isdigit() else 0
