"""Productions, sections, and the screens that look across everything made of them."""

from django.urls import path

from sermovox.board.views import names, pairing, printed, productions, running_order, script

app_name = "productions"
urlpatterns = [
    path("", productions.production_list, name="list"),
    path("productions/new/", productions.new, name="new"),
    path("productions/begin/", productions.begin, name="begin"),
    path("productions/<int:pk>/shelve/", productions.shelve, name="shelve"),
    path("productions/<int:pk>/another/", productions.another, name="another"),
    path("productions/<int:pk>/", running_order.running_order, name="running-order"),
    path("productions/<int:pk>/rows/", running_order.rows, name="rows"),
    path("productions/<int:pk>/change/", running_order.change, name="change"),
    path("productions/<int:pk>/history/", productions.history, name="history"),
    path("productions/<int:pk>/edit/", productions.edit, name="edit"),
    path("productions/<int:pk>/outlets/", productions.outlets, name="outlets"),
    path("productions/<int:pk>/artwork/", productions.artwork, name="artwork"),
    path("productions/<int:pk>/artwork/remove/", productions.artwork_remove, name="artwork-remove"),
    path("productions/<int:pk>/script/", script.script, name="script"),
    path("productions/<int:pk>/script/read/", script.read, name="script-read"),
    path("productions/<int:pk>/script/preview/", script.preview, name="script-preview"),
    path("productions/<int:pk>/script/make/", script.make, name="script-make"),
    path("productions/<int:pk>/pairing/", pairing.pairing, name="pairing"),
    path("productions/<int:pk>/names/", names.names, name="names"),
    path("productions/<int:pk>/names/preview/", names.preview, name="names-preview"),
    path("productions/<int:pk>/names/examples/", names.examples, name="names-examples"),
    path("productions/<int:pk>/names/save/", names.save, name="names-save"),
    path("productions/<int:pk>/names/exact/preview/", names.exact_preview, name="exact-preview"),
    path("productions/<int:pk>/names/exact/", names.exact_apply, name="exact-apply"),
    path("productions/<int:pk>/tally/", productions.tally, name="tally"),
    path("productions/<int:pk>/sheet/", printed.page, name="sheet"),
    path("productions/<int:pk>/sheet.csv", printed.as_csv, name="sheet-csv"),
    path("productions/<int:pk>/sheet.pdf", printed.as_pdf, name="sheet-pdf"),
    path("sections/<int:pk>/", productions.section, name="section"),
    path("sections/<int:pk>/delete/", productions.section_delete, name="section-delete"),
]
