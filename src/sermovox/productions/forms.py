"""Forms for productions and sections."""

from django import forms
from django.utils import timezone

from sermovox.productions.models import Production, Section
from sermovox.ui.forms import Dressed


class ProductionForm(Dressed, forms.ModelForm):
    class Meta:
        model = Production
        fields = ["title", "author", "narrator", "year", "language"]
        help_texts = {"title": "The book, the series or the programme."}

    def clean_year(self):
        year = self.cleaned_data["year"]
        if year is not None and not 1000 <= year <= timezone.now().year + 5:
            raise forms.ValidationError("Enter a year with four digits, such as 2026.")
        return year


class SectionForm(Dressed, forms.ModelForm):
    class Meta:
        model = Section
        fields = ["title", "role", "number", "content_kind"]
        help_texts = {"content_kind": "Some outlets bring speech and music to different levels."}
