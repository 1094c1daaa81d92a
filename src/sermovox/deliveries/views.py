"""Runs as they happen, check sheets, listening and handing over."""

from collections import Counter

from django.contrib import messages
from django.db.models import Count, Q
from django.http import FileResponse, Http404, HttpResponse, StreamingHttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.utils import timezone
from django.utils.http import content_disposition_header
from django.views.decorators.http import require_POST

from mastering.editing.texts import decoded
from mastering.errors import CannotMake, MasteringError
from mastering.naming.renaming import new_names, read_map
from mastering.outlets.checksheet import FAIL
from mastering.tagging.pictures import mime_of
from sermovox.deliveries import manifest, retagging, sheets
from sermovox.deliveries.estimates import Wanted, Whole
from sermovox.deliveries.models import Delivery, FinishedFile
from sermovox.deliveries.tasks import draw_file
from sermovox.outlets.models import outlets_of
from sermovox.productions.models import Naming, Production
from sermovox.recordings.views import send_waveform
from sermovox.recovery import enqueue_once
from sermovox.ui.files import send_audio
from sermovox.ui.templatetags.figures import MARKS

_LARGEST_MAP_BYTES = 8 << 20


def delivery_list(request):
    deliveries = (
        Delivery.objects.of(request.user)
        .select_related("production")
        .annotate(
            file_count=Count("files"),
            pass_count=Count("files", filter=Q(files__state__in=["passes", "passes with a remark"])),
            fail_count=Count("files", filter=Q(files__state__in=["fails", "cannot be made"])),
        )
    )
    return render(request, "deliveries/list.html", {"deliveries": deliveries[:100]})


@require_POST
def start(request, production_id: int):
    """Begin a run; where names cannot be used or were used before, the page that asks about it comes first."""
    production = get_object_or_404(Production.objects.of(request.user), pk=production_id)
    keys = {int(key) for key in request.POST.getlist("section") if key.isdigit()}
    all_sections = production.sections.select_related("recording").defer("script")
    if "everywhere" in request.POST:
        sections = [section for section in all_sections if section.recording and section.recording.ready]
    else:
        sections = [section for section in all_sections if section.pk in keys]
    known = outlets_of(request.user)
    outlets = [known[key] for key in dict.fromkeys(request.POST.getlist("outlet")) if key in known]
    if not outlets:
        messages.error(request, "Choose the outlet the files are for.")
        return redirect(production)
    if not sections:
        messages.error(request, "Choose at least one section that has a recording.")
        return redirect(production)
    try:
        wanted = [Wanted(production, outlet, sections) for outlet in outlets]
    except MasteringError as error:
        messages.error(request, str(error))
        return redirect(production)
    asked = request.POST.get("existing", "")
    asked = asked if asked in Naming.Existing.values else ""
    unsettled = any(
        each.plan.problems or (each.plan.conflicts and not asked and not each.naming.existing) for each in wanted
    )
    if unsettled or "look" in request.POST:
        context = {"production": production, "wanted": wanted, "sections": sections, "whole": Whole(wanted)}
        context["choices"] = [choice for choice in Naming.Existing.choices if choice[0]]
        return render(request, "deliveries/before.html", context)
    if asked and "remember" in request.POST:
        for each in wanted:
            each.naming.existing = asked
            each.naming.save()
    existing = {each.outlet.key: asked or each.naming.existing for each in wanted}
    try:
        deliveries = Delivery.start(production, outlets, sections, existing=existing)
    except CannotMake as error:
        messages.error(request, str(error))
        return redirect(production)
    if not deliveries:
        titles = ", ".join(outlet.title for outlet in outlets)
        messages.success(request, f"Every chosen section has its file for {titles} already; nothing was made.")
        return redirect(production)
    return redirect(deliveries[0])


@require_POST
def rename(request, pk: int):
    """Rename finished files by a map: shown first, then done, all or none."""
    delivery = _mine(request, pk)
    text = request.POST.get("map", "")
    context = {"delivery": delivery, "map": text}
    try:
        if file := request.FILES.get("file"):
            context["map"] = text = decoded(file.read(_LARGEST_MAP_BYTES))[0]
        pairs = read_map(text)
        if "apply" in request.POST:
            count = delivery.rename(pairs)
            messages.success(request, f"{count} files are renamed. Undo gives them their old names back.")
            return redirect(delivery)
        names = [file.name for file in delivery.files.made()]
        after = new_names(names, pairs)
    except MasteringError as error:
        return render(request, "deliveries/rename.html", context | {"wrong": str(error)})
    context["changed"] = [(old, new) for old, new in zip(names, after, strict=True) if old != new]
    return render(request, "deliveries/rename.html", context)


@require_POST
def rename_undo(request, pk: int):
    delivery = _mine(request, pk)
    try:
        count = delivery.undo_renaming()
        messages.success(request, f"{count} files have their old names again.")
    except MasteringError as error:
        messages.error(request, str(error))
    return redirect(delivery)


def rename_map(request, pk: int):
    """The map to fill in: each name as it is, and as the pattern would have it now."""
    delivery = _mine(request, pk)
    response = HttpResponse(manifest.rename_map(delivery), content_type="text/csv; charset=utf-8")
    response["Content-Disposition"] = 'attachment; filename="rename.csv"'
    return response


def cover(request, pk: int):
    """The artwork as the outlet wants it."""
    picture = manifest.artwork(_mine(request, pk))
    if not picture:
        raise Http404
    response = HttpResponse(picture, content_type=mime_of(picture))
    response["Content-Disposition"] = f'attachment; filename="{manifest.named(manifest.COVER, picture)}"'
    return response


def detail(request, pk: int):
    delivery = _mine(request, pk)
    renaming = delivery.renamings.filter(undone=False).last()
    context = _run(delivery) | {"renamed": len(renaming.pairs) if renaming else 0}
    return render(request, "deliveries/detail.html", context)


def progress(request, pk: int):
    """The part of the page that changes while files are being made."""
    return render(request, "deliveries/_run.html", _run(_mine(request, pk)))


def tags(request, pk: int):
    """What finished files say of themselves beside what the production says now; written into them when asked."""
    delivery = _mine(request, pk)
    if request.method == "POST":
        chosen = {int(key) for key in request.POST.getlist("file") if key.isdigit()}
        written, refused = retagging.write(delivery, chosen)
        if written:
            files = f"{written} file{'s' * (written != 1)}"
            messages.success(request, f"The tags of {files} are written. The sound is the same to the byte.")
        for name, reason in refused:
            messages.error(request, f"{name}: {reason}")
        return redirect(delivery)
    rows = retagging.compared(delivery)
    context = {"delivery": delivery, "rows": rows, "differing": sum(bool(row.lines) for row in rows)}
    return render(request, "deliveries/tags.html", context)


@require_POST
def cancel(request, pk: int):
    delivery = _mine(request, pk)
    delivery.cancel()
    return redirect(delivery)


@require_POST
def again(request, pk: int):
    delivery = _mine(request, pk)
    delivery.run_again()
    return redirect(delivery)


def download_all(request, pk: int):
    """Everything of one outlet, or with `?run` of all outlets of its run, as a ZIP."""
    delivery = _mine(request, pk)
    deliveries = list(delivery.of_run.select_related("production")) if "run" in request.GET else [delivery]
    deliveries = [each for each in deliveries if each.files.made().exists()]
    if not deliveries:
        raise Http404
    response = StreamingHttpResponse(manifest.as_zip(deliveries), content_type="application/zip")
    name = delivery.archive_name if len(deliveries) == 1 else f"{delivery.production.key}.zip"
    response["Content-Disposition"] = content_disposition_header(True, name)
    return response


def kept_file(request, pk: int, name: str):
    """One of the files that go with a delivery: manifests, chapter lists, check sheets."""
    delivery = _mine(request, pk)
    make, content_type = KEPT[name]
    content = make(delivery)
    if not content:
        raise Http404
    response = HttpResponse(content, content_type=content_type)
    response["Content-Disposition"] = content_disposition_header(name != manifest.CHECK_SHEETS, name)
    return response


def _chapters(delivery: Delivery, kind: str) -> bytes:
    return manifest.chapter_files(delivery, kind).get(f"chapters.{kind}", b"")


KEPT = {
    "manifest.csv": (manifest.as_csv, "text/csv; charset=utf-8"),
    "manifest.json": (manifest.as_json, "application/json"),
    "chapters.json": (lambda delivery: _chapters(delivery, "json"), "application/json+chapters"),
    "chapters.txt": (lambda delivery: _chapters(delivery, "txt"), "text/plain; charset=utf-8"),
    manifest.CHECK_SHEETS: (sheets.as_html, "text/html; charset=utf-8"),
    "check-sheets.pdf": (sheets.as_pdf, "application/pdf"),
    "check-sheets.csv": (lambda delivery: sheets.as_csv(sheets.sheets_of(delivery)), "text/csv; charset=utf-8"),
    "check-sheets.json": (sheets.as_json, "application/json"),
}


def check_sheet(request, pk: int):
    file = _my_file(request, pk)
    if not file.is_made:
        return redirect(file.delivery)
    siblings = list(file.delivery.files.made())
    at = siblings.index(file)
    # A file that was put together is no recording's finished twin; its section's own screen has how it sounded before.
    recording = file.recording if file.programme is None else None
    compared = [("Recording", recording.figures)] if recording else []
    context = {
        "file": file,
        "outlet": file.delivery.outlet,
        "recording": recording,
        "verdict_line": _verdict_line(file),
        "verdict_class": MARKS[file.state],
        "compared": [*compared, ("Finished file", file.figures)],
        "before": siblings[at - 1] if at else None,
        "after": siblings[at + 1] if at + 1 < len(siblings) else None,
    }
    return render(request, "deliveries/check_sheet.html", context)


def audio(request, pk: int):
    return send_audio(request, _made_file(request, pk).path)


def waveform(request, pk: int):
    file = _made_file(request, pk)
    return send_waveform(request, file.waveform_path, lambda: enqueue_once(draw_file, pk))


def download(request, pk: int):
    file = _made_file(request, pk)
    return FileResponse(file.path.open("rb"), as_attachment=True, filename=file.name)


def _run(delivery: Delivery) -> dict:
    files = list(delivery.files.select_related("recording"))
    under_way = [file for file in files if file.state in (file.State.WAITING, file.State.MAKING)]
    weights = [(file.recording.figures.get("duration_s") if file.recording else 0) or 1.0 for file in files]
    done = [1.0 if file not in under_way else file.share for file in files]
    share = sum(d * w for d, w in zip(done, weights, strict=True)) / (sum(weights) or 1.0)
    outlet = delivery.outlet
    together = [] if under_way else delivery.together(manifest.asked_extras(delivery)).findings
    return {
        "delivery": delivery,
        "outlet": outlet,
        "siblings": list(delivery.of_run.annotate(left=_LEFT)),
        "together": together,
        "together_fails": sum(finding.verdict == FAIL for finding in together),
        "common": _common_failures(files),
        "files": files,
        "artwork": outlet.artwork and delivery.production.artwork_sha256,
        "chapters": outlet.chapters and outlet.joined,
        "running": bool(under_way),
        "share": share,
        "seconds_left": _seconds_left(files, weights, done),
        "summary": _summary(files),
        "fails": sum(file.state == "fails" for file in files),
        "refused": sum(file.state == "cannot be made" for file in files),
        "cancelled": sum(file.state == "cancelled" for file in files),
        "made_bytes": sum(file.figures.get("size_bytes") or 0 for file in files),
        "made_count": sum(file.is_made for file in files),
        "made_s": sum(file.figures.get("duration_s") or 0 for file in files if file.is_made),
    }


_LEFT = Count("files", filter=Q(files__state__in=["waiting", "making"]))


def _common_failures(files: list[FinishedFile]) -> list[tuple[str, int]]:
    """Which rules fail in how many files, most first."""
    counted = Counter(finding["label"] for file in files if file.is_made for finding in file.failures())
    return counted.most_common()


def _verdict_line(file: FinishedFile) -> str:
    failing = len(file.failures())
    if failing:
        return f"Fails {failing} of {len(file.findings)} rules of the outlet"
    if file.state == file.State.REMARKS:
        return f"Passes all {len(file.findings)} rules of the outlet, one or more of them narrowly"
    return f"Passes all {len(file.findings)} rules of the outlet"


def _summary(files: list[FinishedFile]) -> str:
    """What became of a run, in one sentence."""
    if all(file.is_made and file.state != file.State.FAILS for file in files):
        return "Every file is made, was decoded again and passes." if len(files) > 1 else "The file is made and passes."
    counted = Counter(file.state for file in files)
    words = {
        "passes": "{} passes|{} pass",
        "passes with a remark": "{} passes with a remark|{} pass with a remark",
        "fails": "{} fails|{} fail",
        "cannot be made": "{} cannot be made|{} cannot be made",
        "cancelled": "{} was cancelled|{} were cancelled",
    }
    told = [words[s].split("|")[counted[s] != 1].format(counted[s]) for s in words if counted[s]]
    return f"Of {len(files)} file{'s' * (len(files) != 1)}: {', '.join(told)}."


def _seconds_left(files: list[FinishedFile], weights: list[float], done: list[float]) -> float | None:
    """From the audio finished so far and the time since the first file began."""
    starts = [file.started_at for file in files if file.started_at]
    finished = sum(d * w for d, w in zip(done, weights, strict=True))
    if not starts or finished < 0.02 * sum(weights):
        return None
    elapsed_s = (timezone.now() - min(starts)).total_seconds()
    return elapsed_s * (sum(weights) - finished) / finished


def _mine(request, pk: int) -> Delivery:
    return get_object_or_404(Delivery.objects.of(request.user).select_related("production"), pk=pk)


def _my_file(request, pk: int) -> FinishedFile:
    files = FinishedFile.objects.filter(delivery__production__owner=request.user)
    return get_object_or_404(files.select_related("delivery__production", "recording"), pk=pk)


def _made_file(request, pk: int) -> FinishedFile:
    file = _my_file(request, pk)
    if not file.is_made or not file.path.exists():
        raise Http404
    return file
