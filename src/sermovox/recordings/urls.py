"""Recordings."""

from django.urls import path

from sermovox.recordings import views

app_name = "recordings"
urlpatterns = [
    path("upload/<int:production_id>/", views.upload, name="upload"),
    path("<int:pk>/", views.slip, name="slip"),
    path("<int:pk>/facts/", views.slip_facts, name="facts"),
    path("<int:pk>/audio/", views.audio, name="audio"),
    path("<int:pk>/waveform/", views.waveform, name="waveform"),
    path("<int:pk>/use/", views.use_again, name="use"),
    path("<int:pk>/delete/", views.delete, name="delete"),
]
