"""Pages for when something is not as it should be, and the words of the scripts."""

import sys

from django.contrib import messages
from django.db import OperationalError
from django.shortcuts import redirect, render
from django.utils.translation import get_language
from django.views.decorators.http import require_POST

from mastering.said import Said
from sermovox.keeping import copied, room, storage
from sermovox.ui.words import page_words
from sermovox.work import lacking

_NOT_FOUND = Said("there-nothing-address-belongs-somebody")
_WENT_WRONG = Said("something-went-wrong-sermovox-nothing")
_FULL = Said("servers-disk-full-so-could")
_BUSY = Said("database-busy-too-long-so")
_TOO_MUCH = Said("what-sent-larger-than-page")
_NOT_ALLOWED = Said("page-open-too-long-another")


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
    messages.success(request, Said("one-goes-what-waited-done"))
    return redirect("productions:list")


def not_found(request, exception=None):
    return _sorry(request, Said("not-here"), _NOT_FOUND, 404)


def went_wrong(request):
    # Django calls this while it deals with what was raised.
    error = sys.exception()
    if error is not None and storage.is_full(error):
        room.let_go()
        return _sorry(request, Said("disk-full"), _FULL, 507)
    if isinstance(error, OperationalError):
        return _sorry(request, Said("busy"), _BUSY, 503)
    return _sorry(request, Said("something-went-wrong"), _WENT_WRONG, 500)


def too_much(request):
    return _sorry(request, Said("too-much"), _TOO_MUCH, 413)


def not_allowed(request, exception=None, reason=""):
    return _sorry(request, Said("not-allowed"), _NOT_ALLOWED, 403)


def _sorry(request, title: str, sentence: str, status: int):
    return render(request, "sorry.html", {"title": title, "sentence": sentence}, status=status)
