"""Marks in and out, as text or inside copies of the recording."""

import tempfile
from pathlib import Path

from django.contrib import messages
from django.db import transaction
from django.http import FileResponse, Http404, HttpResponse
from django.shortcuts import redirect
from django.utils.http import content_disposition_header
from django.views.decorators.http import require_POST

from mastering.editing.labels import FORMATS, Label, read_labels, write_labels
from mastering.editing.texts import UnreadableText, decoded
from mastering.errors import MasteringError
from mastering.said import Said
from mastering.tagging.markers import markers_inside, write_markers
from sermovox.cutting import edits
from sermovox.cutting.models import Page
from sermovox.cutting.sectioning import sections_on
from sermovox.cutting.views.page import RECORDINGS
from sermovox.keeping import storage
from sermovox.ui.owned import owned

_LARGEST_TEXT_BYTES = 4 << 20
_SOUND = (".wav", ".mp3", ".m4a", ".m4b", ".mp4")
_TYPES = {"txt": "text/plain", "cue": "text/plain", "csv": "text/csv", "json": "application/json+chapters"}


@require_POST
def bring_in(request, pk: int):
    """Read marks from a file, or from the recording itself, and put them on the page: all or none."""
    recording = owned(request, RECORDINGS, pk=pk)
    try:
        found = Page.of(recording)
        labels = _read(request, found)
        as_sections = request.POST.get("become") == "sections"
        with transaction.atomic():
            words = edits.bring_in_marks(found.looked_at_again(), request.user, labels, as_sections=as_sections)
        messages.success(request, Said("undo-takes-back", words=words))
    except MasteringError as error:
        messages.error(request, str(error))
    return redirect("cutting:page", pk)


def take_out(request, pk: int, name: str):
    """The marks as one of the text formats, or a copy of the recording that carries them."""
    recording = owned(request, RECORDINGS, pk=pk)
    try:
        found = Page.of(recording)
    except MasteringError as error:
        messages.error(request, str(error))
        return redirect("cutting:page", pk)
    stem = Path(recording.name).stem
    labels = labels_of(found)
    if name == "copy":
        return _copy(request, found, labels)
    kind = name.removeprefix("marks.")
    if kind not in FORMATS:
        raise Http404
    response = HttpResponse(
        write_labels(labels, kind, file_name=recording.name), content_type=f"{_TYPES[kind]}; charset=utf-8"
    )
    response["Content-Disposition"] = content_disposition_header(True, f"{stem}.{kind}")
    return response


def labels_of(found: Page) -> list[Label]:
    """Sections and marks of a page, in order of time."""
    rate_hz = found.sample_rate_hz
    sections = [
        Label(stretch.start_sample / rate_hz, stretch.end_sample / rate_hz, section.title)
        for section, _, stretch in sections_on(found)
        if section.is_cut
    ]
    points = [
        Label(mark.start_sample / rate_hz, mark.end_sample / rate_hz, mark.name)
        for mark in found.mark_list
        if mark.kind == "point"
    ]
    return sorted([*sections, *points], key=lambda label: (label.start_s, label.end_s))


def _read(request, found: Page) -> list[Label]:
    duration_s = found.recording.frames / found.sample_rate_hz
    if request.POST.get("from") == "recording":
        return markers_inside(found.recording.path, sample_rate_hz=found.sample_rate_hz, duration_s=duration_s)
    file = request.FILES.get("file")
    if file is None:
        raise UnreadableText(Said("choose-file-marks-first"))
    ending = Path(file.name).suffix.lower()
    if ending in _SOUND:
        with tempfile.NamedTemporaryFile(dir=storage.incoming(), suffix=ending) as kept:
            for chunk in file.chunks():
                kept.write(chunk)
            kept.flush()
            return markers_inside(Path(kept.name), sample_rate_hz=found.sample_rate_hz, duration_s=duration_s)
    kind = ending.removeprefix(".")
    if file.size > _LARGEST_TEXT_BYTES:
        raise UnreadableText(Said("file-too-large-list-marks"))
    return read_labels(decoded(file.read())[0], kind, duration_s=duration_s)


def _copy(request, found: Page, labels: list[Label]):
    recording = found.recording
    if not labels:
        messages.error(request, Said("there-no-marks-page-yet"))
        return redirect(found)
    folder = tempfile.TemporaryDirectory(dir=storage.incoming())
    target = Path(folder.name) / "copy"
    try:
        write_markers(
            recording.path,
            target,
            labels,
            container=recording.figures["container"],
            sample_rate_hz=found.sample_rate_hz,
        )
    except MasteringError as error:
        folder.cleanup()
        messages.error(request, str(error))
        return redirect(found)
    name = Path(recording.name)
    response = FileResponse(target.open("rb"), as_attachment=True, filename=f"{name.stem} with marks{name.suffix}")
    # The open file stays readable until it is sent.
    folder.cleanup()
    return response
