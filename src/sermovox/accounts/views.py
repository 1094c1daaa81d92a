"""Signing in, and the first account."""

from django.contrib.auth import login
from django.contrib.auth.decorators import login_not_required
from django.contrib.auth.views import LoginView
from django.http import Http404
from django.shortcuts import redirect, render
from django.utils.decorators import method_decorator
from django.views.decorators.cache import never_cache
from django.views.decorators.debug import sensitive_post_parameters

from sermovox.accounts import first
from sermovox.accounts.forms import AccountForm

_BACKEND = "django.contrib.auth.backends.ModelBackend"


@method_decorator(login_not_required, name="dispatch")
class SignIn(LoginView):
    """Signing in; where there is nobody yet who could, and it is theirs to do, making the first account."""

    template_name = "accounts/sign_in.html"

    def get(self, request, *arguments, **named):
        if first.may_make(request):
            return redirect("accounts:first")
        return super().get(request, *arguments, **named)


@login_not_required
@never_cache
@sensitive_post_parameters()
def first_account(request, token: str = ""):
    """Make the first account, and go on as its owner."""
    if not first.is_wanted():
        return redirect("accounts:sign-in")
    if not first.may_make(request, token):
        raise Http404
    form = AccountForm(request.POST or None)
    if form.is_valid():
        owner = first.make(form)
        if owner is None:
            return redirect("accounts:sign-in")
        login(request, owner, backend=_BACKEND)
        return redirect("productions:list")
    return render(request, "accounts/first.html", {"form": form})
