"""How form fields are dressed."""

from django import forms


class Dressed(forms.BaseForm):
    """Gives each field of a form the look of the page. Put it before the form class."""

    def __init__(self, *args, **kwargs):
        super().__init__(*args, **kwargs)
        dress(self)


def dress(form: forms.BaseForm) -> None:
    """Give each field that a form has by now the look of the page."""
    for field in form.fields.values():
        select = isinstance(field.widget, forms.Select)
        field.widget.attrs.setdefault("class", "form-select" if select else "form-control")


def first_error(form: forms.BaseForm) -> str:
    """The first thing that is wrong with a form, in a sentence."""
    return str(next(iter(form.errors.values()))[0])
