"""Forms for productions and sections."""

from typing import cast

from django import forms
from django.utils import timezone

from mastering.errors import MasteringError
from sermovox.apart import picture_facts
from sermovox.productions import order
from sermovox.productions.models import Production, Section
from sermovox.ui.forms import Dressed
from sermovox.ui.revisions import Guarded


class ProductionForm(Guarded, Dressed, forms.ModelForm):
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
                picture_facts(self._picture)
            except MasteringError as error:
                raise forms.ValidationError(str(error)) from error
        return picture

    def save(self, commit=True):
        production = super().save(commit)
        if self.cleaned_data.get("picture"):
            production.set_artwork(self._picture)
        return production


_AS_CUT = "as cut"


class SectionForm(Guarded, Dressed, forms.ModelForm):
    recording = forms.ChoiceField(required=False, help_text="Another one takes the place of all it is made of.")

    class Meta:
        model = Section
        fields = [
            "title",
            "role",
            "number",
            "part",
            "content_kind",
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

    field_order = ["title", "role", "number", "part", "content_kind", "recording"]

    def __init__(self, *args, instance: Section, **kwargs):
        has = _AS_CUT if instance.is_cut else str(instance.recording_id or "")
        super().__init__(*args, instance=instance, initial={"recording": has}, **kwargs)
        own = instance.production.recordings.usable().defer("figures", "remarks").order_by("name")
        choices = {"": "none yet"} | {str(recording.pk): recording.name for recording in own}
        if instance.is_cut:
            count = len(instance.made_of)
            choices = {_AS_CUT: f"as it is cut, of {count} piece{'s' * (count != 1)}"} | choices
        elif instance.recording:
            choices.setdefault(has, instance.recording.name)
        cast(forms.ChoiceField, self.fields["recording"]).choices = list(choices.items())

    def save(self, commit=True):
        section, chosen = super().save(commit), self.cleaned_data["recording"]
        if chosen != self.initial["recording"]:
            pieces = [{"recording_id": int(chosen)}] if chosen else []
            order.write(section.production, [{"pk": section.pk, "pieces": pieces, "length_s": None}])
            section.forget_pieces()
        return section
