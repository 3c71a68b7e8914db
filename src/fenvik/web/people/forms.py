"""Signing in, joining, passwords, and the second factor."""

from typing import Any

from django import forms
from django.contrib.auth import password_validation
from django.contrib.auth.forms import AuthenticationForm
from django.core.validators import MaxLengthValidator

from fenvik.web.people.models import Role, User

LONGEST_PASSWORD = 500


def _password(label: str, autocomplete: str, hint: str = "") -> forms.CharField:
    attrs = {"autocomplete": autocomplete}
    widget = forms.PasswordInput(attrs=attrs)
    return forms.CharField(label=label, strip=False, max_length=LONGEST_PASSWORD, widget=widget, help_text=hint)


class SignInForm(AuthenticationForm):
    """Name and password, neither longer than anybody types."""

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        # The framework's own form names a longest name to the browser alone.
        for name, longest in (("username", 150), ("password", LONGEST_PASSWORD)):
            self.fields[name].validators.append(MaxLengthValidator(longest))


class PasswordForm(forms.Form):
    """A new password, twice; ``person`` is whose it will be."""

    password = _password("New password", "new-password", "Twelve characters or more; a few words are easily kept in mind.")
    again = _password("Once more", "new-password")

    def __init__(self, *args: Any, person: User | None = None, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.person = person

    def clean(self) -> dict[str, Any]:
        """Want both to be the same, and one that is not easily guessed."""
        cleaned = super().clean() or {}
        first, second = cleaned.get("password"), cleaned.get("again")
        if first and second and first != second:
            self.add_error("again", "The two differ.")
        elif first:
            try:
                password_validation.validate_password(first, self.whose(cleaned))
            except forms.ValidationError as problem:
                self.add_error("password", problem)
        return cleaned

    def whose(self, cleaned: dict[str, Any]) -> User | None:
        """Return the person whose names a password must not be like."""
        return self.person


class ChangePasswordForm(PasswordForm):
    """The old one too, so that nobody changes it at a machine that was left open."""

    old = _password("Password now", "current-password")
    field_order = ("old", "password", "again")

    def clean_old(self) -> str:
        """Want the one that is used now."""
        old: str = self.cleaned_data["old"]
        if self.person is None or not self.person.check_password(old):
            raise forms.ValidationError("That is not your password.")
        return old


class JoinForm(PasswordForm):
    """A name to sign in with, what people see, and a password."""

    username = forms.CharField(label="Name to sign in with", max_length=150, validators=[User.username_validator])
    first_name = forms.CharField(label="First name", max_length=150)
    last_name = forms.CharField(label="Last name", max_length=150, required=False)
    field_order = ("first_name", "last_name", "username", "password", "again")

    def clean_username(self) -> str:
        """Want one that nobody has."""
        name: str = self.cleaned_data["username"]
        if User.objects.filter(username__iexact=name).exists():
            raise forms.ValidationError("Somebody signs in with this name already.")
        return name

    def whose(self, cleaned: dict[str, Any]) -> User | None:
        """Return the person that will be."""
        names = {k: cleaned.get(k, "") for k in ("username", "first_name", "last_name")}
        return User(**names)


class InviteForm(forms.Form):
    """Who is invited, and as what."""

    name = forms.CharField(label="Who it is for", max_length=120)
    role = forms.ChoiceField(choices=Role.choices, initial=Role.CALIBRATOR)


class CodeForm(forms.Form):
    """A code of the second factor, or one of the codes that were kept for the day the telephone is lost."""

    code = forms.CharField(
        label="Code", max_length=20,
        widget=forms.TextInput(attrs={"autocomplete": "one-time-code", "inputmode": "numeric", "autofocus": True}),
    )  # fmt: skip

    def clean_code(self) -> str:
        """Return it without the spaces in which it is shown."""
        return "".join(str(self.cleaned_data["code"]).split())
