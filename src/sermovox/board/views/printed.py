"""The running order sheet: to print, as PDF, as CSV."""

from django.http import HttpResponse
from django.shortcuts import render
from django.utils.http import content_disposition_header

from sermovox.board import printed
from sermovox.productions.models import Production
from sermovox.ui.owned import owned


def page(request, pk: int):
    production = owned(request, Production.objects, pk=pk)
    lines = printed.lines(production)
    total_s = sum(line.duration_s or 0.0 for line in lines)
    return render(request, "board/printed.html", {"production": production, "lines": lines, "total_s": total_s})


def as_csv(request, pk: int):
    production = owned(request, Production.objects, pk=pk)
    return _sent(printed.as_csv(production), "text/csv; charset=utf-8", "csv", production)


def as_pdf(request, pk: int):
    production = owned(request, Production.objects, pk=pk)
    return _sent(printed.as_pdf(production), "application/pdf", "pdf", production)


def _sent(content, content_type: str, ending: str, production: Production) -> HttpResponse:
    response = HttpResponse(content, content_type=content_type)
    response["Content-Disposition"] = content_disposition_header(True, f"{production.key}-running-order.{ending}")
    return response
