"""Which recording belongs to which section: proposed, corrected, applied."""

from django.contrib import messages
from django.shortcuts import redirect, render

from mastering.naming.pairing import WAYS
from mastering.said import Said
from sermovox.board.pairing import (
    BadPairs,
    chosen_pairs,
    labelled,
    proposed_pairs,
    recordings_to_pair,
    sections_to_pair,
)
from sermovox.productions import order
from sermovox.productions.models import Piece, Production
from sermovox.ui.owned import owned
from sermovox.ui.revisions import ELSEWHERE, is_as_seen, revision_of


def pairing(request, pk: int):
    production = owned(request, Production.objects, pk=pk)
    anew = "anew" in request.GET
    sections, places = sections_to_pair(production, anew)
    recordings = recordings_to_pair(production, anew)
    labels = labelled(recordings)
    pieces = Piece.objects.filter(section__production=production, section__removed=False)
    made_of = list(pieces.values_list("section_id", "recording_id", "start_sample", "end_sample"))
    seen = revision_of([s.pk for s in sections], made_of, list(labels))
    if request.method == "POST":
        if not is_as_seen(request, seen):
            messages.error(request, ELSEWHERE)
            return redirect(request.get_full_path())
        try:
            asked = {each.pk: request.POST.get(f"recording-{each.pk}", "").strip() for each in sections}
            chosen = chosen_pairs(asked, sections, labels, {section for section, *_ in made_of})
        except BadPairs as error:
            messages.error(request, str(error))
            return redirect(request.get_full_path())
        count = sum(recording is not None for recording in chosen.values())
        order.assign(production, request.user, chosen, Said("pair-recordings-with-sections", count=count))
        messages.success(request, Said("sections-their-recordings-undo-takes", count=count))
        return redirect(production)
    pairs = proposed_pairs(sections, places, recordings, request.GET.get("way"))
    context = {
        "seen": seen,
        "production": production,
        "rows": pairs.rows,
        "labels": labels,
        "ways": WAYS,
        "way": pairs.way,
        "anew": anew,
        "found": pairs.found,
        "left_sections": [row for row in pairs.rows if not row["label"]],
        "left_recordings": pairs.left,
    }
    return render(request, "board/pairing.html", context)
