"""Outlets and their rule sheets."""

from django.http import Http404
from django.shortcuts import render

from mastering.outlets.checksheet import asked_text
from mastering.outlets.outlet import Outlet, shipped


def outlet_list(request):
    return render(request, "outlets/list.html", {"outlets": shipped().values()})


def outlet_sheet(request, key: str):
    outlet = shipped().get(key)
    if outlet is None:
        raise Http404
    return render(request, "outlets/sheet.html", {"outlet": outlet, "lines": _lines(outlet)})


def _lines(outlet: Outlet) -> list[dict[str, str]]:
    return [
        {
            "label": rule.kind.label,
            "asks": [(variant or "", asked_text(rule, demand)) for variant, demand in rule.demands.items()],
            "source": rule.source,
        }
        for rule in outlet.rules
    ]
