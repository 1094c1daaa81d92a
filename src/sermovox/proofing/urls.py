"""Proof sheets, listening through, pickups."""

from django.urls import path

from sermovox.proofing import views

app_name = "proofing"
urlpatterns = [
    path("<int:pk>/", views.sheet, name="sheet"),
    path("<int:pk>/do/", views.do, name="do"),
    path("<int:pk>/sheet.<str:kind>", views.printed, name="printed"),
    path("<int:pk>/listen/", views.listening, name="listening"),
    path("productions/<int:pk>/pickups/", views.pickups, name="pickups"),
    path("productions/<int:pk>/pickups.<str:kind>", views.pickups_printed, name="pickups-printed"),
    path("productions/<int:pk>/pickups/take/<int:recording>/", views.take, name="take"),
]
