"""Forms say what they were made from, so that none takes back what another window has changed since."""

import hashlib
import json

from django import forms
from django.core.exceptions import ValidationError
from django.http import QueryDict

from mastering.said import Said, together, within

ELSEWHERE = Said("changed-another-window-shows-now")


def revision_of(*values) -> str:
    """Changes whenever any of these plain values does."""
    return hashlib.sha256(repr(values).encode()).hexdigest()[:16]


def is_as_seen(request, revision: str) -> bool:
    """Whether what is sent was made from this revision."""
    return request.POST.get("seen") == revision


class Guarded(forms.ModelForm):
    """A form of a model that remembers what each field was when it was shown. Put it before the form class.

    What another window changed meanwhile stays, unless the same field was changed here too: then nothing is saved, and
    the form says what it is now.
    """

    data: QueryDict

    def __init__(self, *args, **kwargs):
        super().__init__(*args, **kwargs)
        self.changed_elsewhere: list[str] = []
        guarded = {name: field for name, field in self.fields.items() if not isinstance(field, forms.FileField)}
        self._now = {name: _shown(self.get_initial_for_field(field, name)) for name, field in guarded.items()}
        seen = json.dumps({name: revision_of(text) for name, text in self._now.items()})
        self.fields["seen"] = forms.CharField(widget=forms.HiddenInput, required=False, initial=seen)

    def clean(self):
        cleaned = super().clean() or self.cleaned_data
        if self.instance.pk is None:
            return cleaned
        try:
            seen = {str(name): str(text) for name, text in json.loads(cleaned.get("seen") or "").items()}
        except (ValueError, AttributeError) as error:
            raise ValidationError(Said("form-sent-without-what-made")) from error
        theirs, both = [], []
        for name, text in self._now.items():
            was, now = seen.get(name), revision_of(text)
            mine = revision_of(_shown(cleaned.get(name)))
            if was == now or mine == now or name in self.errors:
                continue
            if mine == was:
                cleaned[name] = self.fields[name].clean(self.get_initial_for_field(self.fields[name], name))
                theirs.append(name)
            else:
                both.append(Said("now", label=self._label(name), text=text[:80] or Said("empty-text")))
        if both:
            # Sent once more, it was made from what is known now.
            self.data = self.data.copy()
            self.data["seen"] = self.fields["seen"].initial
            for name in theirs:
                self.data[name] = self._now[name]
            raise ValidationError(Said("another-window-changed-same-meanwhile", both=together(both, "; ")))
        self.changed_elsewhere = [self._label(name) for name in theirs]
        return cleaned

    def _label(self, name: str) -> str:
        label = self.fields[name].label or name
        return within(label) if isinstance(label, Said) else str(label).lower()


def _shown(value) -> str:
    return "" if value is None else str(value).replace("\r\n", "\n").strip()
