"""The page of a stand-in: what it has received, and what it is told to do wrong."""

import hashlib
import shutil
from datetime import UTC, datetime
from functools import wraps
from pathlib import Path

from django import forms
from django.conf import settings
from django.http import Http404
from django.shortcuts import redirect, render
from django.views.decorators.http import require_POST

from sermovox.standins.known import MAILBOX, STAND_INS, StandIn
from sermovox.standins.mails import mails_in
from sermovox.standins.mischief import Mischief, mischief_of, received_in
from sermovox.work import lacking


class MischiefForm(forms.Form):
    drops = forms.IntegerField(min_value=0, max_value=99)
    full = forms.BooleanField(required=False)
    refuses = forms.BooleanField(required=False)
    slow = forms.BooleanField(required=False)


def _in_the_demonstration(view):
    """Stand-ins are there in the demonstration alone."""

    @wraps(view)
    def answering(request, name: str):
        if not settings.DEMO_SIGN_IN or name not in STAND_INS:
            raise Http404
        return view(request, STAND_INS[name])

    return answering


@_in_the_demonstration
def shown(request, stand_in: StandIn):
    top = received_in(stand_in.top)
    files = [_listed(path, top) for path in sorted(top.rglob("*")) if path.is_file()]
    told = Mischief.read(mischief_of(stand_in.top))
    mails = mails_in(top) if stand_in == MAILBOX else []
    context = {
        "files": [] if mails else files,
        "mails": mails,
        "count": len(files),
        "one": stand_in,
        "all": STAND_INS.values(),
        "mischief": told,
        "lacking": lacking.sentences(lacking.STAND_INS) if stand_in.later_ports is not None else [],
    }
    return render(request, "standins/stand_in.html", context)


@require_POST
@_in_the_demonstration
def mischief(request, stand_in: StandIn):
    form = MischiefForm(request.POST)
    if form.is_valid():
        stand_in.top.mkdir(parents=True, exist_ok=True)
        Mischief(**form.cleaned_data).keep(mischief_of(stand_in.top))
    return redirect("standins:stand-in", stand_in.name)


@require_POST
@_in_the_demonstration
def empty(request, stand_in: StandIn):
    """Throw away what was received."""
    for path in received_in(stand_in.top).glob("*"):
        if path.is_dir():
            shutil.rmtree(path)
        else:
            path.unlink()
    return redirect("standins:stand-in", stand_in.name)


def _listed(path: Path, top: Path) -> dict:
    with path.open("rb") as file:
        sha256 = hashlib.file_digest(file, "sha256").hexdigest()
    touched = path.stat()
    return {
        "name": path.relative_to(top).as_posix(),
        "size_bytes": touched.st_size,
        "at": datetime.fromtimestamp(touched.st_mtime, UTC),
        "sha256": sha256,
    }
