"""What stand-ins have received."""

from django.urls import path

from sermovox.standins import views

app_name = "standins"
urlpatterns = [
    path("", views.shown, name="station"),
    path("mischief/", views.mischief, name="mischief"),
    path("empty/", views.empty, name="empty"),
]
