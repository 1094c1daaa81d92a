"""What stand-ins have received."""

from django.urls import path

from sermovox.standins import views

app_name = "standins"
urlpatterns = [
    path("<slug:name>/", views.shown, name="stand-in"),
    path("<slug:name>/mischief/", views.mischief, name="mischief"),
    path("<slug:name>/empty/", views.empty, name="empty"),
]
