"""Forms for productions and sections."""

from django import forms
from django.utils import timezone

from mastering.errors import MasteringError
from mastering.tagging.artwork import inspect
from sermovox.productions.models import Production, Section
from sermovox.ui.forms import Dressed


class ProductionForm(Dressed, forms.ModelForm):
    picture = forms.FileField(
        label="Artwork",
        required=False,
        help_text="A square JPEG or PNG, as large as you have it. It is made smaller for each outlet, never larger.",
        widget=forms.FileInput(attrs={"accept": "image/jpeg,image/png"}),
    )

    class Meta:
        model = Production
        fields = [
            "title",
            "subtitle",
            "author",
            "narrator",
            "publisher",
            "year",
            "language",
            "genre",
            "code",
            "contact",
            "copyright_line",
            "description",
        ]
        help_texts = {
            "title": "The book, the series or the programme.",
            "code": "What the client calls it, for file names.",
        }
        widgets = {"description": forms.Textarea(attrs={"rows": 3})}

    def clean_year(self):
        year = self.cleaned_data["year"]
        if year is not None and not 1000 <= year <= timezone.now().year + 5:
            raise forms.ValidationError("Enter a year with four digits, such as 2026.")
        return year

    def clean_picture(self):
        picture = self.cleaned_data["picture"]
        if picture:
            self._picture = picture.read()
            try:
                inspect(self._picture)
            except MasteringError as error:
                raise forms.ValidationError(str(error)) from error
        return picture

    def save(self, commit=True):
        production = super().save(commit)
        if self.cleaned_data.get("picture"):
            production.set_artwork(self._picture)
        return production


class SectionForm(Dressed, forms.ModelForm):
    class Meta:
        model = Section
        fields = [
            "title",
            "role",
            "number",
            "part",
            "content_kind",
            "recording",
            "exact_name",
            "notes",
            "script",
        ]
        help_texts = {
            "content_kind": "Some outlets bring speech and music to different levels.",
            "exact_name": "Where the client dictates it.",
        }
        labels = {"script": "Spoken text", "notes": "Notes for listeners"}
        widgets = {
            "notes": forms.Textarea(attrs={"rows": 3}),
            "script": forms.Textarea(attrs={"rows": 4}),
        }

    def __init__(self, *args, **kwargs):
        super().__init__(*args, **kwargs)
        own = self.instance.production.recordings.usable().defer("figures", "remarks").order_by("name")
        self.fields["recording"].queryset = own
        self.fields["recording"].empty_label = "none yet"
