"""How an outlet receives, and what of a delivery is sent."""

from collections.abc import Sequence

from django import forms

from mastering.outlets.receiving import ALONG, BadReceiving, Receiving, receiving_from
from mastering.outlets.ways import WAYS, Field, Holds, WayKind
from mastering.said import Said
from sermovox.deliveries.models import FinishedFile
from sermovox.ui.forms import dress

_APART = ("secret", "key")
"""What is no part of a sheet."""
_LARGEST_KEY_BYTES = 20_000


class ReceivingForm(forms.Form):
    """What is stated of one way. The password is never shown again; one that is left empty stays as it is."""

    along = forms.ChoiceField(label=Said("what-goes-along-sound"), choices=[(each, each) for each in ALONG])

    def __init__(self, kind: WayKind, receiving: Receiving | None, data=None, files=None):
        now = receiving.table() if receiving and receiving.way == kind.name else {}
        super().__init__(data, files, initial=now)
        self.kind = kind
        self.receiving: Receiving | None = None
        for each in kind.fields:
            self.fields[each.name] = _field(each)
        if kind.secret:
            self.fields["secret"] = forms.CharField(
                label=kind.secret,
                required=False,
                max_length=500,
                strip=False,
                widget=forms.PasswordInput(attrs={"autocomplete": "new-password"}),
                help_text=Said("kept-encrypted-never-shown-again"),
            )
        if kind.takes_key:
            self.fields["key"] = forms.FileField(
                label=Said("private-key"),
                required=False,
                help_text=Said("file-ssh-keygen-writes-place"),
            )
        names = [each.name for each in kind.fields]
        # What opens the door stands beside who knocks.
        after = names.index("user") + 1 if "user" in names else len(names)
        self.order_fields([*names[:after], "secret", "key", *names[after:], "along"])
        dress(self)

    def clean(self):
        super().clean()
        said = {name: value for name, value in self.cleaned_data.items() if name not in _APART and value}
        if not self.errors:
            try:
                self.receiving = receiving_from({"way": self.kind.name} | said)
            except BadReceiving as error:
                raise forms.ValidationError(str(error)) from error
        return self.cleaned_data

    def clean_key(self) -> str:
        file = self.cleaned_data["key"]
        text = file.read(_LARGEST_KEY_BYTES).decode("ascii", "replace") if file else ""
        if text and "PRIVATE KEY" not in text:
            raise forms.ValidationError(Said("no-private-key-first-line"))
        return text

    @property
    def password(self) -> str:
        return self.cleaned_data.get("secret", "")

    @property
    def key(self) -> str:
        return self.cleaned_data.get("key", "")


def _field(each: Field) -> forms.Field:
    if each.choices:
        return forms.ChoiceField(
            label=each.label,
            help_text=each.hint,
            choices=[(choice, choice) for choice in each.choices],
        )
    # What its letters may be is looked at by the core.
    widget = forms.Textarea(attrs={"rows": 4}) if each.holds == Holds.NOTE else forms.TextInput()
    return forms.CharField(
        label=each.label, help_text=each.hint, required=each.needed, initial=each.usual, widget=widget
    )


class WayForm(forms.Form):
    """Which way it is."""

    way = forms.ChoiceField(choices=[(kind.name, kind.title) for kind in WAYS.values()])


class OfForm(forms.Form):
    production = forms.IntegerField(required=False, min_value=1, max_value=2**63 - 1)


class DueForm(forms.Form):
    due_on = forms.DateField(required=False)
    client = forms.CharField(required=False, max_length=100)


class SendForm(forms.Form):
    """What is sent of a delivery, by the keys of its files, and what may happen over there."""

    failing = forms.BooleanField(required=False)
    replacing = forms.BooleanField(required=False)

    def __init__(self, files: Sequence[FinishedFile], data=None):
        super().__init__(data)
        choices = [(file.pk, file.name) for file in files]
        self.fields["file"] = forms.TypedMultipleChoiceField(required=False, coerce=int, choices=choices)
