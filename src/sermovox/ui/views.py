"""Pages for when something is not as it should be, and the words of the scripts."""

import sys

from django.contrib import messages
from django.db import OperationalError
from django.shortcuts import redirect, render
from django.utils.translation import get_language
from django.views.decorators.http import require_POST

from sermovox.keeping import copied, room, storage
from sermovox.ui.words import page_words
from sermovox.work import lacking

_NOT_FOUND = "There is nothing at this address, or it belongs to somebody else."
_WENT_WRONG = "Something went wrong in Sermovox. Nothing of yours was changed; go back and try once more."
_FULL = (
    "The server’s disk is full, so this could not be done. What is here stays as it is. Free some room under Storage, "
    "or have other files moved off the disk, then try once more."
)
_BUSY = "The database was busy for too long, so this was not done. Nothing of yours was changed; try once more."
_TOO_MUCH = "What was sent is larger than this page takes. Nothing of it was kept; send less, or files one by one."
_NOT_ALLOWED = "This page was open for too long, or another page asked in your name. Reload it and try once more."


def words_of_pages(request) -> dict:
    """What the scripts of every page say, in the reader's language."""
    return {"page_words": page_words(get_language() or "en")}


def left_out(request) -> dict:
    """What every page tells of workers that could not be started: what waits for them does so in vain."""
    return {"left_out": lambda: lacking.sentences(*lacking.WORKERS)}


def held(request) -> dict:
    """What every page tells of a copy that does nothing by itself."""
    return {"copy_of": copied.made_at}


@require_POST
def goes_on(request):
    """Somebody says that a copy goes on."""
    copied.go_on()
    messages.success(request, "This one goes on. What waited is done now, and what is to be sent is sent.")
    return redirect("productions:list")


def not_found(request, exception=None):
    return _sorry(request, "Not here", _NOT_FOUND, 404)


def went_wrong(request):
    # Django calls this while it deals with what was raised.
    error = sys.exception()
    if error is not None and storage.is_full(error):
        room.let_go()
        return _sorry(request, "The disk is full", _FULL, 507)
    if isinstance(error, OperationalError):
        return _sorry(request, "Busy", _BUSY, 503)
    return _sorry(request, "Something went wrong", _WENT_WRONG, 500)


def too_much(request):
    return _sorry(request, "Too much", _TOO_MUCH, 413)


def not_allowed(request, exception=None, reason=""):
    return _sorry(request, "Not allowed", _NOT_ALLOWED, 403)


def _sorry(request, title: str, sentence: str, status: int):
    return render(request, "sorry.html", {"title": title, "sentence": sentence}, status=status)
