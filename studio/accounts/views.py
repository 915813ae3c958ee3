"""Logging in and out, invitations, who is in the studio, and who may do what with a session."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from axes.utils import reset
from django.conf import settings
from django.contrib.auth import login
from django.contrib.auth import views as auth_views
from django.contrib.auth.forms import PasswordChangeForm, SetPasswordForm
from django.contrib.auth.models import User
from django.contrib.auth.tokens import default_token_generator
from django.contrib.auth.validators import UnicodeUsernameValidator
from django.core.exceptions import ValidationError
from django.db import transaction
from django.forms import CharField
from django.http import Http404, HttpRequest, HttpResponse, HttpResponseRedirect
from django.shortcuts import get_object_or_404, render
from django.urls import reverse, reverse_lazy
from django.utils import timezone
from django.utils.encoding import force_bytes
from django.utils.http import urlsafe_base64_encode
from django.views.decorators.http import require_GET, require_http_methods

from studio.accounts.access import LINKS
from studio.accounts.models import Grant, Invitation, Level, digest_of
from studio.inputs import BadInput, whole
from studio.library.models import Session
from studio.responses import failure_page

#: Links that one browser remembers.
_MOST_LINKS = 50


class OnlyShared:
    """Addresses that are there in shared mode only."""

    def dispatch(self, request: HttpRequest, *args: Any, **kwargs: Any) -> Any:
        if not settings.SHARED:
            raise Http404
        return super().dispatch(request, *args, **kwargs)  # type: ignore[misc]


class Login(OnlyShared, auth_views.LoginView):
    """With a name and a password; wrong ones too often have to wait (django-axes)."""

    template_name = "accounts/login.html"
    redirect_authenticated_user = True


class Logout(OnlyShared, auth_views.LogoutView):
    """Back to where one logs in."""

    next_page = "login"


class Password(OnlyShared, auth_views.PasswordChangeView):
    """A new password for whoever is logged in."""

    template_name = "accounts/password.html"
    success_url = reverse_lazy("library")
    form_class = PasswordChangeForm


class NewPassword(OnlyShared, auth_views.PasswordResetConfirmView):
    """A new password for somebody who has forgotten theirs, by a link that an administrator made."""

    template_name = "accounts/new_password.html"
    post_reset_login = True
    post_reset_login_backend = "django.contrib.auth.backends.ModelBackend"
    success_url = reverse_lazy("library")

    def form_valid(self, form: Any) -> HttpResponse:
        reset(username=form.user.get_username())  # they need not wait after too many wrong ones
        return super().form_valid(form)


def _new_password_link(request: HttpRequest, person: User) -> str:
    """Valid until the next login or change of password, and for ``PASSWORD_RESET_TIMEOUT`` at most."""
    key, token = urlsafe_base64_encode(force_bytes(person.pk)), default_token_generator.make_token(person)
    return request.build_absolute_uri(reverse("new-password", args=[key, token]))


def _only_shared() -> None:
    if not settings.SHARED:
        raise Http404


def locked_out(request: HttpRequest, *args: Any, **kwargs: Any) -> HttpResponse:
    """After too many wrong passwords."""
    words = "Too many wrong passwords. Wait a quarter of an hour, or ask an administrator."
    return failure_page(request, words, 429)


if TYPE_CHECKING:
    _PasswordForm = SetPasswordForm[User]
else:
    _PasswordForm = SetPasswordForm


class NewAccount(_PasswordForm):
    """Name and password of somebody who was invited."""

    username = CharField(max_length=150, label="Name", validators=[UnicodeUsernameValidator()])
    field_order = ("username", "new_password1", "new_password2")

    def clean_username(self) -> str:
        name: str = self.cleaned_data["username"]
        if User.objects.filter(username__iexact=name).exists():
            raise ValidationError("Somebody has this name already.")
        self.user.username = name  # the password must not be like it
        return name


@require_http_methods(["GET", "POST"])
def invited(request: HttpRequest, token: str) -> HttpResponse:
    """Make an account by an invitation."""
    _only_shared()
    invitation = Invitation.open().filter(token=digest_of(token)).first()
    if invitation is None:
        words = "This invitation was used already, or is too old. Ask for a new one."
        return failure_page(request, words, 404)
    form = NewAccount(User(), request.POST or None)
    if request.method == "POST" and form.is_valid():
        with transaction.atomic():
            if not Invitation.open().filter(pk=invitation.pk).update(used=timezone.now()):
                raise Http404  # another window took it
            user = form.user
            user.is_superuser = user.is_staff = invitation.admin
            user.set_password(form.cleaned_data["new_password1"])
            user.save()
        login(request, user, backend="django.contrib.auth.backends.ModelBackend")
        return HttpResponseRedirect(reverse("library"))
    return render(request, "accounts/invited.html", {"form": form, "admin": invitation.admin})


@require_GET
def by_link(request: HttpRequest, token: str) -> HttpResponse:
    """Follow a link to a session: this browser may open it from now on."""
    _only_shared()
    grant = Grant.objects.filter(link=digest_of(token), user__isnull=True).first()
    if grant is None or not Session.everything.filter(pk=grant.session_id, gone=False).exists():
        raise Http404
    links = [k for k in request.session.get(LINKS, []) if k != grant.pk]
    request.session[LINKS] = [*links, grant.pk][-_MOST_LINKS:]
    return HttpResponseRedirect(reverse("desk", args=[grant.session_id]))


@require_http_methods(["GET", "POST"])
def people(request: HttpRequest) -> HttpResponse:
    """Who has an account; invite somebody, let somebody have a new password, or shut an account."""
    _only_shared()
    link, forgetful = "", None
    if request.method == "POST":
        if "invite" in request.POST:
            token = Invitation.new("admin" in request.POST, request.POST["invite"].strip())
            link = request.build_absolute_uri(reverse("invited", args=[token]))
        elif "withdraw" in request.POST:
            Invitation.open().filter(pk=whole(request.POST["withdraw"], 0)).delete()
        elif "forgotten" in request.POST:
            forgetful = get_object_or_404(User, pk=whole(request.POST["forgotten"], 0), is_active=True)
            link = _new_password_link(request, forgetful)
        elif "person" in request.POST:
            person = get_object_or_404(User, pk=whole(request.POST["person"], 0))
            if person == request.user:
                raise BadInput("You cannot shut your own account.")
            User.objects.filter(pk=person.pk).update(is_active=not person.is_active)
    context = {
        "people": User.objects.order_by("username"),
        "invitations": Invitation.open(),
        "link": link,
        "forgetful": forgetful,
    }
    return render(request, "accounts/people.html", context)


@require_http_methods(["GET", "POST"])
def share(request: HttpRequest, pk: int) -> HttpResponse:
    """Who may do what with a session; its owner changes that."""
    _only_shared()
    session = get_object_or_404(Session, pk=pk)
    link = trouble = ""
    if request.method == "POST":
        level = Level(whole(request.POST.get("level", str(Level.LISTEN)), Level.LISTEN, Level.OWN, "What may they do?"))
        if "person" in request.POST:
            trouble = _give(session, request.POST["person"].strip(), level)
        elif "link" in request.POST:
            token = Grant.by_link(session, min(level, Level.CORRECT))
            link = request.build_absolute_uri(reverse("by-link", args=[token]))
        elif "take" in request.POST:
            trouble = _take(session, whole(request.POST["take"], 0))
    grants = session.grants.select_related("user").order_by("user__username", "pk")
    levels = [(level.value, level.label) for level in Level]
    context = {"session": session, "grants": grants, "levels": levels, "link": link, "trouble": trouble}
    return render(request, "accounts/share.html", context, status=422 if trouble else 200)


def _give(session: Session, name: str, level: Level) -> str:
    """Let a person do something; returns what is wrong, if anything is."""
    person = User.objects.filter(username__iexact=name, is_active=True).first()
    if person is None:
        return f"Nobody here is called “{name[:100]}”."
    if level < Level.OWN and _is_last_owner(session, session.grants.filter(user=person).first()):
        return f"{person} is the only owner. Let somebody else own the session first."
    Grant.objects.update_or_create(session=session, user=person, defaults={"level": level})
    return ""


def _take(session: Session, key: int) -> str:
    """Take a grant back; returns what is wrong, if anything is."""
    grant = get_object_or_404(Grant, pk=key, session=session)
    if _is_last_owner(session, grant):
        return f"{grant.user} is the only owner. Let somebody else own the session first."
    grant.delete()
    return ""


def _is_last_owner(session: Session, grant: Grant | None) -> bool:
    if grant is None or grant.level != Level.OWN:
        return False
    return not session.grants.filter(level=Level.OWN).exclude(pk=grant.pk).exists()
