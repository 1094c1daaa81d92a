"""Forms of pieces and of chapter marks."""

from typing import Any

from django import forms

from mastering.clock import clock
from mastering.editing.assembly import BUTT, CROSSFADE, PAUSE, Stretch, check_join
from mastering.editing.labels import seconds_of
from mastering.editing.pieces import BadCut, Span, check_span
from mastering.errors import MasteringError
from mastering.said import Said
from mastering.tagging.inscription import tag_text
from sermovox.keeping.apart import chapter_picture
from sermovox.productions.models import Production
from sermovox.recordings.models import Recording
from sermovox.ui.forms import Dressed, first_error
from sermovox.ui.numerals import whole_number

_LONGEST_TITLE = 200
_DEFAULT_JOIN_S = {BUTT: 0.0, CROSSFADE: 0.5, PAUSE: 1.0}


class TimeField(forms.CharField):
    """A time as people write it, such as 1:02:03.5, in seconds; None where nothing is written."""

    def __init__(self, **kwargs):
        super().__init__(required=False, **kwargs)

    def clean(self, value) -> float | None:
        text = super().clean(value)
        try:
            return seconds_of(text, str(self.label)) if text else None
        except MasteringError as error:
            raise forms.ValidationError(str(error)) from error


class DecibelsField(forms.CharField):
    """Decibels as people write them, such as −3,5; None where nothing is written."""

    def __init__(self, **kwargs):
        super().__init__(required=False, **kwargs)

    def clean(self, value) -> float | None:
        text = super().clean(value).replace(",", ".").replace("−", "-")
        try:
            return round(float(text), 2) if text else None
        except ValueError as error:
            raise forms.ValidationError(Said("no-gain-write-decibels-such", text=text[:20])) from error


class PieceForm(forms.Form):
    """One piece of a section: which stretch of which recording, how it joins the one before, what is done to it.

    `was` is the piece as it is, where one is changed: what is not written, and a time that was not changed, stay.
    """

    recording = forms.CharField(required=False)
    start = TimeField(label=Said("start"))
    end = TimeField(label=Said("end"))
    join = forms.CharField(required=False)
    join_s = TimeField(label=Said("join"))
    kind = forms.CharField(required=False)
    gain_db = DecibelsField()
    fade_in_s = TimeField(label=Said("the-fade-in"))
    fade_out_s = TimeField(label=Said("the-fade-out"))

    def __init__(self, data, *, production: Production, was: Stretch | None = None):
        super().__init__(data)
        self._production, self._was = production, was

    def stretch(self) -> Stretch:
        """What the form asks for. Raises BadCut."""
        if not self.is_valid():
            raise BadCut(first_error(self))
        said, was = self.cleaned_data, self._was
        recording = self._recording(was.recording if was else said["recording"])
        join = said["join"] or BUTT
        start_sample, end_sample = self._span(recording)
        stretch = Stretch(
            recording=str(recording.pk),
            start_sample=start_sample,
            end_sample=end_sample,
            join=join,
            join_s=0.0 if join == BUTT else _else(said["join_s"], _DEFAULT_JOIN_S.get(join, 0.0)),
            kind=said["kind"] if "kind" in self.data or not was else was.kind,
            gain_db=_else(said["gain_db"], was.gain_db if was else 0.0),
            fade_in_s=said["fade_in_s"] or 0.0,
            fade_out_s=said["fade_out_s"] or 0.0,
        )
        check_span(Span(stretch.recording, stretch.start_sample, stretch.end_sample), recording.frames)
        check_join(stretch)
        return stretch

    def _recording(self, key: str) -> Recording:
        recording = self._production.recordings.filter(pk=whole_number(key) or 0).first()
        if recording is None or not recording.ready:
            raise BadCut(Said("choose-recording-production-one-not"))
        return recording

    def _span(self, recording: Recording) -> tuple[int, int]:
        said, was, rate_hz = self.cleaned_data, self._was, recording.rate_hz
        start = 0 if said["start"] is None else round(said["start"] * rate_hz)
        end = recording.frames if said["end"] is None else round(said["end"] * rate_hz)
        if 0 < end - recording.frames <= rate_hz // 1000:
            # Written to the millisecond, the end may lie a moment beyond it.
            end = recording.frames
        # A time that was not changed stays where it is to the sample.
        if was and self.data.get("start", "").strip() == clock(was.start_sample / rate_hz, 3):
            start = was.start_sample
        if was and self.data.get("end", "").strip() == clock(was.end_sample / rate_hz, 3):
            end = was.end_sample
        return start, end


def _else(value: float | None, otherwise: Any) -> float:
    return otherwise if value is None else value


class ChapterForm(Dressed, forms.Form):
    """What one chapter mark says. `key` is that of its section or point."""

    key = forms.CharField(widget=forms.HiddenInput)
    title = forms.CharField(max_length=_LONGEST_TITLE, required=False)
    # A plain text field: what is typed without "https://" gets it, where the browser's own field would refuse it.
    link = forms.URLField(
        required=False,
        assume_scheme="https",
        error_messages={"invalid": Said("no-web-address-write-like")},
        widget=forms.TextInput(attrs={"inputmode": "url", "spellcheck": "false"}),
    )
    picture = forms.FileField(required=False, widget=forms.FileInput(attrs={"accept": "image/jpeg,image/png"}))
    without = forms.BooleanField(required=False, label=Said("take-it-away"))

    def __init__(self, *args, **kwargs):
        super().__init__(*args, **kwargs)
        self.fields["without"].widget.attrs["class"] = "form-check-input"

    def clean_title(self) -> str:
        try:
            return tag_text("title", self.cleaned_data["title"])
        except MasteringError as error:
            raise forms.ValidationError(str(error)) from error

    def clean_picture(self) -> bytes:
        """The picture as a chapter carries it; empty for none."""
        picture = self.cleaned_data["picture"]
        try:
            return chapter_picture(picture.read()) if picture else b""
        except MasteringError as error:
            raise forms.ValidationError(str(error)) from error


ChapterForms = forms.formset_factory(ChapterForm, extra=0)
