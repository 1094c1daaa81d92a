"""Sending, and what was sent."""

from django.urls import path

from sermovox.dispatch import links, views

app_name = "dispatch"
urlpatterns = [
    path("", views.sent, name="sent"),
    path("outlets/<slug:key>/", views.receives, name="receives"),
    path("outlets/<slug:key>/reach/", views.reach_now, name="reach"),
    path("outlets/<slug:key>/forget/", views.forget, name="forget"),
    path("deliveries/<int:pk>/", views.send, name="send"),
    path("deliveries/<int:pk>/once/", views.wish, name="wish"),
    path("deliveries/<int:pk>/heard/", views.all_heard, name="all-heard"),
    path("files/<int:pk>/heard/", views.heard, name="heard"),
    path("productions/<int:production_id>/", views.handing, name="handing"),
    path("productions/<int:production_id>/make/", views.make_and_send, name="make-and-send"),
    path("productions/<int:production_id>/<slug:key>/due/", views.promise, name="promise"),
    path("productions/<int:production_id>/<slug:key>/by-itself/", views.standing, name="standing"),
    path("<int:pk>/", views.detail, name="detail"),
    path("<int:pk>/progress/", views.progress, name="progress"),
    path("<int:pk>/pause/", views.pause, name="pause"),
    path("<int:pk>/go-on/", views.go_on, name="go-on"),
    path("<int:pk>/cancel/", views.cancel, name="cancel"),
    path("<int:pk>/confirm/", views.confirm, name="confirm"),
    path("<int:pk>/end-links/", views.end_links, name="end-links"),
    path("fetch/<str:key>/", links.fetch, name="fetch"),
    path("fetch/<str:key>/<int:pk>/", links.fetch_file, name="fetch-file"),
    path("<int:pk>/receipt.csv", views.receipt, {"kind": "csv"}, name="receipt.csv"),
    path("<int:pk>/receipt.json", views.receipt, {"kind": "json"}, name="receipt.json"),
]
