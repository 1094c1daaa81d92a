"""How outlets receive, sending a delivery, and what was sent."""

from dataclasses import replace
from functools import partial

from django.contrib import messages
from django.core.paginator import Paginator
from django.db import transaction
from django.db.models import Count, Q, Sum
from django.http import Http404, HttpResponse
from django.shortcuts import redirect, render
from django.urls import reverse
from django.utils import timezone
from django.views.decorators.http import require_POST

from mastering.certain import certain
from mastering.errors import MasteringError
from mastering.outlets.outlet import BadOutlet, Outlet
from mastering.outlets.ways import WAYS
from mastering.said import Said
from sermovox.deliveries.bundles import of_run
from sermovox.deliveries.models import Delivery, FinishedFile
from sermovox.deliveries.views import started
from sermovox.dispatch import receipts, sending
from sermovox.dispatch.forms import DueForm, OfForm, ReceivingForm, SendForm, WayForm
from sermovox.dispatch.handing import AFTER_HEARING, NO_WISH, WISHES, Owing, owing_of, promised
from sermovox.dispatch.models import Dispatch, Heard, Part, Promise, Secret, Wish
from sermovox.dispatch.over_there import folder_over_there
from sermovox.dispatch.reaching import Step, reach
from sermovox.dispatch.tasks import send_dispatch, tidy_dispatch
from sermovox.dispatch.ways.carrier import NotSent
from sermovox.outlets.models import RuleSheet, outlets_of
from sermovox.productions.models import Production
from sermovox.ui import words
from sermovox.ui.owned import owned
from sermovox.ui.revisions import ELSEWHERE, is_as_seen, revision_of
from sermovox.work.queue import enqueue_once

_DISPATCHES = Dispatch.objects.select_related("delivery__production", "production", "owner")
_A_PAGE = 100
_ARRIVED = Q(parts__state__in=Part.LANDED)


def sent(request):
    """What is owed, and every dispatch, newest first; of all productions, or of one."""
    counted = {
        "part_count": Count("parts"),
        "arrived_count": Count("parts", filter=_ARRIVED),
        "whole_bytes": Sum("parts__size_bytes"),
    }
    # Counting leaves the order that rows have by themselves aside.
    every = Dispatch.objects.of(request.user).annotate(**counted).order_by("-pk")
    asked = OfForm(request.GET)
    key = asked.cleaned_data["production"] if asked.is_valid() else None
    production = owned(request, Production.objects, pk=key) if key else None
    if production:
        every = every.filter(production=production)
    context = {
        "production": production,
        "owed": [] if production else promised(request.user),
        "page": Paginator(every, _A_PAGE).get_page(request.GET.get("page")),
        "asked": f"production={production.pk}" if production else "",
    }
    return render(request, "dispatch/sent.html", context)


def handing(request, production_id: int):
    """Handing a production over: how far it is at each outlet, and sending what can go to those that are ticked."""
    production = owned(request, Production.objects, pk=production_id)
    rows = owing_of(production)
    if request.method == "POST":
        ticked = set(request.POST.getlist("outlet"))
        begun = [dispatch for row in rows if row.outlet.key in ticked and (dispatch := _begun(request, row))]
        if not ticked:
            messages.error(request, Said("tick-least-one-outlet"))
        if len(begun) == 1:
            return redirect(begun[0])
        if begun:
            messages.success(request, Said("files-their-way-outlets", count=len(begun)))
        return redirect(f"{reverse('dispatch:sent')}?production={production.pk}" if begun else request.path)
    return render(request, "dispatch/handing.html", {"production": production, "rows": rows, "wishes": WISHES})


def _begun(request, row: Owing) -> Dispatch | None:
    """Begin to send what can go to an outlet; what stands in the way is said."""
    try:
        dispatch = sending.begin(row.bundle, row.outlet, [file.pk for file in row.to_send])
    except MasteringError as error:
        messages.error(request, Said("of-name", name=row.outlet.title, words=str(error)))
        return None
    _queue(dispatch)
    return dispatch


@require_POST
def promise(request, production_id: int, key: str):
    """Note for whom a production is at an outlet and by which day, or that nothing is promised."""
    same = {"production": owned(request, Production.objects, pk=production_id), "outlet_key": _mine(request, key).key}
    form = DueForm(request.POST)
    if not form.is_valid():
        return HttpResponse(words.said(Said("no-day")), status=400)
    if any(form.cleaned_data.values()):
        Promise.objects.update_or_create(**same, defaults=form.cleaned_data | {"kept_at": None})
    else:
        Promise.objects.filter(**same).delete()
    return redirect("dispatch:handing", production_id)


@require_POST
def standing(request, production_id: int, key: str):
    """Whether what is made of a production for an outlet from now on is sent by itself, and when."""
    same = {"production": owned(request, Production.objects, pk=production_id), "outlet_key": _mine(request, key).key}
    asked = request.POST.get("wish", "")
    if asked not in WISHES:
        raise Http404
    if asked == NO_WISH:
        Wish.objects.filter(**same, delivery=None).delete()
    else:
        Wish.objects.update_or_create(**same, delivery=None, defaults={"after_hearing": asked == AFTER_HEARING})
    return redirect("dispatch:handing", production_id)


@require_POST
def heard(request, pk: int):
    """Somebody has listened to a finished file, or takes that back."""
    file = owned(request, FinishedFile.objects, pk=pk)
    kept, made = Heard.objects.get_or_create(file=file, defaults={"by": request.user.called})
    if not made:
        kept.delete()
    return redirect(file)


@require_POST
def all_heard(request, pk: int):
    """Somebody has listened to all files of a delivery."""
    delivery = owned(request, Delivery.objects, pk=pk)
    files = [Heard(file=file, by=request.user.called) for file in delivery.files.standing().filter(heard=None)]
    Heard.objects.bulk_create(files, ignore_conflicts=True)
    return redirect(delivery)


@require_POST
def make_and_send(request, production_id: int):
    """Begin a run, and have each delivery of it sent once all of it passes."""
    answer, begun = started(request, production_id)
    known = outlets_of(request.user)
    for delivery in begun:
        Wish.objects.get_or_create(production_id=production_id, outlet_key=delivery.outlet_key, delivery=delivery)
        outlet = known.get(delivery.outlet_key)
        if outlet and outlet.receives is None:
            messages.error(request, Said("not-stated-yet-how-receives-sent", title=outlet.title))
    return answer


def receives(request, key: str):
    """How an outlet receives: its form, and what was written into it."""
    outlet = _mine(request, key)
    stated = outlet.receives.way if outlet.receives else next(iter(WAYS))
    asked = WayForm(request.POST if request.method == "POST" else {"way": request.GET.get("way", stated)})
    kind = WAYS[asked.cleaned_data["way"] if asked.is_valid() else stated]
    posted = (request.POST, request.FILES) if request.method == "POST" else (None, None)
    form = ReceivingForm(kind, outlet.receives, *posted)
    seen = revision_of(outlet.receives)
    if request.method == "POST" and not is_as_seen(request, seen):
        messages.error(request, ELSEWHERE)
        return redirect("dispatch:receives", key)
    if request.method == "POST" and form.is_valid():
        try:
            with transaction.atomic():
                if form.receiving != outlet.receives:
                    changed = replace(outlet, receives=form.receiving)
                    RuleSheet.change(request.user, changed, Said("how-receives", title=kind.title))
                receiving = certain(form.receiving)
                forgotten = Secret.keep(request.user, key, receiving, password=form.password, key=form.key)
        except BadOutlet as error:
            messages.error(request, str(error))
            return redirect("dispatch:receives", key)
        if forgotten:
            messages.error(request, Said("password-forgotten-opens-no-other", forgotten=forgotten))
        messages.success(request, Said("receives-try-now-whether-can", title=outlet.title, title_2=kind.title))
        return redirect("dispatch:receives", key)
    context = {
        "outlet": outlet,
        "form": form,
        "kind": kind,
        "kinds": WAYS.values(),
        "seen": seen,
        "secret": Secret.objects.filter(owner=request.user, outlet_key=key).first(),
    }
    return render(request, "dispatch/receives.html", context)


@require_POST
def reach_now(request, key: str):
    """Try the way as it is stated."""
    outlet = _mine(request, key)
    if outlet.receives is None:
        raise Http404
    try:
        access = Secret.of(request.user, key, outlet.receives)
        steps = reach(outlet.receives, access)
        Secret.know(request.user, key, outlet.receives, access)
    except NotSent as error:
        steps = [Step(False, str(error))]
    return render(request, "dispatch/_reached.html", {"steps": steps, "at": timezone.now()})


@require_POST
def forget(request, key: str):
    """Forget the host key of a server, or all: how an outlet receives, with its password."""
    outlet = _mine(request, key)
    if "host_key" in request.POST:
        Secret.objects.filter(owner=request.user, outlet_key=key).update(host_key="")
        messages.success(request, Said("next-host-key-met-one"))
        return redirect("dispatch:receives", key)
    Secret.objects.filter(owner=request.user, outlet_key=key).delete()
    if outlet.receives:
        RuleSheet.change(request.user, replace(outlet, receives=None), Said("not-stated-any-more-how"))
    messages.success(request, Said("forgotten-password"))
    return redirect("outlets:sheet", key)


def send(request, pk: int):
    """What would be sent of a delivery, and sending it."""
    delivery = owned(request, Delivery.objects.select_related("production"), pk=pk)
    outlet = outlets_of(request.user).get(delivery.outlet_key)
    bundle = of_run(delivery)
    form = SendForm(bundle.files, request.POST if request.method == "POST" else None)
    if request.method == "POST" and outlet and form.is_valid():
        try:
            said = form.cleaned_data
            wishes = {"failing": said["failing"], "replacing": said["replacing"]}
            dispatch = sending.begin(bundle, outlet, said["file"], delivery=delivery, **wishes)
        except MasteringError as error:
            messages.error(request, str(error))
            return redirect("dispatch:send", pk)
        _queue(dispatch)
        return redirect(dispatch)
    last = delivery.dispatches.order_by("-pk").first()
    context = {
        "delivery": delivery,
        "outlet": outlet,
        "bundle": bundle,
        "form": form,
        "last": last,
        "receiving": outlet.receives if outlet else None,
        "folder": folder_over_there(bundle, outlet.receives) if outlet and outlet.receives else "",
        "failing": [file for file in bundle.files if file.state == FinishedFile.State.FAILS],
        "unheard": Heard.without(bundle.files) if outlet and outlet.heard_first else [],
        "whole_bytes": sum(file.figures.get("size_bytes") or 0 for file in bundle.files),
    }
    return render(request, "dispatch/send.html", context)


@require_POST
def wish(request, pk: int):
    """Have a delivery sent by itself once it passes, or no more."""
    delivery = owned(request, Delivery.objects, pk=pk)
    same = {"production_id": delivery.production_id, "outlet_key": delivery.outlet_key}
    kept, made = Wish.objects.get_or_create(**same, delivery=delivery)
    if not made:
        kept.delete()
    return redirect("deliveries:detail", pk)


def detail(request, pk: int):
    dispatch = owned(request, _DISPATCHES, pk=pk)
    dispatch.note_seen()
    return render(request, "dispatch/detail.html", _shown(dispatch))


def progress(request, pk: int):
    """The part of the page that changes while it is sent."""
    dispatch = owned(request, _DISPATCHES, pk=pk)
    dispatch.note_seen()
    return render(request, "dispatch/_dispatch.html", _shown(dispatch))


@require_POST
def pause(request, pk: int):
    dispatch = owned(request, _DISPATCHES, pk=pk)
    dispatch.pause()
    return redirect(dispatch)


@require_POST
def go_on(request, pk: int):
    """Go on with what was paused, is stuck, or waits for its next try."""
    dispatch = owned(request, _DISPATCHES, pk=pk)
    if dispatch.go_on(replacing="replacing" in request.POST):
        _queue(dispatch)
    return redirect(dispatch)


@require_POST
def cancel(request, pk: int):
    dispatch = owned(request, _DISPATCHES, pk=pk)
    dispatch.cancel()
    # After whatever is under way, as one worker does both.
    enqueue_once(tidy_dispatch, dispatch.pk, sending=True)
    return redirect(dispatch)


@require_POST
def confirm(request, pk: int):
    """Somebody has said that a mail is there, or that what was only counted is right."""
    dispatch = owned(request, _DISPATCHES, pk=pk)
    for part in dispatch.parts.filter(state__in=(Part.State.SENT, Part.State.THERE)):
        part.arrive(Said("confirmed", called=request.user.called))
    dispatch.look_whether_arrived()
    return redirect(dispatch)


@require_POST
def end_links(request, pk: int):
    """Let nobody fetch anything by the links of a mail any more."""
    dispatch = owned(request, _DISPATCHES, pk=pk)
    dispatch.end_links()
    return redirect(dispatch)


def receipt(request, pk: int, kind: str):
    dispatch = owned(request, _DISPATCHES, pk=pk)
    make, content_type = _RECEIPTS[kind]
    response = HttpResponse(make(dispatch), content_type=content_type)
    response["Content-Disposition"] = f'attachment; filename="receipt-{dispatch.pk}.{kind}"'
    return response


_RECEIPTS = {
    "csv": (receipts.as_csv, "text/csv; charset=utf-8"),
    "json": (receipts.as_json, "application/json"),
}


def _mine(request, key: str) -> Outlet:
    outlet = outlets_of(request.user).get(key)
    if outlet is None:
        raise Http404
    return outlet


def _queue(dispatch: Dispatch) -> None:
    transaction.on_commit(partial(enqueue_once, send_dispatch, dispatch.pk, sending=True))


def _shown(dispatch: Dispatch) -> dict:
    parts = list(dispatch.parts.all())
    whole, done = sum(part.size_bytes for part in parts), sum(part.sent_bytes for part in parts)
    elapsed_s = (timezone.now() - dispatch.started_at).total_seconds() if dispatch.started_at else 0.0
    moving = dispatch.state == Dispatch.State.SENDING and elapsed_s > 1
    speed = (done - dispatch.started_bytes) / elapsed_s if moving else 0.0
    return {
        "dispatch": dispatch,
        "parts": parts,
        "whole_bytes": whole,
        "done_bytes": done,
        "share": done / whole if whole else 0.0,
        "speed": speed,
        "seconds_left": (whole - done) / speed if speed > 0 else None,
        "linked": sum(part.by_link for part in parts),
        "arrived": sum(part.state in Part.LANDED for part in parts),
        "counted": sum(part.state == Part.State.THERE for part in parts),
    }
