"""All sections of a production against an outlet's band, and one of them over time."""

from django.contrib import messages
from django.db import transaction
from django.http import Http404, HttpResponse, HttpResponseBadRequest
from django.shortcuts import render
from django.views.decorators.http import require_POST

from mastering.audio.convert import to_16_bit
from mastering.before_after import before_and_after
from mastering.clock import clock
from mastering.errors import MasteringError
from mastering.meters.sides import WAYS
from mastering.outlets.checksheet import asked_text
from mastering.outlets.curves import curves
from mastering.outlets.outlet import Outlet
from mastering.outlets.rules import RULE_KINDS
from mastering.outlets.rules.levels import (
    INTEGRATED,
    LOUDNESS_RANGE,
    LOUDNESS_RULES,
    NOISE_FLOOR,
    PEAK_RULES,
    TRUE_PEAK,
)
from mastering.outlets.sentences import steps
from mastering.said import Said, together
from mastering.shaping.mends import MENDS
from mastering.shaping.treatment import CHOICES, MOST_HUSH_DB, RUMBLE_HZ, BadTreatment, Treatment
from sermovox.cutting.listening import as_wav
from sermovox.history.changing import last_change, next_change
from sermovox.history.commands import Commands, NoSuchCommand
from sermovox.levelling.drawing import POINTS, band_of, drawn_bar, drawn_curves, in_columns, ticks
from sermovox.levelling.forms import HeardForm, in_words, treated
from sermovox.levelling.members import members_of
from sermovox.levelling.remedies import remedy_of
from sermovox.levelling.rows import Row, State, rows_of, rows_of_section
from sermovox.outlets.models import outlets_of
from sermovox.productions import order
from sermovox.productions.models import Production, Section
from sermovox.sources.soundings import Soundings
from sermovox.ui import words
from sermovox.ui.numerals import whole_number, whole_numbers
from sermovox.ui.owned import owned
from sermovox.ui.revisions import ELSEWHERE, is_as_seen, revision_of

_SECTIONS = Section.objects.select_related("production").with_pieces()
_SHOWN_ANYHOW = (INTEGRATED, TRUE_PEAK, NOISE_FLOOR, LOUDNESS_RANGE)
"""Figures of a section that are shown whether or not its outlet asks for them."""
_WORST = "worst"
_ENOUGH_FOR_A_PICTURE = 2
"""Sections from which on they are drawn side by side."""
commands = Commands()


def levels(request, pk: int):
    production, outlet = owned(request, Production.objects, pk=pk), _outlet(request)
    if outlet is None:
        outlet = production.outlet
    context = _rows(request, production, outlet) | {"outlets": production.outlets.values(), "production": production}
    return render(request, "levelling/levels.html", context)


def rows(request, pk: int):
    """The rows alone, asked for again while some are being worked out."""
    outlet = _outlet(request)
    if outlet is None:
        raise Http404
    return render(request, "levelling/_rows.html", _rows(request, owned(request, Production.objects, pk=pk), outlet))


@require_POST
def change(request, pk: int):
    """Treat sections as a form says, or undo and redo, and go back to where it was asked."""
    production = owned(request, Production.objects, pk=pk)
    try:
        with transaction.atomic():
            said = commands.run(request.POST.get("do", ""), production, request, production)
    except NoSuchCommand as error:
        return HttpResponseBadRequest(words.said(str(error)))
    if said:
        messages.success(request, said)
    shown = request.POST.get("shown", "")
    if number := whole_number(shown):
        return plan(request, number)
    return rows(request, pk)


def section(request, pk: int):
    found = owned(request, _SECTIONS, pk=pk)
    outlet = _outlet(request) or found.production.outlet
    siblings = list(found.production.sections.values_list("pk", "title"))
    at = next(at for at, (key, _) in enumerate(siblings) if key == pk)
    context = _one(request, found, outlet) | {
        "outlets": [each for each in found.production.outlets.values() if not each.joined],
        "previous": siblings[at - 1] if at else None,
        "next": siblings[at + 1] if at + 1 < len(siblings) else None,
    }
    return render(request, "levelling/section.html", context)


def plan(request, pk: int):
    """The plan of a section with its picture and its controls; `?tried` as it would be with what the form says."""
    found, outlet = owned(request, _SECTIONS, pk=pk), _outlet(request)
    if outlet is None:
        raise Http404
    try:
        return render(request, "levelling/_plan.html", _one(request, found, outlet, _tried(request, found)))
    except BadTreatment as error:
        return HttpResponse(words.said(str(error)), status=422, content_type="text/plain; charset=utf-8")


def heard(request, pk: int):
    """A stretch of a section before or after its plan, at equal loudness, as WAV; `?mended` as it would be with what
    mends it, `?tried` with what the form says.
    """
    found, outlet = owned(request, _SECTIONS, pk=pk), _outlet(request)
    form = HeardForm(request.GET)
    if not form.is_valid():
        return HttpResponseBadRequest(words.said(Said("time-cannot-read")))
    if outlet is None:
        raise Http404
    asked = form.cleaned_data
    try:
        if "mended" in request.GET:
            remedy = remedy_of(found, outlet)
            own = remedy.row if remedy else None
        else:
            _, own = rows_of_section(found, outlet, _voice(request), _tried(request, found))
        if own is None or own.planned is None or own.planned.plan is None:
            raise Http404
        member = own.member
        there = {"start_s": asked["start"], "length_s": asked["length"]}
        sides = before_and_after(member.recorded, member.source, own.planned.plan, member.levels, **there)
    except MasteringError as error:
        return HttpResponse(words.said(str(error)), status=422, content_type="text/plain; charset=utf-8")
    samples = sides.after if asked["side"] == "after" else sides.before
    response = HttpResponse(
        as_wav(next(to_16_bit(iter([samples]), dither=False)), sides.sample_rate_hz), content_type="audio/wav"
    )
    response["Cache-Control"] = "no-store"
    return response


@commands("treat")
def _treat(request, production: Production) -> str:
    said = request.POST
    every = production.sections.all()
    sections = list(every if "everywhere" in said else every.filter(pk__in=whole_numbers(said.getlist("section"))))
    # The form of one section says all of its treatment; that of several only what is to be changed.
    shown = production.sections.filter(pk=whole_number(said.get("shown")) or 0).first()
    if shown and not is_as_seen(request, revision_of(shown.treatment)):
        messages.error(request, ELSEWHERE)
        return ""
    if not sections:
        messages.error(request, Said("tick-sections-treatment-then-give"))
        return ""
    try:
        treatments = {each.pk: treated(each.wishes, said) for each in sections}
    except MasteringError as error:
        messages.error(request, str(error))
        return ""
    words = in_words([(each.wishes, treatments[each.pk]) for each in sections])
    if not words:
        if "shown" not in said:
            messages.error(request, Said("nothing-changed-what-says-stays"))
        return ""
    whom = Said("sections-2", title=sections[0].title, count=len(sections))
    order.treat(production, request.user, treatments, Said("treat-label", whom=whom, words=words))
    return Said("sections-treated", count=len(sections), words=words) if len(sections) > 1 else ""


def _rows(request, production: Production, outlet: Outlet) -> dict:
    soundings = Soundings(production)
    members = members_of(soundings, soundings.sections, outlet)
    found = rows_of(members, outlet, production)
    by = request.POST.get("by") or request.GET.get("by") or ""
    if by == _WORST:
        found.sort(key=lambda row: row.badness, reverse=True)
    shown = [_row_shown(row, outlet) for row in found]
    return {
        "production": production,
        "outlet": outlet,
        "by": by,
        "rows": shown,
        "columns": in_columns(shown) if len(shown) >= _ENOUGH_FOR_A_PICTURE else [],
        "ticks": ticks(),
        "waiting": (waiting := sum(row.planned is None for row in found)),
        "look_again": "1s" if any(row.measuring for row in found) else "50ms" if waiting else "",
        "failing": sum(row.state in (State.FAILS, State.REFUSED) for row in found),
        "treated": sum(bool(row.member.treatment.as_dict()) for row in found),
        "choices": CHOICES,
        "rumble_hz": RUMBLE_HZ,
        "ways": WAYS,
        "mends": MENDS.values(),
        "most_hush_db": MOST_HUSH_DB,
        "undoable": last_change(production),
        "redoable": next_change(production),
    }


def _row_shown(row: Row, outlet: Outlet) -> dict:
    sounding, planned = row.member.sounding, row.planned
    plan = planned.plan if planned else None
    demands = outlet.demands(channels=row.member.channels, content_kind=row.member.content_kind)
    level = next((name for name in LOUDNESS_RULES if name in demands), INTEGRATED)
    peak = next((name for name in PEAK_RULES if name in demands), TRUE_PEAK)
    told = plan.predicted if plan else {}
    missed = [_missed(name, by) for name, by in (plan.unmet if plan else {}).items()]
    return {
        "place": row.place,
        "section": sounding.section,
        "title": sounding.title,
        "state": row.state,
        "before": drawn_bar(planned.before) if planned else None,
        "after": drawn_bar(planned.after) if planned else None,
        "band": band_of(demands, plan).drawn(),
        "inside": row.state in (State.PASSES, State.REMARKS),
        "steps": together((together(step, ": ") for step in steps(plan)), "; ") if plan else "",
        "said": planned.refusal if planned and not plan else together(plan.collisions) if plan else "",
        "missed": missed,
        "treatment": _treatment_words(plan),
        "gain": plan.gain_db if plan else None,
        "level": (told.get(level), RULE_KINDS[level].unit),
        "peak": (told.get(peak), RULE_KINDS[peak].unit),
        "noise": told.get(NOISE_FLOOR),
    }


def _missed(name: str, by: float) -> str:
    kind = RULE_KINDS[name]
    return Said("missed-by", label=kind.label, by=by, unit=kind.unit_apart)


def _treatment_words(plan) -> str:
    if plan is None:
        return ""
    told = (
        [*plan.mends] + ["rumble"] * bool(plan.rumble_hz) + [Said("hush-3", hush_db=plan.hush_db)] * bool(plan.hush_db)
    )
    return ", ".join(told + ["ride"] * bool(plan.ride_range_db) + ["set"] * plan.fixed_gain)


def _one(request, found: Section, outlet: Outlet, tried: Treatment | None = None) -> dict:
    production, wishes = found.production, tried or found.wishes
    context = {
        "section": found,
        "production": production,
        "outlet": outlet,
        "treatment": wishes,
        "seen": revision_of(found.treatment),
        "choices": CHOICES,
        "rumble_hz": RUMBLE_HZ,
        "ways": WAYS,
        "mends": MENDS.values(),
        "most_hush_db": MOST_HUSH_DB,
        "undoable": last_change(production),
        "redoable": next_change(production),
    }
    if outlet.joined:
        return context | {"joined": True}
    try:
        own, row = rows_of_section(found, outlet, _voice(request), tried)
    except MasteringError as error:
        return context | {"wrong": str(error)}
    context["two_sides"] = row is not None and row.member.sounding.channels == 2
    context |= {"voices": own if len(own) > 1 else [], "voice": _voice(request)}
    if row is None:
        return context | {"wrong": Said("section-no-recording-yet-give")}
    if row.planned is None:
        return context | {"waiting": True}
    plan = row.planned.plan
    if plan is None:
        return context | {"wrong": row.planned.refusal}
    measured = row.member.levels
    demands = outlet.demands(channels=row.member.channels, content_kind=row.member.content_kind)
    noise_s = plan.noise_s if plan.hush_db or wishes.noise_s else None
    return context | {
        "waiting": row.rough,
        "learned_s": [clock(edge_s, 1) for edge_s in wishes.noise_s or ()],
        "plan": plan,
        "steps": steps(plan),
        "curves": drawn_curves(curves(measured, plan, points=POINTS), band_of(demands, plan), noise_s),
        "figures": _figures(measured, plan, demands, outlet),
        "duration_s": measured.duration_s,
    }


def _figures(measured, plan, demands, outlet: Outlet) -> list[dict]:
    rules = {rule.name: rule for rule in outlet.rules}
    return [
        {
            "label": kind.label,
            "unit": kind.unit,
            "asked": asked_text(rules[name], demands[name]) if name in demands else "",
            "before": kind.measured(measured),
            "after": plan.predicted.get(name),
            "missed": name in plan.unmet,
        }
        for name, kind in RULE_KINDS.items()
        if kind.measured and (name in demands or name in _SHOWN_ANYHOW)
    ]


def _tried(request, found: Section) -> Treatment | None:
    """The treatment that is tried and not kept. Raises BadTreatment."""
    return treated(found.wishes, request.GET) if "tried" in request.GET else None


def _outlet(request) -> Outlet | None:
    return outlets_of(request.user).get(request.POST.get("outlet") or request.GET.get("outlet") or "")


def _voice(request) -> int:
    asked = request.POST.get("voice") or request.GET.get("voice") or ""
    return whole_number(asked) or 0
