"""Levels of a production and of its sections."""

from django.urls import path

from sermovox.levelling import views

app_name = "levelling"
urlpatterns = [
    path("<int:pk>/", views.levels, name="levels"),
    path("<int:pk>/rows/", views.rows, name="rows"),
    path("<int:pk>/change/", views.change, name="change"),
    path("sections/<int:pk>/", views.section, name="section"),
    path("sections/<int:pk>/plan/", views.plan, name="plan"),
    path("sections/<int:pk>/heard.wav", views.heard, name="heard"),
]
