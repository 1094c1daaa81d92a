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

from sermovox.standins.mischief import Mischief
from sermovox.standins.station import USER, mischief_of, received_in


def place() -> Path:
    """The folder of the station's stand-in."""
    return Path(settings.DATA_DIR) / "stand-ins" / "station"


class MischiefForm(forms.Form):
    drops = forms.IntegerField(min_value=0, max_value=99)
    full = forms.BooleanField(required=False)
    refuses = forms.BooleanField(required=False)
    slow = forms.BooleanField(required=False)


def _in_the_demonstration(view):
    """Stand-ins are there in the demonstration alone."""

    @wraps(view)
    def answering(request, *args, **kwargs):
        if not settings.DEMO_SIGN_IN:
            raise Http404
        return view(request, *args, **kwargs)

    return answering


@_in_the_demonstration
def shown(request):
    top = received_in(place())
    files = [
        {
            "name": path.relative_to(top).as_posix(),
            "size_bytes": path.stat().st_size,
            "at": datetime.fromtimestamp(path.stat().st_mtime, UTC),
            "sha256": _sha256(path),
        }
        for path in sorted(top.rglob("*"))
        if path.is_file()
    ]
    context = {
        "files": files,
        "who": USER,
        "port": settings.STAND_IN_PORT,
        "mischief": Mischief.read(mischief_of(place())),
    }
    return render(request, "standins/station.html", context)


@require_POST
@_in_the_demonstration
def mischief(request):
    form = MischiefForm(request.POST)
    if form.is_valid():
        place().mkdir(parents=True, exist_ok=True)
        Mischief(**form.cleaned_data).keep(mischief_of(place()))
    return redirect("standins:station")


@require_POST
@_in_the_demonstration
def empty(request):
    """Throw away what was received."""
    for path in received_in(place()).glob("*"):
        shutil.rmtree(path) if path.is_dir() else path.unlink()
    return redirect("standins:station")


def _sha256(path: Path) -> str:
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()
