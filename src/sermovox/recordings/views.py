"""Arriving recordings, their slips, and listening to them."""

from urllib.parse import unquote

from django.http import HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_POST

from mastering.audio.waveform import columns
from mastering.errors import MasteringError
from sermovox.productions.models import Production
from sermovox.recordings.intake import take_in, use
from sermovox.recordings.models import Recording
from sermovox.ui.files import send_audio

_CHUNK_BYTES = 1 << 20
_MOST_COLUMNS = 20000


@require_POST
def upload(request, production_id: int):
    """Take in the body of the request as one file, named in the X-File-Name header (percent-encoded)."""
    production = get_object_or_404(Production.objects.of(request.user), pk=production_id)
    name = unquote(request.headers.get("X-File-Name", ""))
    expected = request.headers.get("Content-Length", "")
    try:
        taken = take_in(
            production,
            name,
            iter(lambda: request.read(_CHUNK_BYTES), b""),
            expected_bytes=int(expected) if expected.isdigit() else None,
        )
    except MasteringError as error:
        return JsonResponse({"problem": str(error)}, status=422)
    note = f"This is the same file as “{taken.recording.name}”, which is here already." if taken.known else ""
    return JsonResponse({"recording": taken.recording.pk, "note": note})


def slip(request, pk: int):
    recording = _mine(request, pk)
    return render(request, "recordings/slip.html", {"recording": recording})


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
    """Pairs of int8, lowest and highest of each column."""
    return send_waveform(request, _mine(request, pk).waveform_path)


@require_POST
def use_again(request, pk: int):
    """Make a section of a recording that has none."""
    recording = _mine(request, pk)
    return redirect(use(recording))


@require_POST
def delete(request, pk: int):
    recording = _mine(request, pk)
    production = recording.production
    if recording.state == Recording.State.REFUSED:
        recording.sections.all().delete()
    recording.delete()
    return redirect(production)


def send_waveform(request, path) -> HttpResponse:
    """Answer with a drawn-down waveform; `?columns=` says how fine."""
    asked = request.GET.get("columns", "")
    count = min(_MOST_COLUMNS, max(1, int(asked))) if asked.isdigit() else 2000
    if not path.exists():
        return HttpResponse(status=404)
    response = HttpResponse(columns(path, count).tobytes(), content_type="application/octet-stream")
    response["Cache-Control"] = "private, max-age=3600"
    return response


def _mine(request, pk: int) -> Recording:
    return get_object_or_404(Recording.objects.of(request.user), pk=pk)
