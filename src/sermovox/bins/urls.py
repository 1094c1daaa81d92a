"""Storage and the bin."""

from django.urls import path

from sermovox.bins import views

app_name = "bins"
urlpatterns = [
    path("", views.picture, name="picture"),
    path("free/", views.free, name="free"),
    path("of/<int:production_id>/", views.of_production, name="production"),
    path("delete/", views.delete, name="delete"),
    path("bin/", views.binned, name="bin"),
    path("bin/take-back/", views.take_back, name="take-back"),
    path("bin/empty/", views.empty, name="empty"),
]
