"""All addresses."""

from django.urls import include, path

urlpatterns = [
    path("", include("sermovox.productions.urls")),
    path("account/", include("sermovox.accounts.urls")),
    path("recordings/", include("sermovox.recordings.urls")),
    path("cutting/", include("sermovox.cutting.urls")),
    path("levels/", include("sermovox.levelling.urls")),
    path("outlets/", include("sermovox.outlets.urls")),
    path("deliveries/", include("sermovox.deliveries.urls")),
]

handler403 = "sermovox.ui.views.not_allowed"
handler404 = "sermovox.ui.views.not_found"
handler500 = "sermovox.ui.views.went_wrong"
