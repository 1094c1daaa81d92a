"""A text read and heard by its link, by whoever has it, for as long as it works; a remark can be left at each word."""

from datetime import timedelta

from django.contrib import messages
from django.contrib.auth.decorators import login_not_required
from django.db import transaction
from django.http import Http404, JsonResponse
from django.shortcuts import redirect, render
from django.utils import timezone
from django.views.decorators.http import require_POST, require_safe

from mastering.editing.assembly import Stretch
from mastering.editing.pieces import BadCut, Span, check_span
from mastering.errors import MasteringError, UnreadableRecording
from mastering.said import Said
from sermovox.cutting.listening import send_programme
from sermovox.cutting.models import Page
from sermovox.cutting.programmes import Assembly
from sermovox.cutting.views.page import said
from sermovox.proofing.listening import heard_sentences
from sermovox.proofing.models import MOST_REMARKS, Remark, Shared
from sermovox.proofing.sheet import word_at
from sermovox.recordings.models import Recording
from sermovox.ui import words
from sermovox.ui.numerals import whole_number
from sermovox.ui.owned import owned
from sermovox.ui.unseen import unseen

_GONE = 410
_LONGEST_DAYS = 365
_USUAL_DAYS = 14
_RECORDINGS = Recording.objects.select_related("production")


@require_POST
def share(request, pk: int):
    """Make a link to a page for somebody, for so many days."""
    page = Page.of(owned(request, _RECORDINGS, pk=pk))
    days = min(_LONGEST_DAYS, max(1, whole_number(request.POST.get("days")) or _USUAL_DAYS))
    whom = " ".join(request.POST.get("whom", "").split())[:100]
    Shared.objects.create(page=page, made_by=request.user, whom=whom, ends_at=timezone.now() + timedelta(days=days))
    messages.success(request, Said("link-made-whoever-can-read"))
    return redirect("proofing:sheet", pk)


@require_POST
def end(request, pk: int, link: int):
    """Let nobody read it by this link any more."""
    page = Page.of(owned(request, _RECORDINGS, pk=pk))
    found = Shared.objects.filter(page=page, pk=link).first()
    if found is None:
        raise Http404
    found.end()
    messages.success(request, Said("link-ended-what-remarked-stays"))
    return redirect("proofing:sheet", pk)


@require_safe
@login_not_required
def read(request, key: str):
    """The text, to be heard and remarked on."""
    shared = _linked(key)
    recording = shared.page.recording
    context = {"shared": shared, "recording": recording, "works": shared.works}
    if shared.works:
        try:
            _ready(shared)
            context["sentences"] = heard_sentences(shared.page)
            context["noted_words"] = [remark.place.get("start_s", 0.0) for remark in shared.remarks.all()]
        except MasteringError as error:
            context["wrong"] = str(error)
    return unseen(render(request, "proofing/read.html", context, status=200 if shared.works else _GONE))


@require_safe
@login_not_required
@said
def listen(request, key: str):
    """The sound of what remains, from one sample to another."""
    shared = _working(key)
    recording = shared.page.recording
    start, stop = (whole_number(request.GET.get(name)) for name in ("start", "end"))
    if start is None or stop is None:
        raise BadCut(Said("stretch-start-end-samples"))
    stop = min(stop, recording.frames)
    check_span(Span("", start, stop), recording.frames)
    stretch = Stretch(recording=str(recording.pk), start_sample=start, end_sample=stop)
    return unseen(send_programme(request, Assembly(shared.page.production).programme([stretch])))


@require_POST
@login_not_required
@said
def remark(request, key: str):
    """Say something about the word at a time, seconds."""
    shared = _working(key)
    text, called = (" ".join(request.POST.get(name, "").split()) for name in ("text", "called"))
    try:
        at_s = float(request.POST.get("at_s", ""))
    except ValueError as error:
        raise BadCut(Said("choose-word-meant-first")) from error
    if not text:
        raise BadCut(Said("write-what-said-about-word"))
    if not 0 <= at_s <= shared.page.recording.frames / shared.page.sample_rate_hz:
        raise BadCut(Said("lies-outside-recording"))
    with transaction.atomic():
        if shared.remarks.count() >= MOST_REMARKS:
            raise BadCut(Said("there-remarks-link-already-many", most_remarks=MOST_REMARKS))
        place = {"start_s": at_s, "end_s": at_s} | word_at(shared.page, at_s)
        Remark.objects.create(shared=shared, called=called[:60] or str(shared)[:60], text=text[:500], place=place)
    return JsonResponse({"said": words.said(Said("your-remark-there"))})


def _linked(key: str) -> Shared:
    found = Shared.objects.filter(key=key).select_related("page__recording__production", "page__production", "made_by")
    shared = found.first()
    if shared is None:
        raise Http404
    return shared


def _working(key: str) -> Shared:
    shared = _linked(key)
    if not shared.works:
        raise BadCut(Said("link-ended-ask-new-one"))
    _ready(shared)
    return shared


def _ready(shared: Shared) -> None:
    """Raises UnreadableRecording while its recording is measured anew."""
    recording = shared.page.recording
    if not recording.ready:
        raise UnreadableRecording(Said("being-measured-try-again-minute", name=recording.name))
