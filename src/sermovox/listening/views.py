"""The listening desk: versions of a section beside each other, in step and equally loud."""

import json
import math
from collections.abc import Iterable

from django.contrib import messages
from django.db import transaction
from django.http import HttpResponse, JsonResponse
from django.shortcuts import redirect, render
from django.urls import reverse
from django.views.decorators.http import require_POST

from mastering.comparing import RATE_HZ, by_guessing
from mastering.errors import MasteringError
from mastering.outlets.outlet import BadOutlet, Outlet
from mastering.outlets.rulesheets import with_rule
from mastering.said import Said, figured, together
from sermovox.cutting.views.page import said
from sermovox.listening.desk import LONGEST_S, PLANNED, USUAL_S, CannotCompare, Desk, Laid, NotYet, as_bytes
from sermovox.listening.models import LONGEST_LABEL, MOST_TRIALS, Trial
from sermovox.outlets.models import RuleSheet, outlets_of
from sermovox.productions.models import Section
from sermovox.ui import words
from sermovox.ui.numerals import whole_number
from sermovox.ui.owned import owned

_SECTIONS = Section.objects.select_related("production").with_pieces()
_BIT_RATE = "bit_rate_kbps"
_TOLD_APART = 0.05
"""Below this likelihood of guessing two versions count as told apart (common practice, no source)."""
_LEAST_S = 0.5
_ALL_JOINED = Said("every-outlet-production-takes-all")


def desk(request, pk: int):
    section = owned(request, _SECTIONS, pk=pk)
    production = section.production
    siblings = list(production.sections.values_list("pk", "title"))
    at = next(at for at, (key, _) in enumerate(siblings) if key == pk)
    context = {
        "section": section,
        "own_digits": True,
        "production": production,
        "outlets": [each for each in production.outlets.values() if not each.joined],
        "usual_s": USUAL_S,
        "longest_s": LONGEST_S,
        "previous": siblings[at - 1] if at else None,
        "next": siblings[at + 1] if at + 1 < len(siblings) else None,
    }
    try:
        context["outlet"] = outlet = _outlet(request, section)
        found = Desk(section, outlet)
        versions = found.versions
        context |= {"versions": versions, "duration_s": found.duration_s, "lossy": found.encoding.lossy}
        context["tallies"] = _tallies(section, versions)
        context |= _drawn(section, found, versions)
    except MasteringError as error:
        context |= {"wrong": str(error), "look_again": isinstance(error, NotYet)}
    return render(request, "listening/desk.html", context)


@said
def sound(request, pk: int):
    """The samples of a stretch of every version, after a line of JSON that says what they are."""
    section = owned(request, _SECTIONS, pk=pk)
    start_s = _seconds(request.GET.get("start"), 0.0)
    length_s = min(LONGEST_S, max(_LEAST_S, _seconds(request.GET.get("length"), USUAL_S)))
    found = Desk(section, _outlet(request, section)).sounds(start_s, length_s)
    channels, samples = as_bytes([version for _, version, _ in found])
    head = {
        "rate_hz": RATE_HZ,
        "channels": channels,
        "frames": len(found[0][1].samples),
        "versions": [
            {
                "key": laid.key,
                "later_s": round(version.later_s, 6),
                "loudness_lufs": round(version.loudness_lufs, 2),
                "gain_db": round(gain_db, 2),
                "alike": version.alike,
            }
            for laid, version, gain_db in found
        ],
    }
    line = json.dumps(head).encode()
    # So that the samples lie where a browser can take them without copying.
    line += b" " * (-(len(line) + 1) % 4) + b"\n"
    response = HttpResponse(line + samples, content_type="application/octet-stream")
    response["Cache-Control"] = "no-store"
    return response


@require_POST
def attempt(request, pk: int):
    """Try another bitrate."""
    section = owned(request, _SECTIONS, pk=pk)
    try:
        outlet = _outlet(request, section)
        kbps = whole_number(request.POST.get("kbps"))
        if kbps is None:
            raise CannotCompare(Said("write-bitrate-try-whole-number"))
        Desk(section, outlet).tried(kbps)
        trials = section.production.trials.filter(outlet_key=outlet.key)
        if trials.count() >= MOST_TRIALS:
            raise CannotCompare(Said("bitrates-tried-already-take-one", most_trials=MOST_TRIALS))
        Trial.objects.get_or_create(production=section.production, outlet_key=outlet.key, kbps=kbps)
    except MasteringError as error:
        messages.error(request, str(error))
    return _back(request, section)


@require_POST
def away(request, pk: int):
    """Try a bitrate no longer; what was answered of it stays."""
    trial = owned(request, Trial.objects, pk=pk)
    trial.delete()
    section = owned(request, _SECTIONS, pk=whole_number(request.POST.get("section")) or 0)
    return _back(request, section)


@require_POST
@said
def answer(request, pk: int):
    """Keep whether a version was told from another, or take the last answer back, and say what all answers so far are
    worth.
    """
    section = owned(request, _SECTIONS, pk=pk)
    laid = {each.key: each for each in Desk(section, _outlet(request, section)).versions}
    version, against = (laid.get(request.POST.get(name, "")) for name in ("version", "against"))
    if version is None or against is None or version is against:
        raise CannotCompare(Said("these-versions-no-longer-there"))
    answers = section.production.answers
    if request.POST.get("do") == "back":
        answers.all().take_back(request.user, version.called, against.called)
        return _told(section, version, laid.values())
    answers.create(
        section=section,
        version=version.called,
        against=against.called,
        label=version.label[:LONGEST_LABEL],
        start_s=_seconds(request.POST.get("start"), 0.0),
        length_s=_seconds(request.POST.get("length"), USUAL_S),
        right=request.POST.get("right") == "yes",
        by=request.user,
    )
    return _told(section, version, laid.values())


def _told(section: Section, version: Laid, versions: Iterable[Laid]) -> JsonResponse:
    told = _tallies(section, versions).get(version.called, "")
    return JsonResponse({"key": version.key, "said": words.said(told)})


@require_POST
def ask(request, pk: int, kbps: int):
    """Have the outlet ask for a bitrate that was tried, as its newest version."""
    section = owned(request, _SECTIONS, pk=pk)
    try:
        outlet = _outlet(request, section)
        Desk(section, outlet).tried(kbps)
        entry = {"name": _BIT_RATE, "exactly": kbps, "source": Said("chosen-listening-desk")}
        with transaction.atomic():
            RuleSheet.change(request.user, with_rule(outlet, entry), Said("bitrate-kbit-s-ear", kbps=kbps))
        messages.success(request, Said("asks-kbit-s-now-former", title=outlet.title, kbps=kbps))
    except (BadOutlet, CannotCompare) as error:
        messages.error(request, str(error))
    return _back(request, section)


def _drawn(section: Section, found: Desk, versions: Iterable[Laid]) -> dict:
    """Where the ink of the whole section is drawn from: a finished file of its own, or its recording where it is all of
    that; `later_s` is where it begins in it, `seconds` how long that is.
    """
    own = next((each.file for each in versions if each.file and each.file.section_id), None)
    if own:
        waveform = reverse("deliveries:waveform", args=[own.pk])
        return {"waveform": waveform, "later_s": own.later_s, "seconds": own.figures["duration_s"]}
    if section.recording and not section.is_cut:
        waveform = reverse("recordings:waveform", args=[section.recording_id])
        return {"waveform": waveform, "later_s": 0.0, "seconds": found.duration_s}
    return {}


def _tallies(section: Section, versions: Iterable[Laid]) -> dict[str, str]:
    """What was answered of each version in this production, in words, by what it is called."""
    told: dict[str, list[str]] = {}
    labels = {each.called: each.label for each in versions}
    for (version, against), (right, rounds) in section.production.answers.tallied().items():
        chance = by_guessing(right, rounds)
        verdict: str = Said("told-apart") if chance < _TOLD_APART else Said("not-told-apart")
        figure = figured(f"{100 * chance:.1f} %") if chance >= 0.001 else Said("less-than-0-1")
        words_of = Said("rounds-right-guessing", right=right, rounds=rounds, figure=figure, verdict=verdict)
        told.setdefault(version, []).append(
            words_of if against == PLANNED else Said("from-2", words_of=words_of, get=labels.get(against, against))
        )
    return {version: together(each, "; ") for version, each in told.items()}


def _outlet(request, section: Section) -> Outlet:
    """The outlet that is asked for, else the first one that takes a file for each section. Raises CannotCompare."""
    asked = request.POST.get("outlet") or request.GET.get("outlet") or ""
    known = [outlets_of(request.user).get(asked), section.production.outlet, *section.production.outlets.values()]
    for outlet in known:
        if outlet and not outlet.joined:
            return outlet
    raise CannotCompare(_ALL_JOINED)


def _seconds(text: str | None, otherwise: float) -> float:
    try:
        found = float(text or "")
    except ValueError:
        return otherwise
    return found if math.isfinite(found) else otherwise


def _back(request, section: Section) -> HttpResponse:
    """To the desk as it was, with the outlet that was looked at."""
    asked = {"outlet": request.POST["outlet"]} if request.POST.get("outlet") else {}
    return redirect(reverse("listening:desk", args=[section.pk], query=asked))
