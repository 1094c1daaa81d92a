"""Forms of chapter marks."""

from django import forms

from mastering.errors import MasteringError
from mastering.tagging.inscription import tag_text
from sermovox.apart import chapter_picture
from sermovox.ui.forms import Dressed

_LONGEST_TITLE = 200


class ChapterForm(Dressed, forms.Form):
    """What one chapter mark says. `key` is that of its section or point."""

    key = forms.CharField(widget=forms.HiddenInput)
    title = forms.CharField(max_length=_LONGEST_TITLE, required=False)
    # A plain text field: what is typed without "https://" gets it, where the browser's own field would refuse it.
    link = forms.URLField(
        required=False,
        assume_scheme="https",
        error_messages={"invalid": "This is no web address. Write it like example.org/more, or leave it empty."},
        widget=forms.TextInput(attrs={"inputmode": "url", "spellcheck": "false"}),
    )
    picture = forms.FileField(required=False, widget=forms.FileInput(attrs={"accept": "image/jpeg,image/png"}))
    without = forms.BooleanField(required=False, label="Take it away")

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
