"""Deliveries and finished files."""

from django.urls import path

from sermovox.deliveries import views

_CURRENT = "current/<int:production_id>/<slug:key>/"
app_name = "deliveries"
urlpatterns = [
    path("", views.delivery_list, name="list"),
    path("start/<int:production_id>/", views.start, name="start"),
    path("<int:pk>/", views.detail, name="detail"),
    path("<int:pk>/progress/", views.progress, name="progress"),
    path("<int:pk>/cancel/", views.cancel, name="cancel"),
    path("<int:pk>/again/", views.again, name="again"),
    path("<int:pk>/files.zip", views.download_all, name="download-all"),
    *(path(f"<int:pk>/{name}", views.kept_file, {"name": name}, name=name) for name in views.KEPT),
    path("files/<int:pk>/", views.check_sheet, name="check-sheet"),
    path("files/<int:pk>/mend/", views.mend, name="mend"),
    path("files/<int:pk>/audio/", views.audio, name="audio"),
    path("files/<int:pk>/words.<str:kind>", views.words, name="words"),
    path("files/<int:pk>/waveform/", views.waveform, name="waveform"),
    path("files/<int:pk>/download/", views.download, name="download"),
    path("<int:pk>/tags/", views.tags, name="tags"),
    path(_CURRENT, views.current, name="current"),
    path(f"{_CURRENT}files.zip", views.current_zip, name="current-zip"),
    path(f"{_CURRENT}rewrite/", views.rewrite, name="rewrite"),
    *(path(f"{_CURRENT}{name}", views.current_kept, {"name": name}, name=f"current-{name}") for name in views.KEPT),
    path("files/<int:pk>/take-back/", views.take_back, name="take-back"),
    path("<int:pk>/cover.jpg", views.cover, name="cover"),
    path("<int:pk>/rename/", views.rename, name="rename"),
    path("<int:pk>/rename/undo/", views.rename_undo, name="rename-undo"),
    path("<int:pk>/rename.csv", views.rename_map, name="rename-map"),
]
