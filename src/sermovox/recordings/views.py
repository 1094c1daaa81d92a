"""Arriving recordings, their slips, and listening to them."""

from django.conf import settings
from django.contrib import messages
from django.http import HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_POST

from mastering.audio.waveform import columns
from sermovox import storage
from sermovox.productions.models import Production
from sermovox.recordings.intake import use
from sermovox.recordings.models import Recording, WatchedFile
from sermovox.recordings.tasks import draw_recording
from sermovox.recovery import enqueue_once
from sermovox.ui.files import send_audio
from sermovox.ui.templatetags.figures import size

_MOST_COLUMNS = 20000


def arrivals(request, production_id: int):
    """Uploads that broke off and can be gone on with, and what the watched folder could not give."""
    production = get_object_or_404(Production.objects.of(request.user), pk=production_id)
    return render(request, "recordings/_arrivals.html", arrivals_of(production))


def arrivals_of(production: Production) -> dict:
    """What of a production's intake needs attention."""
    return {
        "production": production,
        "broken_off": [upload for upload in production.uploads.unfinished() if upload.broken_off],
        "not_taken": production.watched_files.exclude(refusal=""),
        "watched": settings.WATCHED_DIR / production.key if settings.WATCHED_DIR else None,
    }


@require_POST
def put_away(request, pk: int):
    """Forget that a file of the watched folder could not be taken in; it is not looked at again."""
    found = get_object_or_404(WatchedFile, pk=pk, production__owner=request.user)
    WatchedFile.objects.filter(pk=found.pk).update(refusal="")
    return render(request, "recordings/_arrivals.html", arrivals_of(found.production))


def stored(request):
    """What is in use on the disk, and what can be freed."""
    unused = Recording.objects.of(request.user).usable().unused().select_related("production").order_by("-size_bytes")
    context = {"use": storage.in_use(), "folder": settings.DATA_DIR, "unused": unused.defer("figures")[:100]}
    return render(request, "recordings/storage.html", context)


@require_POST
def free(request):
    freed = storage.free_cache()
    messages.success(
        request,
        f"{size(freed)} are free again. Waveforms and copies to listen to are made anew when they are wanted."
        if freed
        else "There was nothing to free.",
    )
    return redirect("recordings:storage")


def slip(request, pk: int):
    recording = _mine(request, pk, Recording.with_deleted)
    context = {
        "recording": recording,
        "f": {} if recording.is_deleted else recording.figures,
        "uses": recording.uses(),
        "rates": _unlike_rates(recording) if recording.ready else [],
        "duplicates": recording.duplicates(),
    }
    return render(request, "recordings/slip.html", context)


def slip_facts(request, pk: int):
    """The facts alone, asked for again while they are being measured; then the page comes anew, with the player."""
    recording = _mine(request, pk)
    response = render(request, "recordings/_facts.html", {"recording": recording})
    if not recording.measuring:
        response["HX-Refresh"] = "true"
    return response


def audio(request, pk: int):
    recording = _mine(request, pk)
    if not recording.path.exists():
        return HttpResponse(status=404)
    path = recording.listening_path
    container = recording.figures.get("container", "") if path == recording.path else "flac"
    return send_audio(request, path, container=container)


def waveform(request, pk: int):
    """Pairs of int8, lowest and highest of each column. See `send_waveform`."""
    recording = _mine(request, pk)
    if not recording.path.exists():
        return HttpResponse(status=404)
    return send_waveform(request, recording.waveform_path, lambda: enqueue_once(draw_recording, pk))


@require_POST
def use_again(request, pk: int):
    """Make a section of a recording that has none."""
    recording = _mine(request, pk)
    return redirect(use(recording))


@require_POST
def delete(request, pk: int):
    """Delete a recording, once it was said where it is used."""
    recording = _mine(request, pk)
    production = recording.production
    if recording.state == Recording.State.REFUSED:
        recording.sections.all().delete()
        recording.delete()
        return redirect(production)
    if "sure" not in request.POST:
        context = {"recording": recording, "production": production, "uses": recording.uses()}
        context |= {"file_count": recording.file_count, "duplicates": recording.duplicates()}
        return render(request, "recordings/delete.html", context)
    recording.put_away()
    messages.success(request, f"{recording.name} is deleted.")
    return redirect(production)


def send_waveform(request, path, draw) -> HttpResponse:
    """Answer with a drawn stretch: `?columns=` says how fine, `start` and `end` which frames (all, when left out).

    Where it is not drawn, `draw` is called and the answer is 202: ask again in a second.
    """
    asked = {name: _number(request.GET.get(name)) for name in ("columns", "start", "end")}
    count = min(_MOST_COLUMNS, max(1, asked["columns"] or 2000))
    try:
        drawn = columns(path, count, start_frame=asked["start"] or 0, end_frame=asked["end"])
    except (FileNotFoundError, ValueError):
        draw()
        return HttpResponse(status=202, headers={"Retry-After": "1", "Cache-Control": "no-store"})
    response = HttpResponse(drawn.tobytes(), content_type="application/octet-stream")
    response["Cache-Control"] = "private, max-age=3600"
    return response


def _number(text: str | None) -> int | None:
    return int(text) if text and text.isdecimal() and len(text) < 16 else None


def _unlike_rates(recording: Recording) -> list[str]:
    """Which outlets want another sample rate than this recording has, in sentences."""
    rate_hz = recording.figures.get("sample_rate_hz")
    wanted: dict[int, list[str]] = {}
    for outlet in recording.production.outlets.values():
        asked = outlet.encoding_from(recording.figures.get("channels") or 1, content_kind="speech").sample_rate_hz
        if rate_hz and asked != rate_hz:
            wanted.setdefault(asked, []).append(outlet.title)
    return [
        f"Not the rate asked: it has {rate_hz} Hz, and {asked} Hz are wanted by {', '.join(titles)}. It is converted."
        for asked, titles in wanted.items()
    ]


def _mine(request, pk: int, among=Recording.objects) -> Recording:
    return get_object_or_404(among.filter(production__owner=request.user), pk=pk)
