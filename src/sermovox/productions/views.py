"""Productions and their running orders."""

from django.contrib import messages
from django.db.models import Count
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_POST

from mastering.outlets.outlet import shipped
from sermovox.deliveries.models import FinishedFile
from sermovox.productions.forms import ProductionForm, SectionForm
from sermovox.productions.models import Production, Section


def production_list(request):
    productions = Production.objects.of(request.user).annotate(section_count=Count("sections"))
    context = {"productions": [{"production": p, "tally": _tally(p)} for p in productions]}
    return render(request, "productions/list.html", context)


def production_new(request):
    return _edited(request, Production(owner=request.user, narrator=request.user.get_full_name()))


def production_edit(request, pk: int):
    return _edited(request, get_object_or_404(Production.objects.of(request.user), pk=pk))


def running_order(request, pk: int):
    production = get_object_or_404(Production.objects.of(request.user), pk=pk)
    return render(request, "productions/running_order.html", _running_order(production))


def running_order_rows(request, pk: int):
    """The rows alone, asked for again while something is arriving or being made."""
    production = get_object_or_404(Production.objects.of(request.user), pk=pk)
    return render(request, "productions/_rows.html", _running_order(production))


def section(request, pk: int):
    section = get_object_or_404(Section, pk=pk, production__owner=request.user)
    form = SectionForm(request.POST or None, instance=section)
    if request.method == "POST" and form.is_valid():
        form.save()
        messages.success(request, f"“{section.title}” is saved.")
        return redirect(section.production)
    files = section.files.select_related("delivery").order_by("-pk")[:12]
    context = {"section": section, "form": form, "files": files, "recording": section.recording}
    return render(request, "productions/section.html", context)


@require_POST
def section_delete(request, pk: int):
    section = get_object_or_404(Section, pk=pk, production__owner=request.user)
    section.delete()
    messages.success(request, f"“{section.title}” is out of the running order. Its recording is kept.")
    return redirect(section.production)


def _edited(request, production: Production):
    form = ProductionForm(request.POST or None, instance=production)
    if request.method == "POST" and form.is_valid():
        return redirect(form.save())
    return render(request, "productions/form.html", {"form": form, "production": production})


def _tally(production: Production) -> dict[str, int]:
    states = [file.state for file in _newest_files(production).values()]
    return {
        "passes": sum(state in ("passes", "passes with a remark") for state in states),
        "fails": sum(state in ("fails", "cannot be made") for state in states),
    }


def _running_order(production: Production) -> dict:
    outlets = list(shipped().values())
    newest = _newest_files(production)
    rows = [
        {
            "section": section,
            "recording": section.recording,
            "crossings": [(outlet.key, newest.get((section.pk, outlet.key))) for outlet in outlets],
        }
        for section in production.sections.select_related("recording")
    ]
    recordings = [row["recording"] for row in rows if row["recording"]]
    under_way = [f for f in newest.values() if f.state in ("waiting", "making")]
    return {
        "production": production,
        "outlets": outlets,
        "states": ["to do", "waiting", "making", "passes", "passes with a remark", "fails", "cannot be made"],
        "rows": rows,
        "total_s": sum(recording.figures.get("duration_s") or 0 for recording in recordings),
        "moving": any(recording.measuring for recording in recordings) or bool(under_way),
        "chosen_outlet": production.last_outlet or outlets[0].key,
        "unused": production.recordings.filter(sections=None),
        "deliveries": production.deliveries.all()[:6],
    }


def _newest_files(production: Production) -> dict[tuple[int, str], FinishedFile]:
    files = FinishedFile.objects.filter(delivery__production=production, section__isnull=False)
    files = files.select_related("delivery").defer("findings", "figures", "remarks", "delivery__outlet_toml")
    return {(file.section_id, file.delivery.outlet_key): file for file in files.order_by("pk")}
