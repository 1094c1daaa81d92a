"""Arriving recordings, their slips, and listening to them."""

from django.conf import settings
from django.http import HttpResponse
from django.shortcuts import redirect, render
from django.views.decorators.http import require_POST

from mastering.audio.waveform import columns
from mastering.said import Said
from sermovox.keeping import caches
from sermovox.productions.models import Production
from sermovox.recordings.intake import use
from sermovox.recordings.models import Recording, WatchedFile
from sermovox.recordings.tasks import queue_drawing, queue_measuring
from sermovox.ui.files import send_audio
from sermovox.ui.numerals import whole_number
from sermovox.ui.owned import owned

_MOST_COLUMNS = 20000


def arrivals(request, production_id: int):
    """Uploads that broke off and can be gone on with, and what the watched folder could not give."""
    production = owned(request, Production.objects, pk=production_id)
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
    found = owned(request, WatchedFile.objects, pk=pk)
    WatchedFile.objects.filter(pk=found.pk).update(refusal="")
    return render(request, "recordings/_arrivals.html", arrivals_of(found.production))


def slip(request, pk: int):
    recording = owned(request, Recording.with_deleted, pk=pk)
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
    recording = owned(request, Recording.objects, pk=pk)
    if recording.is_due:
        queue_measuring(recording)
    response = render(request, "recordings/_facts.html", {"recording": recording})
    if not recording.measuring:
        response["HX-Refresh"] = "true"
    return response


def audio(request, pk: int):
    recording = owned(request, Recording.objects, pk=pk)
    if not recording.path.exists():
        return HttpResponse(status=404)
    path = recording.listening_path
    container = recording.figures.get("container", "") if path == recording.path else "flac"
    return send_audio(request, path, container=container)


def waveform(request, pk: int):
    """Pairs of int8, lowest and highest of each column. See `send_waveform`."""
    recording = owned(request, Recording.objects, pk=pk)
    if not recording.path.exists():
        return HttpResponse(status=404)
    return send_waveform(request, recording.waveform_path, lambda: queue_drawing(recording))


@require_POST
def use_again(request, pk: int):
    """Make a section of a recording that has none."""
    recording = owned(request, Recording.objects, pk=pk)
    return redirect(use(recording))


@require_POST
def measure_now(request, pk: int):
    """Do not wait any longer with measuring it."""
    recording = owned(request, Recording.objects, pk=pk)
    if recording.measuring:
        recording.try_now()
        queue_measuring(recording)
    return redirect(recording)


def send_waveform(request, path, draw) -> HttpResponse:
    """Answer with a drawn stretch: `?columns=` says how fine, `start` and `end` which frames (all, when left out).

    Where it is not drawn, `draw` is called and the answer is 202: ask again in a second.
    """
    asked = {name: whole_number(request.GET.get(name)) for name in ("columns", "start", "end")}
    count = min(_MOST_COLUMNS, max(1, asked["columns"] or 2000))
    try:
        drawn = columns(caches.judged(path), count, start_frame=asked["start"] or 0, end_frame=asked["end"])
    except (FileNotFoundError, ValueError):
        draw()
        return HttpResponse(status=202, headers={"Retry-After": "1", "Cache-Control": "no-store"})
    response = HttpResponse(drawn.tobytes(), content_type="application/octet-stream")
    response["Cache-Control"] = "private, max-age=3600"
    return response


def _unlike_rates(recording: Recording) -> list[str]:
    """Which outlets want another sample rate than this recording has, in sentences."""
    rate_hz = recording.figures.get("sample_rate_hz")
    wanted: dict[int, list[str]] = {}
    for outlet in recording.production.outlets.values():
        asked = outlet.encoding_from(recording.figures.get("channels") or 1, content_kind="speech").sample_rate_hz
        if rate_hz and asked != rate_hz:
            wanted.setdefault(asked, []).append(outlet.title)
    return [
        Said("not-rate-asked-hz-hz", rate_hz=rate_hz, asked=asked, titles=", ".join(titles))
        for asked, titles in wanted.items()
    ]
