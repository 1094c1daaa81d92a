"""The listening desk."""

from django.urls import path

from sermovox.listening import views

app_name = "listening"
urlpatterns = [
    path("sections/<int:pk>/", views.desk, name="desk"),
    path("sections/<int:pk>/sound/", views.sound, name="sound"),
    path("sections/<int:pk>/try/", views.attempt, name="try"),
    path("sections/<int:pk>/answer/", views.answer, name="answer"),
    path("trials/<int:pk>/away/", views.away, name="away"),
    path("sections/<int:pk>/ask/<int:kbps>/", views.ask, name="ask"),
]
