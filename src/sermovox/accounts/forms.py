"""Making an account."""

from django import forms
from django.contrib.auth import get_user_model
from django.contrib.auth.forms import BaseUserCreationForm

from mastering.said import Said


class AccountForm(BaseUserCreationForm):
    """A name to sign in with, what others are shown, and a password, twice."""

    class Meta:
        model = get_user_model()
        fields = ("username", "first_name")
        labels = {"username": Said("name-sign"), "first_name": Said("your-name-others-see")}

    def __init__(self, *arguments, **named):
        super().__init__(*arguments, **named)
        self.fields["password1"].label, self.fields["password2"].label = (
            Said("password"),
            Said("password-once-more"),
        )
        self.fields["username"].widget = forms.TextInput(attrs={"autocomplete": "username", "autofocus": True})
        self.fields["first_name"].widget = forms.TextInput(attrs={"autocomplete": "name"})
        for field in self.fields.values():
            field.help_text = ""
            field.widget.attrs["class"] = "form-control"
