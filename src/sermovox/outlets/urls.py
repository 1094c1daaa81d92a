"""Outlets."""

from django.urls import path

from sermovox.outlets import views

app_name = "outlets"
urlpatterns = [
    path("", views.outlet_list, name="list"),
    path("bring-in/", views.bring_in, name="bring-in"),
    path("compare/", views.compare, name="compare"),
    path("<slug:key>/", views.outlet_sheet, name="sheet"),
    path("<slug:key>.toml", views.take_out, name="take-out"),
    path("<slug:key>/head/", views.head, name="head"),
    path("<slug:key>/copy/", views.copy, name="copy"),
    path("<slug:key>/versions/", views.versions, name="versions"),
    path("<slug:key>/restore/", views.restore, name="restore"),
    path("<slug:key>/remove/", views.remove, name="remove"),
    path("<slug:key>/check/", views.check_files, name="check"),
    path("<slug:key>/checked/", views.checked, name="checked"),
    *(
        path(f"<slug:key>/checked/<uuid:batch>/report.{each}", views.report, {"ending": each}, name=f"report-{each}")
        for each in ("html", "pdf", "txt", "csv", "json")
    ),
    path("<slug:key>/checked/<uuid:batch>/delete/", views.check_delete, name="check-delete"),
    path("<slug:key>/checked/cancel/", views.check_cancel, name="check-cancel"),
    path("<slug:key>/rules/<str:name>/", views.rule, name="rule"),
]
