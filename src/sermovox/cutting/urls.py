"""Pages of recordings, and the programmes of sections."""

from django.urls import path

from sermovox.cutting.views import chapters, marks, page, programme, texts

app_name = "cutting"
urlpatterns = [
    path("<int:pk>/", page.page, name="page"),
    path("<int:pk>/state/", page.state, name="state"),
    path("<int:pk>/do/", page.do, name="do"),
    path("<int:pk>/mark/", page.mark_here, name="mark-here"),
    path("<int:pk>/pauses/", page.pauses, name="pauses"),
    path("<int:pk>/propose/", page.propose, name="propose"),
    path("<int:pk>/samples/", page.samples, name="samples"),
    path("<int:pk>/snap/", page.snap, name="snap"),
    path("<int:pk>/listen.wav", page.listen, name="listen"),
    path("<int:pk>/retakes/", page.retakes, name="retakes"),
    path("<int:pk>/words/", texts.words, name="words"),
    path("<int:pk>/words/listen/", texts.listen, name="words-listen"),
    path("<int:pk>/words.<str:kind>", texts.take_out, name="words-out"),
    path("<int:pk>/text/", texts.give, name="text"),
    path("<int:pk>/marks/in/", marks.bring_in, name="marks-in"),
    path("<int:pk>/marks/<str:name>", marks.take_out, name="marks-out"),
    path("sections/<int:pk>/", programme.programme, name="programme"),
    path("sections/<int:pk>/one-level/", programme.one_level, name="one-level"),
    path("sections/<int:pk>/chapters/", chapters.chapters, name="chapters"),
    path("sections/<int:pk>/chapters/<str:sha256>.jpg", chapters.picture, name="chapter-picture"),
    path("sections/<int:pk>/listen.wav", programme.listen, name="programme-listen"),
]
