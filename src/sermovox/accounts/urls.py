"""Signing in and out."""

from django.contrib.auth.views import LogoutView
from django.urls import path

from sermovox.accounts import views

app_name = "accounts"
urlpatterns = [
    path("sign-in/", views.SignIn.as_view(), name="sign-in"),
    path("sign-out/", LogoutView.as_view(), name="sign-out"),
    path("first/", views.first_account, name="first"),
    path("first/<str:token>/", views.first_account, name="first-by-link"),
]
