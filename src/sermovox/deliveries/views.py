"""Runs as they happen, check sheets, listening and handing over."""

from collections import Counter
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from pathlib import Path

from django.conf import settings
from django.contrib import messages
from django.core.paginator import Paginator
from django.db.models import Count, Q
from django.http import FileResponse, Http404, HttpResponse, StreamingHttpResponse
from django.shortcuts import redirect, render
from django.utils import timezone
from django.utils.http import content_disposition_header
from django.views.decorators.http import require_POST

from mastering.certain import certain
from mastering.editing.roles import APART
from mastering.editing.texts import decoded
from mastering.errors import CannotMake, MasteringError
from mastering.naming.renaming import new_names, read_map
from mastering.outlets import reports
from mastering.outlets.balance import BALANCE
from mastering.outlets.findings import FAIL, REMARK
from mastering.said import Said, together
from mastering.tagging.image_types import mime_of
from sermovox.cutting.spoken import spoken_in
from sermovox.cutting.texts import TIMED_KINDS
from sermovox.cutting.views.texts import words_file
from sermovox.deliveries import archive, check_sheets, manifest, retagging
from sermovox.deliveries.bundles import Bundle, Current, of_run
from sermovox.deliveries.crossings import CHANGED, TO_DO, Board
from sermovox.deliveries.estimates import Proposed, Together, is_to_be_seen, proposed_for, settled_existing
from sermovox.deliveries.fingerprints import UP_TO_DATE, Changes
from sermovox.deliveries.forms import RunForm
from sermovox.deliveries.mending import make_mended, remedy_for
from sermovox.deliveries.models import Delivery, FinishedFile
from sermovox.deliveries.read_aloud import EPUB_TYPE, as_epub, can_be_read_along
from sermovox.deliveries.runs import run_again, start_run
from sermovox.deliveries.tasks import draw_file
from sermovox.outlets.models import outlets_of
from sermovox.productions.models import Naming, Production
from sermovox.recordings.models import Recording
from sermovox.recordings.views import send_waveform
from sermovox.ui.files import send_audio
from sermovox.ui.numerals import whole_numbers
from sermovox.ui.owned import owned
from sermovox.ui.revisions import ELSEWHERE, is_as_seen, revision_of
from sermovox.ui.templatetags.figures import MARKS
from sermovox.work.queue import enqueue_once

State = FinishedFile.State
_LARGEST_MAP_BYTES = 8 << 20
_A_PAGE = 100
_DELIVERIES = Delivery.objects.select_related("production")
_FILES = FinishedFile.objects.select_related("delivery__production", "recording")


def delivery_list(request):
    deliveries = (
        Delivery.objects.of(request.user)
        .select_related("production")
        .annotate(
            file_count=Count("files"),
            pass_count=Count("files", filter=Q(files__state__in=[State.PASSES, State.REMARKS])),
            fail_count=Count("files", filter=Q(files__state__in=[State.FAILS, State.REFUSED])),
        )
        # Counting leaves the order that rows have by themselves aside.
        .order_by("-created_at", "-pk")
    )
    page = Paginator(deliveries, _A_PAGE).get_page(request.GET.get("page"))
    return render(request, "deliveries/list.html", {"page": page})


@require_POST
def start(request, production_id: int):
    """Begin a run."""
    answer, _ = started(request, production_id)
    return answer


def started(request, production_id: int) -> tuple[HttpResponse, list[Delivery]]:
    """Begin a run; where names cannot be used or were used before, or all is up to date, the page that asks comes
    first. The answer, and what was begun.
    """
    production = owned(request, Production.objects, pk=production_id)
    form = RunForm(request.POST, production=production)
    outlets, sections = form.outlets, form.sections
    try:
        if not outlets:
            raise CannotMake(Said("choose-outlet-files"))
        if not sections:
            raise CannotMake(Said("choose-least-one-section-recording"))
        proposed = proposed_for(production, outlets, sections, **form.wishes)
        if form.wants_look or is_to_be_seen(proposed, form.existing_choice):
            return render(request, "deliveries/before.html", _before(production, form, proposed)), []
        existing = settled_existing(proposed, form.existing_choice, remember=form.cleaned_data["remember"])
        deliveries = start_run(production, outlets, sections, existing=existing, **form.wishes)
    except MasteringError as error:
        messages.error(request, str(error))
        return redirect(production), []
    if not deliveries:
        titles = ", ".join(outlet.title for outlet in outlets)
        messages.success(request, Said("every-chosen-section-file-already", titles=titles))
        return redirect(production), []
    return redirect(deliveries[0]), deliveries


def _before(production: Production, form: RunForm, proposed: list[Proposed]) -> dict:
    """What the page shows that comes before a run."""
    return form.wishes | {
        "production": production,
        "proposed": proposed,
        "sections": form.sections,
        "whole": Together(proposed),
        "choices": [choice for choice in Naming.Existing.choices if choice[0]],
        "joined": [each.outlet for each in proposed if each.outlet.joined],
        "keep_binned_days": round(settings.KEEP_BINNED_DAYS),
        "some_left": len(form.sections) < production.sections.count(),
    }


@require_POST
def rename(request, pk: int):
    """Rename finished files by a map: shown first, then done, all or none."""
    delivery = owned(request, _DELIVERIES, pk=pk)
    text = request.POST.get("map", "")
    context = {"delivery": delivery, "map": text}
    try:
        if file := request.FILES.get("file"):
            context["map"] = text = decoded(file.read(_LARGEST_MAP_BYTES))[0]
        pairs = read_map(text)
        if "apply" in request.POST:
            count = delivery.rename(pairs)
            messages.success(request, Said("files-renamed-undo-gives-them", count=count))
            return redirect(delivery)
        names = [file.name for file in delivery.files.standing()]
        after = new_names(names, pairs)
    except MasteringError as error:
        return render(request, "deliveries/rename.html", context | {"wrong": str(error)})
    context["changed"] = [(old, new) for old, new in zip(names, after, strict=True) if old != new]
    return render(request, "deliveries/rename.html", context)


@require_POST
def rename_undo(request, pk: int):
    delivery = owned(request, _DELIVERIES, pk=pk)
    try:
        count = delivery.undo_renaming()
        messages.success(request, Said("files-their-old-names-again", count=count))
    except MasteringError as error:
        messages.error(request, str(error))
    return redirect(delivery)


def rename_map(request, pk: int):
    """The map to fill in: each name as it is, and as the pattern would have it now."""
    delivery = owned(request, _DELIVERIES, pk=pk)
    response = HttpResponse(manifest.rename_map(delivery), content_type="text/csv; charset=utf-8")
    response["Content-Disposition"] = 'attachment; filename="rename.csv"'
    return response


def cover(request, pk: int):
    """The artwork as the outlet wants it."""
    picture = manifest.artwork(of_run(owned(request, _DELIVERIES, pk=pk)))
    if not picture:
        raise Http404
    response = HttpResponse(picture, content_type=mime_of(picture))
    response["Content-Disposition"] = f'attachment; filename="{manifest.named(manifest.COVER, picture)}"'
    return response


def detail(request, pk: int):
    delivery = owned(request, _DELIVERIES, pk=pk)
    renaming = delivery.renamings.filter(undone=False).last()
    context = _run(delivery) | {"renamed": len(renaming.pairs) if renaming else 0}
    return render(request, "deliveries/detail.html", context)


def progress(request, pk: int):
    """The part of the page that changes while files are being made."""
    return render(request, "deliveries/_run.html", _run(owned(request, _DELIVERIES, pk=pk)))


def tags(request, pk: int):
    """What finished files say of themselves beside what the production says now; written into them when asked."""
    delivery = owned(request, _DELIVERIES, pk=pk)
    rows = retagging.compared(delivery)
    seen = revision_of([(row.file.pk, row.lines, row.wrong) for row in rows])
    if request.method == "POST":
        if not is_as_seen(request, seen):
            messages.error(request, ELSEWHERE)
            return redirect("deliveries:tags", pk)
        chosen = set(whole_numbers(request.POST.getlist("file")))
        written, refused = retagging.write(delivery, chosen)
        if written:
            files = Said("files-2", count=written)
            messages.success(request, Said("tags-written-sound-same-byte", files=files))
        for name, reason in refused:
            messages.error(request, Said("of-name", name=name, words=reason))
        return redirect(delivery)
    context = {"delivery": delivery, "rows": rows, "seen": seen, "differing": sum(bool(row.lines) for row in rows)}
    return render(request, "deliveries/tags.html", context)


@require_POST
def cancel(request, pk: int):
    delivery = owned(request, _DELIVERIES, pk=pk)
    delivery.cancel()
    return redirect(delivery)


@require_POST
def again(request, pk: int):
    delivery = owned(request, _DELIVERIES, pk=pk)
    run_again(delivery)
    return redirect(delivery)


def download_all(request, pk: int):
    """Everything of one outlet, or with `?run` of all outlets of its run, as a ZIP."""
    delivery = owned(request, _DELIVERIES, pk=pk)
    deliveries = list(delivery.of_run.select_related("production")) if "run" in request.GET else [delivery]
    bundles = [bundle for bundle in map(of_run, deliveries) if bundle.files]
    return _as_zip(bundles, f"{delivery.production.key}.zip")


def _as_zip(bundles: list[Bundle], name_of_several: str):
    if not bundles:
        raise Http404
    response = StreamingHttpResponse(archive.as_zip(bundles), content_type="application/zip")
    name = bundles[0].archive_name if len(bundles) == 1 else name_of_several
    response["Content-Disposition"] = content_disposition_header(True, name)
    return response


def kept_file(request, pk: int, name: str):
    """One of the files that go with a delivery: manifests, chapter lists, check sheets."""
    return _kept(of_run(owned(request, _DELIVERIES, pk=pk)), name)


def _kept(bundle: Bundle, name: str):
    make, content_type = KEPT[name]
    content = make(bundle)
    if not content:
        raise Http404
    response = HttpResponse(content, content_type=content_type)
    response["Content-Disposition"] = certain(content_disposition_header(name != manifest.CHECK_SHEETS, name))
    return response


def current(request, production_id: int, key: str):
    """The files that stand for a production now at one outlet, held together as a whole."""
    found = _current(request, production_id, key)
    bundle = found.bundle
    together = bundle.together(manifest.asked_extras(bundle)).as_list() if bundle.files else []
    rows = [
        {"wanted": wanted, "file": file, "changes": changes, "state": _standing_state(file, changes)}
        for wanted, file, changes in found.rows
    ]
    changed = [(file, changes) for _, file, changes in found.rows if changes]
    context = {
        "production": found.production,
        "outlet": found.outlet,
        "bundle": bundle,
        "rows": rows,
        "together": together,
        "together_fails": sum(finding["verdict"] == FAIL for finding in together),
        "fails": sum(row["state"] == "fails" for row in rows),
        "changed": len(changed),
        "rewritable": [file for file, changes in changed if changes.rewritable],
        "to_make": sum(_is_needed(row) for row in rows),
        "not_made": sum(row["file"] is None for row in rows),
        "made_bytes": sum(file.figures.get("size_bytes") or 0 for file in bundle.files),
        "made_s": sum(file.figures.get("duration_s") or 0 for file in bundle.files),
        "chapters": found.outlet.chapters and found.outlet.joined,
    }
    return render(request, "deliveries/current.html", context)


def _is_needed(row: dict) -> bool:
    """Whether a file of the present is to be made: it is not there, fails, or has changed in more than its tags."""
    if row["file"] is None:
        return not row["wanted"].sounding.refusal
    return row["file"].state == State.FAILS or bool(row["changes"]) and not row["changes"].rewritable


def _standing_state(file: FinishedFile | None, changes) -> str:
    if file is None:
        return TO_DO
    return CHANGED if changes else file.state


def current_zip(request, production_id: int, key: str):
    """The files that stand for a production now at one outlet, as a ZIP."""
    bundle = _current(request, production_id, key).bundle
    return _as_zip([bundle] if bundle.files else [], bundle.archive_name)


def current_kept(request, production_id: int, key: str, name: str):
    """One of the files that go with them."""
    return _kept(_current(request, production_id, key).bundle, name)


@require_POST
def rewrite(request, production_id: int, key: str):
    """Bring name and tags of those files up to date that need nothing else."""
    found = _current(request, production_id, key)
    files = [file for _, file, changes in found.rows if file and changes and changes.rewritable]
    done, refused = retagging.bring_up_to_date(files)
    if done:
        messages.success(request, Said("files-brought-up-date-sound", count=done))
    for name, reason in refused:
        messages.error(request, Said("of-name", name=name, words=reason))
    return redirect("deliveries:current", production_id, key)


def _current(request, production_id: int, key: str) -> Current:
    production = owned(request, Production.objects, pk=production_id)
    outlet = outlets_of(request.user).get(key)
    if outlet is None:
        raise Http404
    return Current(production, outlet)


@require_POST
def take_back(request, pk: int):
    """Let a replaced file stand again."""
    file = owned(request, _FILES, pk=pk)
    try:
        file.take_back()
        messages.success(request, Said("stands-again-one-had-replaced", name=file.name))
    except CannotMake as error:
        messages.error(request, str(error))
    return redirect(file.delivery)


def _chapters(bundle: Bundle, kind: str) -> bytes:
    return manifest.chapter_files(bundle, kind).get(f"chapters.{kind}", b"")


_NO_WORDS = Said("words-file-not-known-yet")
KEPT = {
    "manifest.csv": (manifest.as_csv, "text/csv; charset=utf-8"),
    "manifest.json": (manifest.as_json, "application/json"),
    "chapters.json": (lambda bundle: _chapters(bundle, "json"), "application/json+chapters"),
    "chapters.txt": (lambda bundle: _chapters(bundle, "txt"), "text/plain; charset=utf-8"),
    manifest.CHECK_SHEETS: (check_sheets.as_html, "text/html; charset=utf-8"),
    "check-sheets.pdf": (check_sheets.as_pdf, "application/pdf"),
    "check-sheets.csv": (lambda bundle: reports.as_csv(check_sheets.sheets_of(bundle)), "text/csv; charset=utf-8"),
    "check-sheets.json": (check_sheets.as_json, "application/json"),
}


def check_sheet(request, pk: int):
    file = owned(request, _FILES, pk=pk)
    if not file.is_made:
        return redirect(file.delivery)
    siblings = list(file.delivery.files.made())
    at = siblings.index(file)
    changes = _changes_to(file)
    # A file that was put together is no recording's finished twin; its section's own screen has how it sounded before.
    recording = file.recording if file.programme is None else None
    compared = [(Said("recording-label"), recording.figures)] if recording else []
    context = {
        "file": file,
        "outlet": file.delivery.outlet,
        "recording": recording,
        "verdict_line": _verdict_line(file),
        "changes": changes,
        "remedy": (remedy := remedy_for(file)),
        "seen": revision_of(remedy.treatment.as_dict()) if remedy else "",
        "hear_from_s": remedy.hear_from_s if remedy else 0,
        "verdict_class": MARKS[file.state],
        "uneven": file.section_id
        and any(each["rule"] == BALANCE and each["verdict"] == REMARK for each in file.findings),
        "compared": [*compared, (Said("finished-file"), file.figures)],
        "timed_kinds": () if file.voice else TIMED_KINDS,
        "read_along": can_be_read_along(file),
        "before": siblings[at - 1] if at else None,
        "after": siblings[at + 1] if at + 1 < len(siblings) else None,
    }
    return render(request, "deliveries/check_sheet.html", context)


@require_POST
def mend(request, pk: int):
    """Allow what mends a failing file, as its check sheet says, and make it again in its place."""
    file = owned(request, _FILES, pk=pk)
    remedy = remedy_for(file)
    if remedy is None or not is_as_seen(request, revision_of(remedy.treatment.as_dict())):
        messages.error(request, ELSEWHERE)
        return redirect(file)
    try:
        delivery = make_mended(file, request.user, remedy)
    except MasteringError as error:
        messages.error(request, str(error))
        return redirect(file)
    allowed = Said("may-now-undo-running-order", title=file.title, words=remedy.words)
    messages.success(request, allowed)
    return redirect(delivery or file)


def _changes_to(file: FinishedFile) -> Changes:
    """What of a file that stands for its section is no longer as its production asks."""
    outlet = outlets_of(file.delivery.production.owner).get(file.delivery.outlet_key)
    if file.replaced_at or file.excerpt or outlet is None:
        return UP_TO_DATE
    crossing = Board(file.delivery.production, [outlet]).at(file.section_id, outlet.key)
    return crossing.changes if crossing.file_id == file.pk else UP_TO_DATE


def audio(request, pk: int):
    return send_audio(request, _made_file(request, pk).path)


def words(request, pk: int, kind: str):
    """The words of a finished file at their times in it, as one of the open formats, or as a book with its sound."""
    file = owned(request, _FILES, pk=pk)
    try:
        said = spoken_in(file.delivery.production, file.programme, file.recording, later_s=file.later_s or 0.0)
        if not said or file.voice:
            raise CannotMake(_NO_WORDS)
    except MasteringError as error:
        messages.error(request, str(error))
        return redirect(file)
    if kind != "epub":
        return words_file(request, said, kind, Path(file.name).stem)
    if not can_be_read_along(file):
        raise Http404
    response = StreamingHttpResponse(as_epub(file, said), content_type=EPUB_TYPE)
    response["Content-Disposition"] = content_disposition_header(True, f"{Path(file.name).stem}.epub")
    return response


def waveform(request, pk: int):
    file = _made_file(request, pk)
    return send_waveform(request, file.waveform_path, lambda: enqueue_once(draw_file, pk, short=True))


def download(request, pk: int):
    file = _made_file(request, pk)
    return FileResponse(file.path.open("rb"), as_attachment=True, filename=file.name)


def _run(delivery: Delivery) -> dict:
    siblings = list(delivery.of_run.annotate(left=_LEFT, made=_MADE))
    # After what is left was counted: a file may end between the two, and the page must then look once more.
    files = list(delivery.files.select_related("recording").prefetch_related("successors").defer(*_UNSEEN_IN_ROWS))
    under_way = any(file.state in _MOVING for file in files)
    progress = _Progress(delivery)
    context = {
        "delivery": delivery,
        "outlet": delivery.outlet,
        "siblings": siblings,
        "waited_for": [each for each in siblings if each.left],
        "rows": _in_order(files),
        "running": any(each.left for each in siblings),
        "own_running": under_way,
        "share": progress.share,
        "seconds_left": progress.seconds_left,
        "summary": _summary(files),
        "fails": sum(file.state == State.FAILS for file in files if not file.replaced_at),
        "refused": sum(file.state == State.REFUSED for file in files),
        "cancelled": sum(file.state == State.CANCELLED for file in files),
    }
    return context | (_to_come(delivery) if under_way else _made(delivery))


@dataclass(frozen=True)
class _InRun:
    """A file of a run, how long it is as far as that is known, and how many are made before it."""

    file: FinishedFile
    length_s: float
    before: int


def _in_order(files: Sequence[FinishedFile]) -> list[_InRun]:
    recordings = Recording.with_deleted.filter(pk__in={file.recording_id for file in files})
    whole = dict(recordings.values_list("pk", "figures__duration_s"))
    lengths = [file.figures.get("duration_s") or whole.get(file.recording_id or 0) or 0.0 for file in files]
    usual_s = sum(lengths) / max(1, sum(length > 0 for length in lengths)) or 1.0
    rows, before = [], 0
    for file, length in zip(files, lengths, strict=True):
        rows.append(_InRun(file, length or usual_s, before))
        before += file.state in _MOVING
    return rows


def _to_come(delivery: Delivery) -> dict:
    """What can be wished for a delivery while its files are being made."""
    outlet = outlets_of(delivery.production.owner).get(delivery.outlet_key)
    return {"receives": outlet is not None and outlet.receives is not None}


def _heard_apart(delivery: Delivery) -> list[str]:
    """The titles of what no file of the whole holds, as it is heard by itself."""
    held = {key for keys in delivery.files.values_list("section_keys", flat=True) for key in keys}
    apart = delivery.production.sections.filter(role__in=APART).exclude(pk__in=held)
    return list(apart.values_list("title", flat=True))


def _made(delivery: Delivery) -> dict:
    """What is told of a delivery's files once none is under way."""
    outlet, bundle = delivery.outlet, of_run(delivery)
    together = bundle.together(manifest.asked_extras(bundle)).as_list()
    return {
        "together": together,
        "together_fails": sum(finding["verdict"] == FAIL for finding in together),
        "common": _common_failures(delivery.files.made().filter(replaced_at=None)),
        "missing": bundle.missing,
        "artwork": outlet.artwork and delivery.production.artwork_sha256,
        "chapters": outlet.chapters and outlet.joined,
        "made_bytes": sum(file.figures.get("size_bytes") or 0 for file in bundle.files),
        "made_count": len(bundle.files),
        "apart": _heard_apart(delivery) if outlet.joined else [],
        "made_s": sum(file.figures.get("duration_s") or 0 for file in bundle.files),
    }


class _Progress:
    """How far the run of a delivery is, over all its outlets."""

    def __init__(self, delivery: Delivery):
        files = FinishedFile.objects.filter(delivery__run=delivery.run).order_by()
        rows = list(files.values_list("state", "share", "started_at", "recording__figures__duration_s"))
        self._weights = [length_s or 1.0 for *_, length_s in rows]
        self._done = [share if state in _MOVING else 1.0 for state, share, *_ in rows]
        self._begun_at = min((started_at for _, _, started_at, _ in rows if started_at), default=None)

    @property
    def share(self) -> float:
        return self._finished_s / (sum(self._weights) or 1.0)

    @property
    def seconds_left(self) -> float | None:
        """From the audio finished so far and the time since the first file began."""
        whole_s, finished_s = sum(self._weights), self._finished_s
        if self._begun_at is None or finished_s < 0.02 * whole_s:
            return None
        elapsed_s = (timezone.now() - self._begun_at).total_seconds()
        return elapsed_s * (whole_s - finished_s) / finished_s

    @property
    def _finished_s(self) -> float:
        return sum(d * w for d, w in zip(self._done, self._weights, strict=True))


_MOVING = (State.WAITING, State.MAKING)
_UNSEEN_IN_ROWS = (
    "recording__figures",
    "recording__remarks",
    "said",
    "follows",
    "section_keys",
    "treatment",
    "steps",
    "remarks",
)
_MADE = Count("files", filter=Q(files__state__in=FinishedFile.MADE))
_LEFT = Count("files", filter=Q(files__state__in=_MOVING))


def _common_failures(files: Iterable[FinishedFile]) -> list[tuple[str, int]]:
    """Which rules fail in how many files, most first."""
    counted = Counter(finding["label"] for file in files for finding in file.failures())
    return counted.most_common()


def _verdict_line(file: FinishedFile) -> str:
    failing = len(file.failures())
    if failing:
        return Said("fails-rules-outlet", failing=failing, count=len(file.findings))
    if file.state == file.State.REMARKS:
        return Said("passes-all-rules-outlet-one", count=len(file.findings))
    return Said("passes-all-rules-outlet", count=len(file.findings))


_COUNTED = {
    FinishedFile.State.PASSES: lambda count: Said("count-files-pass", count=count),
    FinishedFile.State.REMARKS: lambda count: Said("count-pass-with-remark", count=count),
    FinishedFile.State.FAILS: lambda count: Said("count-files-fail", count=count),
    FinishedFile.State.REFUSED: lambda count: Said("count-cannot-be-made", count=count),
    FinishedFile.State.CANCELLED: lambda count: Said("count-were-cancelled", count=count),
}


def _summary(files: list[FinishedFile]) -> str:
    """What became of a run, in one sentence."""
    if all(file.is_made and file.state != file.State.FAILS for file in files):
        return Said("every-file-made-decoded-again", count=len(files))
    counted = Counter(file.state for file in files)
    told = [_COUNTED[state](count) for state in _COUNTED if (count := counted[state])]
    return Said("of-files", count=len(files), told=together(told, ", "))


def _made_file(request, pk: int) -> FinishedFile:
    file = owned(request, _FILES, pk=pk)
    if not file.is_made or not file.path.exists():
        raise Http404
    return file
