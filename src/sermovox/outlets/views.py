"""Rule sheets: read, written, copied, compared, exchanged; and files from anywhere held against them."""

import uuid
from collections import Counter
from contextlib import suppress
from dataclasses import replace
from typing import Any

from django.conf import settings
from django.contrib import messages
from django.db.models import Count, Max
from django.http import Http404, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.utils.http import content_disposition_header
from django.utils.translation import get_language
from django.views.decorators.cache import never_cache
from django.views.decorators.http import require_POST

from mastering.audio.encodings import Encoding
from mastering.editing.texts import decoded
from mastering.errors import MasteringError
from mastering.outlets import reports
from mastering.outlets.outlet import CONTENT_KINDS, BadOutlet, Outlet
from mastering.outlets.rules import RULE_KINDS
from mastering.outlets.rulesheets import LARGEST_TOML, parse, shipped, with_rule, without_rule, written
from mastering.said import ENGLISH, Said, figured, together, word
from sermovox.outlets import checking
from sermovox.outlets.comparing import compared
from sermovox.outlets.forms import entry_from, fields_of, groups_of
from sermovox.outlets.models import FileCheck, RuleSheet, free_key, outlets_of
from sermovox.ui.bodies import takes_up_to
from sermovox.ui.numerals import whole_number
from sermovox.ui.owned import owned
from sermovox.ui.revisions import ELSEWHERE, is_as_seen, revision_of
from sermovox.ui.sheets import as_pdf

_MOST_CHECKED = 20


def outlet_list(request):
    own = {sheet.key for sheet in RuleSheet.objects.of(request.user)}
    outlets = [
        {"outlet": outlet, "whose": _whose(key, own), "format": _format(outlet)}
        for key, outlet in outlets_of(request.user).items()
    ]
    return render(request, "outlets/list.html", {"outlets": outlets})


# Going back to a sheet shows it as it is, not as it was before a rule was changed in its place.
@never_cache
def outlet_sheet(request, key: str):
    outlet = _mine(request, key)
    return render(request, "outlets/rule_sheet.html", _sheet(request, outlet) | _checks(request, outlet))


def rule(request, key: str, name: str):
    """The form of one rule, in the place of its line; or what was written into it."""
    outlet = _mine(request, key)
    if name not in RULE_KINDS:
        raise Http404
    now = {"outlet": outlet, "seen": revision_of(outlet.rule(name))} | fields_of(name, outlet.rule(name))
    if request.method != "POST":
        return render(request, "outlets/_rule_form.html", now)
    if not is_as_seen(request, now["seen"]):
        now |= {"wrong": ELSEWHERE, "posted": {"source": now["source"]}}
        return render(request, "outlets/_rule_form.html", now)
    label = RULE_KINDS[name].label
    try:
        if "remove" in request.POST:
            changed, words = without_rule(outlet, name), Said("not-asked-any-more", label=label)
        else:
            changed, words = with_rule(outlet, entry_from(name, request.POST)), Said("changed", label=label)
        RuleSheet.change(request.user, changed, words)
    except BadOutlet as error:
        context = {"outlet": outlet, "wrong": str(error), "posted": request.POST, "seen": now["seen"]}
        return render(request, "outlets/_rule_form.html", context | fields_of(name, _attempted(outlet, name, request)))
    return render(request, "outlets/_rule_sheet.html", _sheet(request, changed) | {"said": f"{words}."})


@require_POST
def head(request, key: str):
    """Title and summary."""
    outlet = _mine(request, key)
    if not is_as_seen(request, revision_of(outlet.title, outlet.summary)):
        messages.error(request, ELSEWHERE)
        return redirect("outlets:sheet", key)
    changed = replace(
        outlet,
        title=" ".join(request.POST.get("title", "").split()),
        summary=" ".join(request.POST.get("summary", "").split()),
    )
    try:
        RuleSheet.change(request.user, changed, Said("title-summary-changed"))
        messages.success(request, Said("title-and-summary-are-changed"))
    except BadOutlet as error:
        messages.error(request, str(error))
    return redirect("outlets:sheet", key)


@require_POST
def copy(request, key: str):
    outlet = _mine(request, key)
    known = outlets_of(request.user)
    title = Said("own", title=outlet.title)
    made = replace(outlet, key=free_key(title, known), title=title[:100])
    try:
        RuleSheet.change(request.user, made, Said("copied-from", title=outlet.title))
    except BadOutlet as error:
        messages.error(request, str(error))
        return redirect("outlets:sheet", key)
    messages.success(request, Said("copy-give-title-own-change", title=outlet.title))
    return redirect("outlets:sheet", made.key)


@require_POST
def bring_in(request):
    """Read a rule sheet from TOML."""
    file = request.FILES.get("file")
    try:
        if file is None:
            raise BadOutlet(Said("choose-rule-sheet-first-toml"))
        if file.size > LARGEST_TOML:
            raise BadOutlet(Said("file-too-large-rule-sheet"))
        outlet = parse(decoded(file.read())[0])
        known = outlets_of(request.user)
        if outlet.key in known and written(known[outlet.key]) != written(outlet):
            # What is here stays; somebody may be delivering by it.
            outlet = replace(outlet, key=free_key(outlet.title, known))
        RuleSheet.change(request.user, outlet, Said("read-from", name=file.name))
    except MasteringError as error:
        messages.error(request, Said("nothing-taken", error=error))
        return redirect("outlets:list")
    messages.success(request, Said("is-in", title=outlet.title))
    return redirect("outlets:sheet", outlet.key)


def take_out(request, key: str):
    """The rule sheet as TOML."""
    outlet = _mine(request, key)
    response = HttpResponse(written(outlet), content_type="application/toml; charset=utf-8")
    response["Content-Disposition"] = content_disposition_header(True, f"{outlet.key}.toml")
    return response


def compare(request):
    """Two rule sheets, rule by rule."""
    known = outlets_of(request.user)
    first, second = (known.get(request.GET.get(side, "")) for side in ("a", "b"))
    if request.GET.get("b") == "shipped" and first and first.key in shipped():
        second = replace(shipped()[first.key], title=Said("as-shipped", title=shipped()[first.key].title))
    context: dict[str, Any] = {"outlets": known.values(), "first": first, "second": second}
    if first and second:
        lines = compared(first, second)
        context |= {"lines": lines, "differing": sum(not line.alike for line in lines)}
    return render(request, "outlets/compare.html", context)


def versions(request, key: str):
    sheet = owned(request, RuleSheet.objects, key=key)
    every = list(sheet.versions.all())
    rows = [
        {"version": new, "lines": [line for line in compared(old.outlet, new.outlet) if not line.alike] if old else []}
        for new, old in zip(every, [*every[1:], None], strict=True)
    ]
    return render(request, "outlets/versions.html", {"outlet": sheet.outlet, "rows": rows})


@require_POST
def restore(request, key: str):
    """Take an earlier version again, or what was shipped, as the newest."""
    number = request.POST.get("version", "")
    try:
        if whole_number(number) is not None:
            sheet = owned(request, RuleSheet.objects, key=key)
            version = get_object_or_404(sheet.versions, number=int(number))
            RuleSheet.change(request.user, version.outlet, Said("as-in-version", number=number))
            messages.success(request, Said("rules-those-version-again", number=number))
        elif key in shipped():
            RuleSheet.change(request.user, shipped()[key], Said("as-it-was-shipped"))
            messages.success(request, Said("rules-they-were-shipped-earlier"))
    except BadOutlet as error:
        messages.error(request, str(error))
    return redirect("outlets:sheet", key)


@require_POST
def remove(request, key: str):
    """Put away an outlet of one's own; its deliveries keep the rules they were made under."""
    sheet = owned(request, RuleSheet.objects, key=key)
    if key in shipped():
        raise Http404
    sheet.removed = True
    sheet.save(update_fields=["removed"])
    messages.success(request, Said("put-away-deliveries-kept", title=sheet.outlet.title))
    return redirect("outlets:list")


@require_POST
@takes_up_to(settings.MAX_UPLOAD_BYTES)
def check_files(request, key: str):
    """Hold files from anywhere against an outlet; nothing of them is kept."""
    outlet = _mine(request, key)
    kind = request.POST.get("content", "speech")
    kind = kind if kind in CONTENT_KINDS else "speech"
    files = request.FILES.getlist("file")
    fit = [file for file in files if file.size <= settings.MAX_UPLOAD_BYTES]
    checking.begin(request.user, outlet, fit[:_MOST_CHECKED], kind)
    refused = []
    if not files:
        refused.append(Said("choose-least-one-file"))
    refused += [Said("larger-than-server-takes-check", name=file.name) for file in files if file not in fit]
    if left_out := fit[_MOST_CHECKED:]:
        refused.append(Said("files-checked-time-were-left", most_checked=_MOST_CHECKED, count=len(left_out)))
    return render(request, "outlets/_checked.html", _checks(request, outlet) | {"refused": refused})


def report(request, key: str, batch, ending: str):
    """What was found in files that came in together, or in those chosen of them, for whoever sent them."""
    checks = list(FileCheck.objects.filter(owner=request.user, outlet_key=key, batch=batch))
    if not checks:
        raise Http404
    chosen = {key for key in request.GET.getlist("file") if key.isdigit()}
    outlet = parse(checks[0].toml)
    files = [each.as_checked() for each in checks if not each.is_under_way and (not chosen or str(each.pk) in chosen)]
    title, told, reader = reports.heading(outlet), reports.told(files), get_language() or ENGLISH
    kind, text = {
        "html": ("text/html", lambda: reports.as_html(title, told, files, reader)),
        "pdf": ("application/pdf", lambda: as_pdf(title, title, told, files, reader)),
        "txt": ("text/plain", lambda: reports.as_text(outlet, files, reader)),
        "csv": ("text/csv", lambda: reports.as_csv(files)),
        "json": ("application/json", lambda: reports.as_json(outlet, files)),
    }[ending]
    response = HttpResponse(text(), content_type=f"{kind}; charset=utf-8")
    name = f"checked-{key}-{checks[0].created_at:%Y-%m-%d}.{ending}"
    response["Content-Disposition"] = content_disposition_header(ending != "txt", name) or ""
    return response


@require_POST
def check_delete(request, key: str, batch):
    """Delete what was found in files that came in together."""
    for each in FileCheck.objects.filter(owner=request.user, outlet_key=key, batch=batch):
        each.delete()
    messages.success(request, Said("what-found-deleted"))
    return redirect("outlets:sheet", key)


def checked(request, key: str):
    """How far the files are that were last held against an outlet, or came in with `?batch=`, and what was found."""
    return render(request, "outlets/_checked.html", _checks(request, _mine(request, key)))


@require_POST
def check_cancel(request, key: str):
    """Stop checking; what is found already stays."""
    outlet = _mine(request, key)
    for each in FileCheck.objects.last_batch(request.user, key).under_way():
        each.settle(FileCheck.State.CANCELLED, said=Said("cancelled-before-checked"))
    return render(request, "outlets/_checked.html", _checks(request, outlet))


def _batch_of(request) -> uuid.UUID | None:
    """Which files that came in together are asked for, if any."""
    with suppress(ValueError):
        return uuid.UUID(request.GET.get("batch", ""))
    return None


def _checks(request, outlet: Outlet) -> dict:
    own = FileCheck.objects.filter(owner=request.user, outlet_key=outlet.key)
    batch = _batch_of(request)
    checks = list(own.filter(batch=batch) if batch else FileCheck.objects.last_batch(request.user, outlet.key))
    done = [each for each in checks if not each.is_under_way]
    return {
        "outlet": outlet,
        "under_way": [each for each in checks if each.is_under_way],
        "checks": sorted(done, key=lambda each: (not each.said, -each.failing)),
        "told": reports.told([each.as_checked() for each in done]) if done else "",
        "batch": checks[0].batch if checks else None,
        "earlier": own.exclude(batch__in=[each.batch for each in checks[:1]])
        .values("batch")
        .annotate(count=Count("pk"), last=Max("created_at"))
        .order_by("-last"),
    }


def _sheet(request, outlet: Outlet) -> dict:
    own = RuleSheet.objects.of(request.user).filter(key=outlet.key).first()
    return {
        "outlet": outlet,
        "groups": groups_of(outlet),
        "usual_source": _usual_source(outlet),
        "own": own,
        "whose": _whose(outlet.key, {own.key} if own else set()),
        "version_count": own.versions.count() if own else 0,
        "is_shipped": outlet.key in shipped(),
        "changed": outlet.key in shipped() and outlet != shipped()[outlet.key],
        "kinds": CONTENT_KINDS,
        "seen": revision_of(outlet.title, outlet.summary),
    }


def _usual_source(outlet: Outlet) -> str:
    """What several rules give as their source: said once for all of them."""
    source, count = Counter(rule.source for rule in outlet.rules).most_common(1)[0] if outlet.rules else ("", 0)
    return source if count > 2 else ""


def _attempted(outlet: Outlet, name: str, request):
    """The rule as far as it can be read, so that nothing that was written is lost."""
    try:
        return with_rule(outlet, entry_from(name, request.POST)).rule(name)
    except BadOutlet:
        return outlet.rule(name)


def _whose(key: str, own: set[str]) -> str:
    if key not in own:
        return "shipped"
    return Said("shipped-changed-you") if key in shipped() else Said("your-own")


def _format(outlet: Outlet) -> str:
    """What files it takes, in a few words."""
    return together(dict.fromkeys(_encoded(encoding) for encoding in outlet.encodings()), "; ")


def _encoded(encoding: Encoding) -> str:
    rate = figured(f"{encoding.sample_rate_hz / 1000:g} kHz")
    if not encoding.lossy:
        return together([encoding.container.upper(), word(encoding.sample_format or ""), rate], ", ")
    kbps = str(encoding.bit_rate_kbps or "")
    if encoding.lowest_kbps:
        kbps = f"{encoding.lowest_kbps}–{encoding.highest_kbps}"
    return together([encoding.container.upper(), *([f"{kbps} kbit/s"] if kbps else []), rate], ", ")


def _mine(request, key: str) -> Outlet:
    outlet = outlets_of(request.user).get(key)
    if outlet is None:
        raise Http404
    return outlet
