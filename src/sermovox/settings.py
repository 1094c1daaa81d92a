"""Settings. Each has a working default; those a person might change have an environment variable.

| variable                  | what it sets                                           | default            |
| SERMOVOX_DATA             | where database, recordings and finished files are kept | the user’s own place |
| SERMOVOX_HOSTS            | names the server answers to, with commas               | loopback names     |
| SERMOVOX_SECRET_KEY       | the secret key that signs sessions                     | made once, kept in the data |
| SERMOVOX_DEMO_SIGN_IN     | 1: visitors from this machine are the demo narrator    | 0                  |
| SERMOVOX_DEBUG            | 1: Django's debug pages                                | 0                  |
| SERMOVOX_MAX_UPLOAD_BYTES | largest recording taken in                             | 8 GiB              |
| SERMOVOX_KEEP_UPLOADS_DAYS | days an upload that broke off can be gone on with     | 7                  |
| SERMOVOX_KEEP_BINNED_DAYS | days a replaced file lies in the bin                   | 30                 |
| SERMOVOX_RESERVE_BYTES    | room kept free on the disk for the application itself  | 64 MiB             |
| SERMOVOX_MOST_SAMPLES     | most sound of one recording: seconds × channels × rate | 20,000,000,000     |
| SERMOVOX_LONGEST_TASK_H   | hours after which work that does not end is begun anew | 12                 |
| SERMOVOX_SYNCHRONOUS      | how SQLite waits for the disk (FULL, NORMAL, OFF)      | FULL               |
| SERMOVOX_BACKUPS          | folder that gets a backup each night                   | none               |
| SERMOVOX_BACKUP_AT        | time of day it is made, by the server’s clock (UTC)    | 03:00              |
| SERMOVOX_KEEP_BACKUPS     | how many of these are kept                             | 7                  |
| SERMOVOX_WATCHED          | folder whose new files are taken in                    | none               |
| SERMOVOX_ADDRESS          | where it is reached from elsewhere, for links in mails | none: no links     |
| SERMOVOX_SEND_TO          | folders that files may be sent to, as in PATH          | home, mounted devices |
| SERMOVOX_SEND_TO_OWN_NETWORK | 1: servers in this machine's own network may be sent to | 0              |
| SERMOVOX_UMASK            | who may read what is left in folders elsewhere         | as for other programs |
| SERMOVOX_STAND_IN_PORT    | first port of what the demonstration's outlets are reached at | 8521       |
"""

import os
import secrets
from datetime import time
from pathlib import Path
from urllib.parse import urlsplit

from platformdirs import user_data_path

BASE_DIR = Path(__file__).resolve().parents[2]
_IN_CHECKOUT = (BASE_DIR / "manage.py").exists()
DATA_DIR = Path(os.environ.get("SERMOVOX_DATA") or (BASE_DIR / "var" if _IN_CHECKOUT else user_data_path("sermovox")))
DATA_DIR = DATA_DIR.resolve()
# What is written here is nobody else's to read. Processes that are begun here know what was usual before.
_USUAL_MASK = f"{os.umask(0o077):03o}"
UMASK = int(os.environ.setdefault("SERMOVOX_UMASK", _USUAL_MASK), 8)
DATA_DIR.mkdir(parents=True, exist_ok=True)


def _kept_secret() -> str:
    path = DATA_DIR / "secret-key"
    try:
        with open(path, "x", opener=lambda name, flags: os.open(name, flags, 0o600)) as file:
            file.write(secrets.token_urlsafe(50))
    except FileExistsError:
        pass
    return path.read_text()


SECRET_KEY = os.environ.get("SERMOVOX_SECRET_KEY") or _kept_secret()
DEBUG = os.environ.get("SERMOVOX_DEBUG") == "1"
ALLOWED_HOSTS = os.environ.get("SERMOVOX_HOSTS", "127.0.0.1,localhost,[::1]").split(",")
PUBLIC_ADDRESS = os.environ.get("SERMOVOX_ADDRESS", "").rstrip("/")
if PUBLIC_ADDRESS:
    ALLOWED_HOSTS.append(urlsplit(PUBLIC_ADDRESS).hostname or "")
DEMO_SIGN_IN = os.environ.get("SERMOVOX_DEMO_SIGN_IN") == "1"
MAX_UPLOAD_BYTES = int(os.environ.get("SERMOVOX_MAX_UPLOAD_BYTES", 8 * 2**30))
KEEP_UPLOADS_DAYS = float(os.environ.get("SERMOVOX_KEEP_UPLOADS_DAYS", 7))
KEEP_BINNED_DAYS = float(os.environ.get("SERMOVOX_KEEP_BINNED_DAYS", 30))
RESERVE_BYTES = int(os.environ.get("SERMOVOX_RESERVE_BYTES", 64 << 20))
MOST_SAMPLES = int(os.environ.get("SERMOVOX_MOST_SAMPLES", 20_000_000_000))
LONGEST_TASK_H = float(os.environ.get("SERMOVOX_LONGEST_TASK_H", 12))
BACKUPS_DIR = Path(os.environ["SERMOVOX_BACKUPS"]).resolve() if os.environ.get("SERMOVOX_BACKUPS") else None
BACKUP_AT = time.fromisoformat(os.environ.get("SERMOVOX_BACKUP_AT", "03:00"))
KEEP_BACKUPS = int(os.environ.get("SERMOVOX_KEEP_BACKUPS", 7))
WATCHED_DIR = Path(os.environ["SERMOVOX_WATCHED"]).resolve() if os.environ.get("SERMOVOX_WATCHED") else None
_USUAL_FOLDERS = (Path.home(), "/media", "/mnt", "/run/media", "/Volumes")
_ALLOWED_FOLDERS = os.environ.get("SERMOVOX_SEND_TO", os.pathsep.join(map(str, _USUAL_FOLDERS)))
SEND_TO_FOLDERS = [Path(folder).resolve() for folder in _ALLOWED_FOLDERS.split(os.pathsep) if folder]
STAND_IN_PORT = int(os.environ.get("SERMOVOX_STAND_IN_PORT", 8521))
SEND_TO_OWN_NETWORK = os.environ.get("SERMOVOX_SEND_TO_OWN_NETWORK") == "1"

# A running order may have ten thousand sections, each with a tick box; a pasted script may be a whole book.
DATA_UPLOAD_MAX_NUMBER_FIELDS = 30_000
DATA_UPLOAD_MAX_MEMORY_SIZE = 40 << 20
INSTALLED_APPS = [
    "django.contrib.auth",
    "django.contrib.contenttypes",
    "django.contrib.sessions",
    "django.contrib.messages",
    "django.contrib.staticfiles",
    "django_tasks",
    "django_tasks_db",
    "django_htmx",
    "sermovox.ui",
    "django.forms",
    "sermovox.accounts",
    "sermovox.history",
    "sermovox.productions",
    "sermovox.recordings",
    "sermovox.scripts",
    "sermovox.cutting",
    "sermovox.proofing",
    "sermovox.outlets",
    "sermovox.levelling",
    "sermovox.deliveries",
    "sermovox.listening",
    "sermovox.dispatch",
    "sermovox.bins",
    "sermovox.board",
    "sermovox.standins",
    "sermovox.demo",
]

MIDDLEWARE = [
    "sermovox.keeping.room.LetsGoOfReserve",
    "django.middleware.security.SecurityMiddleware",
    "whitenoise.middleware.WhiteNoiseMiddleware",
    "django.contrib.sessions.middleware.SessionMiddleware",
    "django.middleware.locale.LocaleMiddleware",
    "django.middleware.common.CommonMiddleware",
    "sermovox.ui.bodies.Bodies",
    "django.middleware.csrf.CsrfViewMiddleware",
    "django.contrib.auth.middleware.AuthenticationMiddleware",
    "sermovox.accounts.middleware.DemoSignIn",
    "django.contrib.auth.middleware.LoginRequiredMiddleware",
    "django.contrib.messages.middleware.MessageMiddleware",
    "django.middleware.clickjacking.XFrameOptionsMiddleware",
    "django_htmx.middleware.HtmxMiddleware",
]

ROOT_URLCONF = "sermovox.urls"
WSGI_APPLICATION = "sermovox.wsgi.application"
TEST_RUNNER = "sermovox.tests.runner.Runner"

TEMPLATES = [
    {
        "BACKEND": "django.template.backends.django.DjangoTemplates",
        "APP_DIRS": True,
        "OPTIONS": {
            "context_processors": [
                "django.template.context_processors.request",
                "django.contrib.auth.context_processors.auth",
                "django.contrib.messages.context_processors.messages",
                "django.template.context_processors.i18n",
                "sermovox.ui.views.words_of_pages",
                "sermovox.ui.views.left_out",
                "sermovox.ui.views.held",
                "sermovox.dispatch.news.news",
            ],
            "builtins": ["django.templatetags.i18n", "sermovox.ui.templatetags.figures"],
        },
    },
]

# The labels of choices pass through templates of ours, as all words of Python do.
FORM_RENDERER = "django.forms.renderers.TemplatesSetting"

SYNCHRONOUS = os.environ.get("SERMOVOX_SYNCHRONOUS", "FULL")
DATABASES = {
    "default": {
        "ENGINE": "django.db.backends.sqlite3",
        "NAME": DATA_DIR / "sermovox.sqlite3",
        "OPTIONS": {
            "transaction_mode": "IMMEDIATE",
            "timeout": 20,
            "init_command": f"PRAGMA journal_mode=WAL; PRAGMA synchronous={SYNCHRONOUS};",
        },
    }
}
DEFAULT_AUTO_FIELD = "django.db.models.BigAutoField"

TASKS = {"default": {"BACKEND": "django_tasks_db.DatabaseBackend", "QUEUES": ["default", "short", "sending"]}}

AUTH_PASSWORD_VALIDATORS = [
    {"NAME": "django.contrib.auth.password_validation.UserAttributeSimilarityValidator"},
    {"NAME": "django.contrib.auth.password_validation.MinimumLengthValidator", "OPTIONS": {"min_length": 10}},
    {"NAME": "django.contrib.auth.password_validation.CommonPasswordValidator"},
]
AUTH_USER_MODEL = "accounts.User"
LOGIN_URL = "accounts:sign-in"
LOGIN_REDIRECT_URL = "productions:list"
LOGOUT_REDIRECT_URL = "accounts:sign-in"

STATIC_URL = "static/"
WHITENOISE_USE_FINDERS = True
WHITENOISE_MAX_AGE = 3600

LANGUAGE_CODE = "en"
LANGUAGES = [("en", "English"), ("de", "Deutsch"), ("es", "Español"), ("fr", "Français")]
TIME_ZONE = "UTC"
USE_I18N = True
LANGUAGE_COOKIE_AGE = 400 * 24 * 3600
# Numbers that scripts and pictures read keep their point; what people read is written by the figures' filters.
FORMAT_MODULE_PATH = "sermovox.ui.formats"
USE_TZ = True

SESSION_COOKIE_SAMESITE = "Lax"
SESSION_ENGINE = "sermovox.accounts.sessions"
MESSAGE_STORAGE = "sermovox.ui.notices.Notices"
SECURE_CONTENT_TYPE_NOSNIFF = True
X_FRAME_OPTIONS = "DENY"

LOGGING = {
    "version": 1,
    "disable_existing_loggers": False,
    "formatters": {"plain": {"format": "{asctime} {levelname} {name}: {message}", "style": "{"}},
    "handlers": {"console": {"class": "logging.StreamHandler", "formatter": "plain"}},
    "loggers": {"django.request": {"level": "ERROR"}},
    "root": {"handlers": ["console"], "level": "WARNING"},
}
