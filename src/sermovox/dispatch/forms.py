"""How an outlet receives, and what of a delivery is sent."""

from collections.abc import Sequence

from django import forms

from mastering.outlets.receiving import ALONG, WAYS, BadReceiving, Receiving, WayKind, receiving_from
from sermovox.deliveries.models import FinishedFile
from sermovox.ui.forms import dress


class ReceivingForm(forms.Form):
    """What is stated of one way. The password is never shown again; one that is left empty stays as it is."""

    along = forms.ChoiceField(label="What goes along with the sound", choices=[(each, each) for each in ALONG])

    def __init__(self, kind: WayKind, receiving: Receiving | None, data=None):
        now = receiving.table() if receiving and receiving.way == kind.name else {}
        super().__init__(data, initial=now)
        self.kind = kind
        self.receiving: Receiving | None = None
        for each in kind.fields:
            self.fields[each.name] = (
                forms.ChoiceField(label=each.label, choices=[(choice, choice) for choice in each.choices])
                if each.choices
                else forms.CharField(label=each.label, help_text=each.hint, required=each.needed, max_length=300)
            )
        if kind.secret:
            self.fields["secret"] = forms.CharField(
                label=kind.secret,
                required=False,
                max_length=500,
                strip=False,
                widget=forms.PasswordInput(attrs={"autocomplete": "new-password"}),
                help_text="Kept encrypted and never shown again. Leave it empty to keep the one that is there.",
            )
        self.order_fields([*(each.name for each in kind.fields), "secret", "along"])
        dress(self)

    def clean(self):
        super().clean()
        said = {name: value for name, value in self.cleaned_data.items() if name != "secret" and value}
        if not self.errors:
            try:
                self.receiving = receiving_from({"way": self.kind.name} | said)
            except BadReceiving as error:
                raise forms.ValidationError(str(error)) from error
        return self.cleaned_data


class WayForm(forms.Form):
    """Which way it is."""

    way = forms.ChoiceField(choices=[(kind.name, kind.title) for kind in WAYS.values()])


class SendForm(forms.Form):
    """What is sent of a delivery, by the keys of its files, and what may happen over there."""

    failing = forms.BooleanField(required=False)
    replacing = forms.BooleanField(required=False)

    def __init__(self, files: Sequence[FinishedFile], data=None):
        super().__init__(data)
        choices = [(file.pk, file.name) for file in files]
        self.fields["file"] = forms.TypedMultipleChoiceField(required=False, coerce=int, choices=choices)
