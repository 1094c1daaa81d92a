"""Recordings."""

from django.urls import path

from sermovox.recordings import tus, views

app_name = "recordings"
urlpatterns = [
    path("uploads/into/<int:production_id>/", tus.uploads, name="uploads"),
    path("uploads/<uuid:pk>/", tus.upload, name="upload"),
    path("arrivals/<int:production_id>/", views.arrivals, name="arrivals"),
    path("watched/<int:pk>/put-away/", views.put_away, name="put-away"),
    path("<int:pk>/", views.slip, name="slip"),
    path("<int:pk>/facts/", views.slip_facts, name="facts"),
    path("<int:pk>/audio/", views.audio, name="audio"),
    path("<int:pk>/waveform/", views.waveform, name="waveform"),
    path("<int:pk>/use/", views.use_again, name="use"),
    path("<int:pk>/measure/", views.measure_now, name="measure"),
]
