"""Storage: what takes the room, deleting what is not needed, and the bin."""

from typing import cast

from django.conf import settings
from django.contrib import messages
from django.shortcuts import redirect, render
from django.views.decorators.http import require_POST

from mastering.said import Said, together
from sermovox.bins import contents
from sermovox.deliveries.models import Delivery
from sermovox.keeping import backups, room, storage
from sermovox.productions.models import Production
from sermovox.recordings.models import Recording
from sermovox.ui.owned import owned
from sermovox.ui.templatetags.figures import size
from sermovox.work import lacking

_MOST_SHOWN = 500


def picture(request):
    """What is in use on the disk: by production and kind, the largest first."""
    use, holdings = storage.in_use(), contents.holdings(request.user)
    rest = [
        (Said("waveforms-measurements-copies-listen"), "cache", use.cache_bytes),
        (Said("their-way"), "incoming", use.incoming_bytes),
        (Said("pictures"), "artwork", use.artwork_bytes),
        (Said("database"), "database", use.database_bytes),
    ]
    largest = max([each.whole_bytes for each in holdings] + [each[2] for each in rest] + [1])
    unused = Recording.objects.of(request.user).usable().unused().select_related("production").order_by("-size_bytes")
    context = {
        "use": use,
        "whole_bytes": use.whole_bytes + use.free_bytes + use.others_bytes,
        "folder": settings.DATA_DIR,
        "holdings": holdings,
        "rest": sorted((each for each in rest if each[2]), key=lambda each: -each[2]),
        "largest": largest,
        "unused": unused.defer("figures")[:_MOST_SHOWN],
        "lacking": lacking.sentences(lacking.STAND_INS, lacking.WATCHER),
        "reserve": room.reserve().exists(),
        "backups": settings.BACKUPS_DIR,
        "backed_up_at": backups.newest_at(settings.BACKUPS_DIR) if settings.BACKUPS_DIR else None,
    }
    return render(request, "bins/picture.html", context)


@require_POST
def free(request):
    freed = storage.free_cache()
    messages.success(
        request,
        Said("free-again-waveforms-copies-listen", freed=size(freed)) if freed else Said("there-nothing-free"),
    )
    return redirect("bins:picture")


def of_production(request, production_id: int):
    """What one production keeps, to choose from what is deleted."""
    production = owned(request, Production.objects, pk=production_id)
    recordings = production.recordings.with_duration().order_by("-size_bytes", "name").defer("figures")
    unused = set(production.recordings.unused().values_list("pk", flat=True))
    context = {
        "production": production,
        "recordings": [(each, each.pk in unused) for each in recordings[:_MOST_SHOWN]],
        "deliveries": contents.deliveries_of(production)[:_MOST_SHOWN],
        "size_bytes": contents.size_of_production(production),
    }
    return render(request, "bins/production.html", context)


@require_POST
def delete(request):
    """Put chosen things in the bin, once it was said what goes and what it is needed for."""
    rows = contents.chosen(request.user, request.POST.getlist("chosen"), binned=False)
    back = request.POST.get("back", "")
    back = back if back.startswith("/") and not back.startswith("//") and back.isprintable() else "/"
    if not rows:
        messages.error(request, Said("choose-what-deleted"))
        return redirect(back)
    return _delete(request, rows, back)


@require_POST
def delete_recording(request, pk: int):
    """The same for one recording."""
    recording = owned(request, Recording.objects, pk=pk)
    return _delete(request, [recording], recording.production.get_absolute_url())


def _delete(request, rows: list[contents.Binned], back: str):
    worthless = all(isinstance(row, Recording) and row.state == Recording.State.REFUSED for row in rows)
    if "sure" not in request.POST and not worthless:
        listed = [_told(row) for row in rows]
        context = {"rows": listed, "whole_bytes": sum(each["size_bytes"] for each in listed), "back": back}
        context["keep_binned_days"] = round(settings.KEEP_BINNED_DAYS)
        return render(request, "bins/delete.html", context)
    done, refused = contents.each(rows, "put_away")
    if done:
        messages.success(request, Said("deleted-until-emptied-bin-gives", count=len(rows), name=str(rows[0])))
    for sentence in refused:
        messages.error(request, sentence)
    gone = any(isinstance(row, Production) for row in rows)
    return redirect("productions:list" if gone else back)


def binned(request):
    """The bin: what was deleted or replaced, how long it stays, and taking it back."""
    entries = contents.bin_of(request.user)
    context = {"entries": entries, "whole_bytes": sum(entry.size_bytes for entry in entries)}
    return render(request, "bins/bin.html", context)


@require_POST
def take_back(request):
    rows = contents.chosen(request.user, request.POST.getlist("chosen"), binned=True)
    done, refused = contents.each(rows, "take_back")
    if done:
        messages.success(request, Said("back", count=len(rows), rows=rows[0], done=done))
    for sentence in refused:
        messages.error(request, sentence)
    if not rows:
        messages.error(request, Said("choose-what-taken-back"))
    return redirect("bins:bin")


@require_POST
def empty(request):
    """Let what was chosen go for good, once that was asked."""
    keys, entries = set(request.POST.getlist("chosen")), contents.bin_of(request.user)
    if "all" not in request.POST:
        entries = [entry for entry in entries if entry.key in keys]
    if not entries:
        messages.error(request, Said("choose-what-go-good"))
        return redirect("bins:bin")
    whole_bytes = sum(entry.size_bytes for entry in entries)
    if "sure" not in request.POST:
        return render(request, "bins/empty.html", {"entries": entries, "whole_bytes": whole_bytes})
    rows = contents.chosen(request.user, [entry.key for entry in entries], binned=True)
    done, _ = contents.each(rows, "empty_bin")
    messages.success(request, Said("gone-good-bin", count=done, whole_bytes=size(whole_bytes)))
    return redirect("bins:bin")


def _told(row: contents.Binned) -> dict:
    """What the question before deleting says of one thing."""
    if isinstance(row, Production):
        brought, made = row.recordings.count(), row.deliveries.count()
        words = together([Said("count-recordings", count=brought), Said("count-deliveries", count=made)], ", ")
        return _line("production", row, contents.size_of_production(row), words)
    if isinstance(row, Delivery):
        size_bytes = contents.sizes_of([row]).get(row.pk, 0)
        made, under_way = row.files.made().count(), row.files.under_way().exists()
        words = Said("finished-files", count=made)
        return _line("delivery", row, size_bytes, Said("what-not-made-yet-not", words=words) if under_way else words)
    recording = cast(Recording, row)
    count = recording.file_count
    made_of = Said("finished-files-were-made-from", count=count) if count else ""
    return _line("recording", recording, recording.size_bytes, made_of) | {"uses": recording.uses()}


def _line(what: str, row, size_bytes: int, words: str) -> dict:
    named = {"key": f"{what}-{row.pk}", "what": what, "row": row}
    return named | {"size_bytes": size_bytes, "words": words, "uses": []}
