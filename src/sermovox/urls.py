"""All addresses."""

from django.contrib.auth.decorators import login_not_required
from django.urls import include, path
from django.views.i18n import set_language

from sermovox.bins.views import delete_recording
from sermovox.ui.guide import guide
from sermovox.ui.views import goes_on

urlpatterns = [
    path("", include("sermovox.board.urls")),
    path("language/", login_not_required(set_language), name="set_language"),
    path("goes-on/", goes_on, name="goes-on"),
    path("guide/", guide, name="guide-first"),
    path("guide/<slug:name>/", guide, name="guide"),
    path("account/", include("sermovox.accounts.urls")),
    path("recordings/storage/", include("sermovox.bins.urls")),
    path("recordings/<int:pk>/delete/", delete_recording),
    path("recordings/", include("sermovox.recordings.urls")),
    path("cutting/", include("sermovox.cutting.urls")),
    path("proof/", include("sermovox.proofing.urls")),
    path("levels/", include("sermovox.levelling.urls")),
    path("outlets/", include("sermovox.outlets.urls")),
    path("deliveries/", include("sermovox.deliveries.urls")),
    path("listening/", include("sermovox.listening.urls")),
    path("stand-ins/", include("sermovox.standins.urls")),
    path("sent/", include("sermovox.dispatch.urls")),
]

handler403 = "sermovox.ui.views.not_allowed"
handler404 = "sermovox.ui.views.not_found"
handler500 = "sermovox.ui.views.went_wrong"
