"""Settings of the studio. Everything it keeps lies in one folder, DIACHRON_DATA (by default ``var``)."""

import os
import secrets
from pathlib import Path

BASE = Path(__file__).resolve().parent.parent
DATA = Path(os.environ.get("DIACHRON_DATA", BASE / "var")).resolve()
DATA.mkdir(parents=True, exist_ok=True)


def _secret() -> str:
    """A key of this installation's own, made at the first start."""
    path = DATA / "secret-key"
    if not path.exists():
        path.write_text(secrets.token_urlsafe(48))
        path.chmod(0o600)
    return path.read_text()


SECRET_KEY = _secret()
DEBUG = os.environ.get("DIACHRON_DEBUG") == "1"
ALLOWED_HOSTS = os.environ.get("DIACHRON_HOSTS", "127.0.0.1,localhost,[::1],testserver").split(",")

INSTALLED_APPS = [
    "django.contrib.contenttypes",
    "django.contrib.staticfiles",
    "django_htmx",
    "django_tasks",
    "django_tasks_db",
    "studio.library",
    "studio.jobs",
    "studio.analysis",
    "studio.reshaping",
    "studio.desk",
    "studio.parts",
    "studio.playback",
    "studio.harmony",
    "studio.running_order",
    "studio.delivery",
    "studio.server",
]
MIDDLEWARE = [
    "django.middleware.security.SecurityMiddleware",
    "whitenoise.middleware.WhiteNoiseMiddleware",
    "django.middleware.common.CommonMiddleware",
    "django.middleware.csrf.CsrfViewMiddleware",
    "django.middleware.clickjacking.XFrameOptionsMiddleware",
    "django_htmx.middleware.HtmxMiddleware",
    "studio.server.steps.steps_told",
]
ROOT_URLCONF = "studio.urls"
WSGI_APPLICATION = "studio.wsgi.application"
TEMPLATES = [
    {
        "BACKEND": "django.template.backends.django.DjangoTemplates",
        "DIRS": [BASE / "studio" / "templates"],
        "APP_DIRS": True,
        "OPTIONS": {"context_processors": ["django.template.context_processors.request"]},
    }
]

DATABASES = {
    "default": {
        "ENGINE": "django.db.backends.sqlite3",
        "NAME": DATA / "diachron.sqlite3",
        "CONN_MAX_AGE": None,  # opening the file again costs every request a few milliseconds
        "OPTIONS": {
            "timeout": 20,
            # readers never wait for the writer; a killed process loses nothing that was committed
            "transaction_mode": "IMMEDIATE",
            # writing the log back into the database waits for the disk: the server does so beside the edits (serve)
            "init_command": "PRAGMA journal_mode=WAL; PRAGMA synchronous=NORMAL; PRAGMA wal_autocheckpoint=20000;",
        },
    }
}
DEFAULT_AUTO_FIELD = "django.db.models.BigAutoField"
TASKS = {"default": {"BACKEND": "django_tasks_db.DatabaseBackend"}}

LANGUAGE_CODE = "en"
USE_TZ = True
STATIC_URL = "static/"
STATICFILES_DIRS = [
    BASE / "studio" / "static",
    ("bulma", BASE / "node_modules" / "bulma" / "css"),
    ("idiomorph", BASE / "node_modules" / "idiomorph" / "dist"),
    ("fonts/newsreader", BASE / "node_modules" / "@fontsource-variable" / "newsreader" / "files"),
    ("fonts/source-sans", BASE / "node_modules" / "@fontsource-variable" / "source-sans-3" / "files"),
]
# Files are served from where they are, without a collecting step.
WHITENOISE_USE_FINDERS = True
WHITENOISE_AUTOREFRESH = DEBUG

SESSIONS_FOLDER = DATA / "sessions"
DATA_UPLOAD_MAX_MEMORY_SIZE = 64 * 2**20
SECURE_CONTENT_TYPE_NOSNIFF = True
