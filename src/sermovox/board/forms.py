"""Forms for productions and sections, their names, and the scripts they are made from."""

import hashlib
from dataclasses import replace
from typing import cast

from django import forms
from django.http import QueryDict
from django.utils import timezone

from mastering.editing.roles import ROLES
from mastering.editing.scripts import COLUMN_SEPARATORS, COLUMNS, LAYOUTS, Layout, recognised, table_layout
from mastering.editing.texts import decoded
from mastering.errors import MasteringError
from mastering.naming.patterns import BadPattern, read_pattern
from mastering.outlets.outlet import Outlet
from mastering.said import Said
from sermovox.board.naming import IN_ORDER
from sermovox.keeping.apart import picture_facts
from sermovox.productions import order
from sermovox.productions.models import Naming, Production, Section
from sermovox.ui.forms import Dressed
from sermovox.ui.numerals import whole_numbers
from sermovox.ui.revisions import Guarded


class ProductionForm(Guarded, Dressed, forms.ModelForm):
    picture = forms.FileField(
        label=Said("artwork-label"),
        required=False,
        help_text=Said("square-jpeg-png-large-you"),
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
            "title": Said("book-series-programme"),
            "code": Said("what-client-calls-file-names"),
        }
        widgets = {"description": forms.Textarea(attrs={"rows": 3})}

    def clean_year(self):
        year = self.cleaned_data["year"]
        if year is not None and not 1000 <= year <= timezone.now().year + 5:
            raise forms.ValidationError(Said("enter-year-four-digits-such"))
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


class NewForm(Dressed, forms.ModelForm):
    """What a production begins with."""

    class Meta:
        model = Production
        fields = ["title"]
        help_texts = {"title": Said("book-series-programme-you-can")}
        widgets = {"title": forms.TextInput(attrs={"autofocus": True})}


class NamingForm(forms.ModelForm):
    """How files are called for one outlet, and what is done about those of the same names."""

    class Meta:
        model = Naming
        fields = ["pattern", "existing"]

    def __init__(self, *args, outlet: Outlet, **kwargs):
        super().__init__(*args, **kwargs)
        self._outlet = outlet

    def clean_pattern(self) -> str:
        """The pattern; empty where it is the outlet's own."""
        pattern = self.cleaned_data["pattern"]
        try:
            read_pattern(pattern)
        except BadPattern as error:
            raise forms.ValidationError(Said("pattern-not-saved", error=error)) from error
        return "" if pattern == self._outlet.names else pattern


class DictatedForm(forms.Form):
    """The names a client dictates, written or in a file, and the way they are paired with sections."""

    names = forms.CharField(required=False)
    file = forms.FileField(required=False)

    @property
    def way(self) -> str:
        return self.data.get("way", IN_ORDER)

    def text(self) -> str:
        """All of them, as they were sent. Raises MasteringError for what cannot be read as text."""
        file = self.files.get("file")
        return decoded(file.read(_LARGEST_LIST_BYTES))[0] if file else self.data.get("names", "")


class ScriptForm(forms.Form):
    """A text sections are to be made of, and how it is laid out.

    Ticks and columns speak of one text laid out one way (`digest`, `shape`); after a change they mean nothing.
    """

    text = forms.CharField(required=False)

    data: QueryDict

    @property
    def script(self) -> str:
        """The text as it was sent, with plain line ends."""
        return self.data.get("text", "").replace("\r\n", "\n")

    @property
    def digest(self) -> str:
        return hashlib.sha256(self.script.encode("utf-8", "replace")).hexdigest()[:16]

    @property
    def is_same_text(self) -> bool:
        return self.data.get("digest") == self.digest

    @property
    def role(self) -> str | None:
        role = self.data.get("role")
        return role if role in ROLES else None

    @property
    def skipped(self) -> set[int]:
        """The entries that are not wanted, by their places."""
        return set(whole_numbers(self.data.getlist("skip"))) if self.is_same_text else set()

    @property
    def instead(self) -> bool:
        """Whether they take the place of all sections there are."""
        return "instead" in self.data

    def layout(self) -> Layout:
        """As it was chosen, or else recognised. Raises MasteringError."""
        text, kind, separator = self.script, self.data.get("kind", ""), self.data.get("separator", "")
        if kind == "columns":
            separator = separator if separator in COLUMN_SEPARATORS else recognised(text).separator or "\t"
            layout = table_layout(text, separator)
        elif kind in LAYOUTS:
            return Layout(kind=kind)
        else:
            layout = recognised(text)
        if layout.kind == "columns" and self.is_same_text and self.data.get("shape") == shape_of(layout):
            chosen = tuple(kind if kind in COLUMNS else "" for kind in self.data.getlist("column"))
            layout = replace(layout, columns=chosen or layout.columns, header="header" in self.data)
        return layout


def shape_of(layout: Layout) -> str:
    """What a layout has to keep for what was said of its columns to hold."""
    return f"{layout.kind}{layout.separator}{len(layout.columns)}"


_LARGEST_LIST_BYTES = 1 << 24
_AS_CUT = "as cut"


class SectionForm(Guarded, Dressed, forms.ModelForm):
    recording = forms.ChoiceField(required=False, help_text=Said("another-one-takes-place-all"))

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
            "content_kind": Said("some-outlets-bring-speech-music"),
            "exact_name": Said("where-client-dictates"),
        }
        labels = {"script": Said("spoken-text-label"), "notes": Said("notes-listeners")}
        widgets = {
            "notes": forms.Textarea(attrs={"rows": 3}),
            "script": forms.Textarea(attrs={"rows": 4}),
        }

    field_order = ["title", "role", "number", "part", "content_kind", "recording"]

    def __init__(self, *args, instance: Section, **kwargs):
        has = _AS_CUT if instance.is_cut else str(instance.recording_id or "")
        super().__init__(*args, instance=instance, initial={"recording": has}, **kwargs)
        own = instance.production.recordings.usable().defer("figures", "remarks").order_by("name")
        choices = {"": Said("none-yet")} | {str(recording.pk): recording.name for recording in own}
        if instance.is_cut:
            count = len(instance.made_of)
            choices = {_AS_CUT: Said("cut-pieces", count=count)} | choices
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
