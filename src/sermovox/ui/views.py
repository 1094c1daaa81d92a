"""Pages for when something is not as it should be."""

from django.shortcuts import render

_NOT_FOUND = "There is nothing at this address, or it belongs to somebody else."
_WENT_WRONG = "Something went wrong in Sermovox. Nothing of yours was changed; go back and try once more."
_NOT_ALLOWED = "This page was open for too long, or another page asked in your name. Reload it and try once more."


def not_found(request, exception=None):
    return _sorry(request, "Not here", _NOT_FOUND, 404)


def went_wrong(request):
    return _sorry(request, "Something went wrong", _WENT_WRONG, 500)


def not_allowed(request, exception=None, reason=""):
    return _sorry(request, "Not allowed", _NOT_ALLOWED, 403)


def _sorry(request, title: str, sentence: str, status: int):
    return render(request, "sorry.html", {"title": title, "sentence": sentence}, status=status)
