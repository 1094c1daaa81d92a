"""Proof sheets, listening through, pickups."""

from django.urls import path

from sermovox.proofing import sharing, views

app_name = "proofing"
urlpatterns = [
    path("<int:pk>/", views.sheet, name="sheet"),
    path("<int:pk>/do/", views.do, name="do"),
    path("<int:pk>/sheet.<str:kind>", views.printed, name="printed"),
    path("<int:pk>/listen/", views.listening, name="listening"),
    path("<int:pk>/share/", sharing.share, name="share"),
    path("<int:pk>/share/<int:link>/end/", sharing.end, name="share-end"),
    path("read/<str:key>/", sharing.read, name="read"),
    path("read/<str:key>/listen.wav", sharing.listen, name="read-listen"),
    path("read/<str:key>/remark/", sharing.remark, name="read-remark"),
    path("productions/<int:pk>/pickups/", views.pickups, name="pickups"),
    path("productions/<int:pk>/pickups.<str:kind>", views.pickups_printed, name="pickups-printed"),
    path("productions/<int:pk>/pickups/take/<int:recording>/", views.take, name="take"),
]
