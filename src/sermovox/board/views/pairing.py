"""Which recording belongs to which section: proposed, corrected, applied."""

from django.contrib import messages
from django.shortcuts import redirect, render

from mastering.naming.pairing import WAYS, Target, pair, pair_best
from sermovox.productions import order
from sermovox.productions.models import Production, Section
from sermovox.recordings.models import Recording
from sermovox.ui.owned import owned
from sermovox.ui.revisions import ELSEWHERE, is_as_seen, revision_of

_SHOWN = 1000


def pairing(request, pk: int):
    production = owned(request, Production.objects, pk=pk)
    anew = "anew" in request.GET
    sections, places = _sections(production, anew)
    recordings = _recordings(production, anew)
    labels = _labels(recordings)
    seen = revision_of([(s.pk, s.recording_id, s.programme) for s in sections], list(labels))
    if request.method == "POST":
        if not is_as_seen(request, seen):
            messages.error(request, ELSEWHERE)
            return redirect(request.get_full_path())
        return _apply(request, production, sections, labels)
    targets = [Target(places[s.pk], s.number, s.title, s.role, s.exact_name) for s in sections]
    names = [recording.name for recording in recordings]
    way = request.GET.get("way")
    way, found = (way, pair(names, targets, way)) if way in WAYS else pair_best(names, targets)
    by_index = list(labels)
    rows = [
        {
            "section": section,
            "place": places[section.pk],
            "label": by_index[found[at]] if at in found else "",
            "duration_s": recordings[found[at]].duration_s if at in found else None,
        }
        for at, section in enumerate(sections)
    ]
    used = set(found.values())
    context = {
        "seen": seen,
        "production": production,
        "rows": rows,
        "labels": labels,
        "ways": WAYS,
        "way": way,
        "anew": anew,
        "found": len(found),
        "left_sections": [row for row in rows if not row["label"]],
        "left_recordings": [recording for at, recording in enumerate(recordings) if at not in used],
    }
    return render(request, "board/pairing.html", context)


def _apply(request, production: Production, sections: list[Section], labels: dict[str, Recording]):
    chosen: dict[int, int | None] = {}
    unknown, twice = [], []
    for section in sections:
        label = request.POST.get(f"recording-{section.pk}", "").strip()
        recording = labels.get(label)
        if label and recording is None:
            unknown.append(label)
        elif recording and recording.pk in chosen.values():
            twice.append(label)
        elif recording or section.recording_id:
            chosen[section.pk] = recording.pk if recording else None
    if unknown or twice:
        said = f"There is no recording called “{unknown[0]}”." if unknown else f"“{twice[0]}” is chosen twice."
        messages.error(request, f"{said} Nothing was changed.")
        return redirect(request.get_full_path())
    count = sum(recording is not None for recording in chosen.values())
    order.assign(production, request.user, chosen, f"Pair {count} recordings with sections")
    messages.success(request, f"{count} sections have their recordings. Undo takes it back.")
    return redirect(production)


def _sections(production: Production, anew: bool) -> tuple[list[Section], dict[int, int]]:
    places = {pk: place for place, pk in enumerate(production.sections.values_list("pk", flat=True), 1)}
    waiting = production.sections.defer("script")
    return list((waiting if anew else waiting.waiting())[:_SHOWN]), places


def _recordings(production: Production, anew: bool) -> list[Recording]:
    free = production.recordings.usable().with_duration().defer("figures", "remarks").order_by("name", "pk")
    return list(free if anew else free.unused())


def _labels(recordings: list[Recording]) -> dict[str, Recording]:
    """Each recording by a name of its own; names that come twice are numbered."""
    labels: dict[str, Recording] = {}
    for recording in recordings:
        label, number = recording.name, 1
        while label in labels:
            number += 1
            label = f"{recording.name} ({number})"
        labels[label] = recording
    return labels
