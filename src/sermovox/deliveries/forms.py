"""What a run is to make, as a running order and the page before a run ask for it."""

from django import forms
from django.http import QueryDict

from sermovox.outlets.models import outlets_of
from sermovox.productions.models import Naming, Production

_LOOK = "look"


class RunForm(forms.Form):
    """Outlets, sections and wishes. What is not there, or not theirs, is passed over."""

    existing = forms.ChoiceField(choices=Naming.Existing.choices, required=False)
    everywhere = forms.BooleanField(required=False)
    again = forms.BooleanField(required=False)
    some = forms.BooleanField(required=False)
    remember = forms.BooleanField(required=False)

    data: QueryDict

    def __init__(self, data: QueryDict, *, production: Production):
        super().__init__(data)
        self._production = production
        self.is_valid()

    @property
    def existing_choice(self) -> str:
        """What is to be done about files of the same names; empty where that is not said."""
        return self.cleaned_data.get("existing") or ""

    @property
    def outlets(self) -> list:
        known = outlets_of(self._production.owner)
        return [known[key] for key in dict.fromkeys(self.data.getlist("outlet")) if key in known]

    @property
    def sections(self) -> list:
        every = self._production.sections.with_pieces().defer("script")
        if self.cleaned_data["everywhere"]:
            return [section for section in every if section.recording and section.recording.ready]
        keys = set(self.data.getlist("section"))
        return [section for section in every if str(section.pk) in keys]

    @property
    def wants_look(self) -> bool:
        """Whether it is to be seen before anything is made."""
        return _LOOK in self.data or _LOOK in self.data.getlist("some")

    @property
    def wishes(self) -> dict[str, bool]:
        """Those of `plan_run`."""
        return {name: self.cleaned_data[name] for name in ("some", "again")}
