"""The page: looking, listening, and every edit."""

import base64
import json
import zlib
from dataclasses import asdict
from functools import wraps

import numpy as np
from django.db import transaction
from django.http import HttpResponse, JsonResponse
from django.shortcuts import render
from django.utils.translation import get_language
from django.views.decorators.http import require_POST

from mastering.audio.reader import Reader
from mastering.audio.waveform import columns
from mastering.editing.assembly import Stretch
from mastering.editing.markkinds import MARK_KINDS
from mastering.editing.pauses import longer_than, longest, remaining
from mastering.editing.pieces import BadCut, Span, check_span
from mastering.editing.snapping import REACH_S, middle_of_pause, nearest_zero
from mastering.errors import MasteringError, UnreadableRecording
from mastering.said import Said
from sermovox.cutting import bytext, edits
from sermovox.cutting.listening import send_programme
from sermovox.cutting.models import Page, pauses_of
from sermovox.cutting.programmes import Assembly
from sermovox.cutting.sectioning import sections_on
from sermovox.cutting.tasks import look_for_retakes, retakes_path
from sermovox.cutting.texts import TIMED_KINDS, Words, rows_of
from sermovox.cutting.texts import state_of as texts_state
from sermovox.history.changing import last_change, next_change
from sermovox.keeping import caches
from sermovox.recordings.models import Recording
from sermovox.scripts.models import languages_to_choose, tag_of
from sermovox.ui import words
from sermovox.ui.numerals import whole_number, whole_numbers
from sermovox.ui.owned import owned
from sermovox.work.queue import enqueue_once

RECORDINGS = Recording.objects.select_related("production")
_MOST_SAMPLES = 100_000
_OTHERS_SHOWN = 400
LINE_SECONDS = [5, 8, 10, 15, 20, 30, 45, 60, 120]
"""How long a line may last, seconds."""
_DEFAULT_PER_LINE = 5
_PER_LINE_WITH_WORDS = 0
"""So that each word has its place under its ink."""
_FIRST_LINES = 7
"""A short recording has shorter lines, so that it fills as many."""
_GROUP_LINES, _COLUMNS = 6, 1024
"""How the page asks for waveforms; see static/js/page/peaks.js."""
_MODULES = [
    f"js/page/{name}.js"
    for name in ("store", "peaks", "lines", "edits", "lens", "notes", "overview", "sound", "script", "text")
]
"""Fetched with the page, not when the script that wants them has come."""
_GONE = Said("file-recording-no-longer-there")
_ELSEWHERE = Said("page-changed-another-window-somebody")


def said(view):
    """Answer with the sentence of what cannot be done, and nothing done."""

    @wraps(view)
    def answering(request, *args, **kwargs):
        try:
            return view(request, *args, **kwargs)
        except UnreadableRecording as error:
            return JsonResponse({"said": words.said(str(error))}, status=422)
        except MasteringError as error:
            return JsonResponse({"said": words.said(str(error))}, status=400)
        except FileNotFoundError:
            return JsonResponse({"said": words.said(_GONE)}, status=422)

    return answering


def page(request, pk: int):
    recording = owned(request, RECORDINGS, pk=pk)
    context = {"recording": recording, "production": recording.production, "modules": _MODULES}
    try:
        found = Page.of(recording)
        others = recording.production.recordings.filter(state=Recording.State.READY).exclude(pk=pk).order_by("name")
        context["others"] = others = list(others.defer("remarks")[:_OTHERS_SHOWN])
        context["others_facts"] = [
            {
                "pk": other.pk,
                "name": other.name,
                "rate": other.rate_hz,
                "seconds": round(other.figures["duration_s"], 2),
            }
            for other in others
        ]
        own = Words(found)
        own.queue()
        context["per_line"] = per_line = _per_line(request, recording, with_words=own.text is not None)
        context["peaks"] = _first_peaks(recording, LINE_SECONDS[per_line])
        context["line_seconds"] = LINE_SECONDS
        context |= _text_and_words(own, 2 * _GROUP_LINES * LINE_SECONDS[per_line])
        context["start"] = state_of(found)
        context |= {"buttons": [kind for kind in MARK_KINDS.values() if kind.button], "mark_kinds": _mark_kinds()}
    except MasteringError as error:
        context["wrong"] = str(error)
    return render(request, "cutting/page.html", context)


@said
def state(request, pk: int):
    """How the page is; 204 where that is as known."""
    found = state_of(Page.of(owned(request, RECORDINGS, pk=pk)))
    if request.GET.get("known") == found["revision"]:
        return HttpResponse(status=204)
    return JsonResponse(found)


@require_POST
@said
def do(request, pk: int):
    """One edit. It says which revision it was made for; where the page is another by now, nothing is done (409)."""
    found, values = Page.of(owned(request, RECORDINGS, pk=pk)), _values(request)
    with transaction.atomic():
        known = state_of(found.looked_at_again())
        if values.get("revision") != known["revision"]:
            return JsonResponse(known | {"said": words.said(_ELSEWHERE)}, status=409)
        said = edits.do(found, request.user, str(values.get("op", "")), values)
        return JsonResponse(state_of(found.looked_at_again()) | {"said": words.said(said)})


@require_POST
@said
def mark_here(request, pk: int):
    """Set a mark without a name, at so many seconds, for whoever listens and has not the page before her."""
    found = Page.of(owned(request, RECORDINGS, pk=pk))
    try:
        at = round(float(request.POST.get("seconds", "")) * found.sample_rate_hz)
    except (ValueError, OverflowError) as error:
        raise BadCut(Said("time-cannot-read")) from error
    with transaction.atomic():
        values = {"kind": "point", "start": at, "end": at}
        return JsonResponse({"said": words.said(edits.do(found.looked_at_again(), request.user, "mark", values))})


@said
def pauses(request, pk: int):
    """Where the pauses are, in samples, by the level and shortest length asked for."""
    recording = owned(request, RECORDINGS, pk=pk)
    found = pauses_of(recording, **edits.pause_settings(request.GET))
    rate_hz = recording.rate_hz
    answer = {
        "starts": np.rint(found.starts_s * rate_hz).astype(int).tolist(),
        "ends": np.minimum(np.rint(found.ends_s * rate_hz), recording.frames).astype(int).tolist(),
        "level_db": _finite(found.level_db),
        "noise_db": _finite(found.noise_db),
        "between": len(found.inner()),
    }
    return JsonResponse(answer)


@require_POST
@said
def propose(request, pk: int):
    """Where sections would begin, or what dead air would go; nothing is changed."""
    found = Page.of(owned(request, RECORDINGS, pk=pk))
    values = _values(request)
    rate_hz = found.sample_rate_hz
    if values.get("what") == "shorten":
        marks = [mark for mark in edits.dead_air(found, values) if mark.kind == "strike"]
        spans = [[mark.start_sample, mark.end_sample] for mark in marks]
        saved_s = sum(mark.samples for mark in marks) / rate_hz
        return JsonResponse(
            {"spans": spans, "said": words.said(Said("pauses-s-shorter-all", count=len(spans), saved_s=saved_s))}
        )
    if values.get("by") == "text":
        return JsonResponse(_by_text(found))
    pauses = remaining(pauses_of(found.recording, **edits.pause_settings(values)), edits.strikes_s(found))
    try:
        if values.get("by") == "count":
            cuts_s = longest(pauses, int(values.get("sections", 0)))
        else:
            cuts_s = longer_than(pauses, float(values.get("longer_than_s", 2)))
    except (TypeError, ValueError) as error:
        raise BadCut(Said("write-how-many-sections-how")) from error
    if len(cuts_s) >= edits.MOST_SECTIONS:
        raise BadCut(Said("these-would-more-than-sections-let", most_sections=edits.MOST_SECTIONS))
    cuts = [round(float(at) * rate_hz) for at in cuts_s]
    odd = edits.odd_sections(found, cuts, from_end=bool(values.get("from_end"))) if cuts else []
    said = words.said(Said("cuts-so-sections", count=len(cuts), cuts_count_2=len(cuts) + 1))
    return JsonResponse({"cuts": cuts, "said": said, "odd": words.said_each(odd)})


def _by_text(found: Page) -> dict:
    """The sections of the text: where each begins and ends, and what is unsure about it."""
    own = Words(found)
    sections = bytext.proposed(own)
    read = [each for each in sections if each.span]
    shaky = sum(bool(each.unsure) for each in read)
    left_out = len(sections) - len(read)
    told = (
        Said("sections-heard-first-not-read", count=len(read), shaky=shaky, left_out=left_out)
        if sections
        else Said("no-section")
    )
    return {
        "key": own.key,
        "cuts": sorted(each.span[0] for each in read if each.span),
        "said": words.said(told),
        "sections": [
            {
                "title": each.entry.title or each.entry.name,
                "name": each.entry.name,
                "span": each.span,
                "unsure": [words.said(reason) for reason in each.unsure],
            }
            for each in sections
        ],
    }


@said
def samples(request, pk: int):
    """Samples of a stretch as float32, the mean of the channels, for the magnifier."""
    recording = owned(request, RECORDINGS, pk=pk)
    start, end = _bounds(request, recording)
    if end - start > _MOST_SAMPLES:
        raise BadCut(Said("too-much-magnify"))
    with Reader(recording.path) as reader:
        found = [block.mean(axis=1) for block in reader.stretch(start, end)]
    sound = np.concatenate(found) if found else np.zeros(0, np.float32)
    response = HttpResponse(sound.astype("<f4").tobytes(), content_type="application/octet-stream")
    response["Cache-Control"] = "private, max-age=3600"
    return response


@said
def snap(request, pk: int):
    """Where marks at these samples are best set: `to` is "zero" or "pause"."""
    recording = owned(request, RECORDINGS, pk=pk)
    rate_hz, frames = recording.rate_hz, recording.frames
    places = [min(frames, at) for at in whole_numbers(request.GET.getlist("at"))]
    settled = []
    for at in places[:4]:
        if request.GET.get("to") == "pause":
            settings = edits.pause_settings(request.GET)
            settled.append(
                min(frames, round(middle_of_pause(pauses_of(recording, **settings), at / rate_hz) * rate_hz))
            )
            continue
        start, end = max(0, at - round(REACH_S * rate_hz)), min(frames, at + round(REACH_S * rate_hz))
        with Reader(recording.path) as reader:
            blocks = list(reader.stretch(start, end)) if end > start else []
        settled.append(start + nearest_zero(np.concatenate(blocks), at - start) if blocks else at)
    return JsonResponse({"at": settled})


@said
def listen(request, pk: int):
    """The sound from one sample to another: as recorded, or, with `mode=remains`, as it will sound."""
    recording = owned(request, RECORDINGS, pk=pk)
    found = Page.of(recording)
    start, end = _bounds(request, recording)
    check_span(Span("", start, end), recording.frames)
    stretch = Stretch(recording=str(pk), start_sample=start, end_sample=end)
    made = Assembly(found.production)
    if request.GET.get("mode") == "remains":
        return send_programme(request, made.programme([stretch]))
    return send_programme(request, made.as_recorded(stretch))


@said
def retakes(request, pk: int):
    """Lines that were spoken more than once; 202 while they are being looked for."""
    recording = owned(request, RECORDINGS, pk=pk)
    try:
        found = json.loads(caches.read(retakes_path(recording)))
        return JsonResponse(found | {"said": words.said(found["said"])} if "said" in found else found)
    except (FileNotFoundError, ValueError):
        pauses_of(recording)
        enqueue_once(look_for_retakes, pk)
        return JsonResponse({"said": words.said(Said("takes-being-held-against-each"))}, status=202)


def state_of(found: Page) -> dict:
    """All a page shows beside the sound, with a revision that changes whenever any of it does."""
    sections = [
        {
            "section": section.pk,
            "stretch": at,
            "title": section.title,
            "what": section.in_words,
            "start": stretch.start_sample,
            "end": stretch.end_sample,
            "place": section.position,
            "of": len(section.made_of),
        }
        for section, at, stretch in sections_on(found)
    ]
    beside = found.production.recordings.in_bulk([lane["recording"] for lane in found.lanes])
    undoable, redoable = last_change(found.production), next_change(found.production)
    shown = {
        "marks": found.marks,
        "sections": sections,
        "lanes": [lane | _lane_facts(beside.get(lane["recording"])) for lane in found.lanes],
        "sides": found.sides,
        "separate": bool(found.facts.get("separate")),
        "tone": found.tone,
        "text": found.facts.get("script"),
        "waiting": found.production.sections.waiting().count(),
    }
    revision = f"{found.revision}.{zlib.crc32(json.dumps(shown).encode())}"
    return shown | {
        "revision": revision,
        "sections": [section | {"what": words.said(section["what"])} for section in sections],
        "undo": words.said(undoable.words) if undoable else None,
        "redo": words.said(redoable.words) if redoable else None,
    }


def _text_and_words(own: Words, first_s: float) -> dict:
    """The text of a page, and its words as far as the lines go that are seen first."""
    rows = rows_of(own.heard, until_s=first_s) if own.heard else {}
    script = own.text.script if own.text else None
    language = own.text.language if own.text else tag_of(own.page.production.language)
    told = {"words": texts_state(own) | rows, "script": script, "timed_kinds": TIMED_KINDS}
    return told | {"language": language, "languages": languages_to_choose(get_language() or "en")}


def _mark_kinds() -> list[dict]:
    """The kinds of marks, as the page's script wants to know them."""
    told = ("name", "action", "said", "drawn", "heard")
    return [
        {name: getattr(kind, name) for name in told}
        | {"said": words.said(kind.said)}
        | {"button": bool(kind.button), "value": kind.value and _value_asked(kind.value)}
        for kind in MARK_KINDS.values()
    ]


def _value_asked(value) -> dict:
    return asdict(value) | {"asks": words.said(value.asks), "refusal": words.said(value.refusal)}


def _lane_facts(recording: Recording | None) -> dict:
    if recording is None:
        return {"name": words.said(Said("recording-gone")), "frames": 0}
    return {"name": recording.name, "frames": recording.frames}


def _per_line(request, recording: Recording, *, with_words: bool) -> int:
    """Which of LINE_SECONDS a page begins with: as one with words, or one without, was last read, but not so long that
    all is in a few lines.
    """
    kept = request.COOKIES.get("sermovox-lines-words" if with_words else "sermovox-lines", "")
    usual = _PER_LINE_WITH_WORDS if with_words else _DEFAULT_PER_LINE
    chosen = int(kept) if kept in map(str, range(len(LINE_SECONDS))) else usual
    duration_s = recording.frames / recording.rate_hz
    most = max((at for at, line_s in enumerate(LINE_SECONDS) if duration_s / line_s >= _FIRST_LINES), default=0)
    return min(chosen, most)


def _first_peaks(recording: Recording, line_s: int) -> list[str]:
    """The drawn shape of the lines that are seen first, so that they need not be asked for; base64."""
    line_frames, frames = line_s * recording.rate_hz, recording.frames
    found = []
    for group in range(2):
        start, end = group * _GROUP_LINES * line_frames, min(frames, (group + 1) * _GROUP_LINES * line_frames)
        if start < end:
            count = -(-(end - start) * _COLUMNS // line_frames)
            try:
                drawn = columns(caches.judged(recording.waveform_path), count, start_frame=start, end_frame=end)
            except (OSError, ValueError):
                return []
            found.append(base64.b64encode(drawn.tobytes()).decode())
    return found


def _values(request) -> dict:
    try:
        values = json.loads(request.body)
    except (ValueError, RecursionError) as error:
        raise BadCut(Said("page-sent-something-cannot-read")) from error
    if not isinstance(values, dict):
        raise BadCut(Said("page-sent-something-cannot-read"))
    return values


def _bounds(request, recording: Recording) -> tuple[int, int]:
    start, end = (whole_number(request.GET.get(name)) for name in ("start", "end"))
    if start is None or end is None:
        raise BadCut(Said("stretch-start-end-samples"))
    return start, min(end, recording.frames)


def _finite(value: float) -> float | None:
    return round(value, 1) if abs(value) < 1000 else None
