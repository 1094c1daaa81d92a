"""Accounts, as the terminal makes and changes them."""

from django.contrib.auth import get_user_model
from django.contrib.auth.password_validation import validate_password
from django.core.exceptions import ValidationError
from django.db import transaction

from mastering.errors import MasteringError
from mastering.said import Said, together


def everybody():
    """All of them, by name."""
    return get_user_model().objects.order_by("username")


def named(name: str):
    """The account of that name. Raises MasteringError where there is none."""
    user = get_user_model().objects.filter(username=name).first()
    if user is None:
        there = ", ".join(everybody().values_list("username", flat=True)) or Said("none-yet")
        raise MasteringError(Said("there-no-account-called-there", name=name, there=there))
    return user


def check_name(name: str) -> None:
    """Raises MasteringError where no account can be called that."""
    try:
        get_user_model()._meta.get_field("username").clean(name, None)
    except ValidationError as error:
        raise MasteringError(together(error.messages)) from None
    if get_user_model().objects.filter(username__iexact=name).exists():
        raise MasteringError(Said("there-account-called-already-choose", name=name))


def add(name: str, password: str, *, called: str = ""):
    """A new account; the first is the owner's. Raises MasteringError where the name is taken or the password too easy
    to guess.
    """
    with transaction.atomic():
        check_name(name)
        user = get_user_model()(username=name, first_name=called)
        user.is_superuser = user.is_staff = not everybody().exists()
        change_password(user, password)
    return user


def change_password(user, password: str) -> None:
    """Give an account another password. Raises MasteringError where that is too easy to guess."""
    try:
        validate_password(password, user)
    except ValidationError as error:
        raise MasteringError(Said("nothing-changed", messages=together(error.messages))) from None
    user.set_password(password)
    user.save()
