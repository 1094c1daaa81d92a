"""Outlets."""

from django.urls import path

from sermovox.outlets import views

app_name = "outlets"
urlpatterns = [
    path("", views.outlet_list, name="list"),
    path("<slug:key>/", views.outlet_sheet, name="sheet"),
]
