"""Settings of an installation, all from the environment that ./hauch sets; safe by default (no
debug, no secret here).
"""

from __future__ import annotations

import os
from pathlib import Path
from typing import Any

from csp.constants import NONE, SELF
from django.core.exceptions import ImproperlyConfigured

from hauch.site.settings.places import database, files, mail

DATA = Path(os.environ.get("HAUCH_DATA", "data")).resolve()
SECRET_KEY = os.environ["HAUCH_SECRET_KEY"]
DEBUG = False
ALLOWED_HOSTS = os.environ.get("HAUCH_HOSTS", "127.0.0.1,localhost,[::1]").split(",")

INSTALLED_APPS = [
    "django.contrib.admin",
    "django.contrib.auth",
    "django.contrib.contenttypes",
    "django.contrib.sessions",
    "django.contrib.messages",
    "django.contrib.staticfiles",
    "django_htmx",
    "axes",
    "django_otp",
    "django_otp.plugins.otp_totp",
    "django_otp.plugins.otp_static",
    "csp",
    "procrastinate.contrib.django",
    "hauch.ui.apps.UiConfig",
    "hauch.people.apps.PeopleConfig",
    "hauch.stores.apps.StoresConfig",
    "hauch.rounds.apps.RoundsConfig",
    "hauch.entries.apps.EntriesConfig",
    "hauch.workshop.apps.WorkshopConfig",
    "hauch.bench.apps.BenchConfig",
    "hauch.live.apps.LiveConfig",
    "hauch.verdict.apps.VerdictConfig",
    "hauch.plan.apps.PlanConfig",
    "hauch.season.apps.SeasonConfig",
    "hauch.desk.apps.DeskConfig",
    "hauch.panel.apps.PanelConfig",
    "hauch.sound.apps.SoundConfig",
    "hauch.setup.apps.SetupConfig",
    "hauch.practice.apps.PracticeConfig",
    "hauch.pages.apps.PagesConfig",
    "hauch.exchange.apps.ExchangeConfig",
    "hauch.site.apps.SiteConfig",
]
MIDDLEWARE = [
    "django.middleware.security.SecurityMiddleware",
    "hauch.site.trace.numbered",
    "csp.middleware.CSPMiddleware",
    "hauch.site.clean.clean",
    "whitenoise.middleware.WhiteNoiseMiddleware",
    "django.contrib.sessions.middleware.SessionMiddleware",
    "django.middleware.common.CommonMiddleware",
    "django.middleware.csrf.CsrfViewMiddleware",
    "django.contrib.auth.middleware.AuthenticationMiddleware",
    "django.contrib.auth.middleware.LoginRequiredMiddleware",
    "django.contrib.messages.middleware.MessageMiddleware",
    "django.middleware.clickjacking.XFrameOptionsMiddleware",
    "django_htmx.middleware.HtmxMiddleware",
    "axes.middleware.AxesMiddleware",
    "hauch.people.clock.in_the_readers_zone",
]
ROOT_URLCONF = "hauch.site.urls"
ASGI_APPLICATION = "hauch.site.asgi.application"
TEMPLATES: list[dict[str, Any]] = [
    {
        "BACKEND": "django.template.backends.django.DjangoTemplates",
        "DIRS": [],
        "APP_DIRS": True,
        "OPTIONS": {
            "context_processors": [
                "django.template.context_processors.request",
                "django.contrib.auth.context_processors.auth",
                "django.contrib.messages.context_processors.messages",
            ],
            "builtins": ["hauch.ui.templatetags.figures", "hauch.ui.templatetags.parts"],
        },
    }
]

DATABASES = {
    "default": database(os.environ["HAUCH_DATABASE_URL"], pool=os.environ.get("HAUCH_POOL") != "0")
}
DEFAULT_AUTO_FIELD = "django.db.models.BigAutoField"

AUTH_USER_MODEL = "people.User"
AUTHENTICATION_BACKENDS = [
    "axes.backends.AxesStandaloneBackend",
    "django.contrib.auth.backends.ModelBackend",
]
PASSWORD_HASHERS = [
    "django.contrib.auth.hashers.Argon2PasswordHasher",  # memory-hard: quick here, dear to guess
    "django.contrib.auth.hashers.PBKDF2PasswordHasher",  # of older installations; renewed at login
]
AUTH_PASSWORD_VALIDATORS = [
    {"NAME": "django.contrib.auth.password_validation.MinimumLengthValidator"},
    {"NAME": "django.contrib.auth.password_validation.CommonPasswordValidator"},
    {"NAME": "django.contrib.auth.password_validation.UserAttributeSimilarityValidator"},
]
OTP_TOTP_ISSUER = "Hauch"
SECOND_FACTOR = os.environ.get("HAUCH_SECOND_FACTOR", "")
if SECOND_FACTOR not in {"", "keepers", "all"}:
    raise ImproperlyConfigured("HAUCH_SECOND_FACTOR is “keepers”, “all”, or not set.")
if SECOND_FACTOR:
    after = MIDDLEWARE.index("django.contrib.auth.middleware.LoginRequiredMiddleware")
    MIDDLEWARE.insert(after + 1, "hauch.people.second.Demanded")
LOGIN_URL = "people:login"
LOGIN_REDIRECT_URL = "home"
LOGOUT_REDIRECT_URL = "people:login"
AXES_FAILURE_LIMIT = 8
AXES_COOLOFF_TIME = 0.25
AXES_LOCKOUT_PARAMETERS = [["username", "ip_address"]]
AXES_LOCKOUT_TEMPLATE = "people/locked.html"
AXES_VERBOSE = False

CONTENT_SECURITY_POLICY = {
    "DIRECTIVES": {
        "default-src": [NONE],
        "script-src": [SELF],
        "style-src": [SELF],
        "img-src": [SELF, "data:"],
        "font-src": [SELF],
        "connect-src": [SELF],
        "form-action": [SELF],
        "base-uri": [NONE],
        "frame-ancestors": [NONE],
    }
}
SESSION_COOKIE_HTTPONLY = True
SESSION_COOKIE_SAMESITE = "Lax"
CSRF_COOKIE_SAMESITE = "Lax"
SECURE_REFERRER_POLICY = "same-origin"
X_FRAME_OPTIONS = "DENY"
CSRF_FAILURE_VIEW = "hauch.people.views.stale_form"
LOCAL_METERS = os.environ.get("HAUCH_LOCAL_METERS") == "1"
"""Whether services of this machine may be meters: the simulated ones are."""
PASSWORD_RESET_TIMEOUT = 3 * 24 * 3600
SILENCED_SYSTEM_CHECKS = ["security.W005", "security.W021"]
"""Whether subdomains go out by HTTPS too, and the browsers' own lists: who owns the domain decides."""
if os.environ.get("HAUCH_HTTPS") == "1":
    # That it came by HTTPS the web server tells, from what a named proxy says (`ops.start`).
    SESSION_COOKIE_SECURE = CSRF_COOKIE_SECURE = True
    SECURE_SSL_REDIRECT = True
    SECURE_REDIRECT_EXEMPT = [r"^health/$"]
    SECURE_HSTS_SECONDS = 365 * 24 * 3600

LANGUAGE_CODE = "en-gb"
USE_I18N = False
USE_TZ = True
globals().update(mail(os.environ.get("HAUCH_MAIL", ""), os.environ.get("HAUCH_MAIL_FROM", "")))
TIME_ZONE = os.environ.get("HAUCH_TIME_ZONE", "UTC")

STATIC_URL = "/static/"
STATIC_ROOT = DATA / "static"
MEDIA_ROOT = files(os.environ.get("HAUCH_FILES_URL", ""), DATA / "files")
STORAGES = {
    "default": {"BACKEND": "django.core.files.storage.FileSystemStorage"},
    "staticfiles": {"BACKEND": "whitenoise.storage.CompressedManifestStaticFilesStorage"},
}
FILE_UPLOAD_HANDLERS = [
    "hauch.site.uploads.LimitedUploadHandler",
    "django.core.files.uploadhandler.TemporaryFileUploadHandler",
]
FILE_UPLOAD_PERMISSIONS = 0o600
DATA_UPLOAD_MAX_NUMBER_FIELDS = 4000
DATA_UPLOAD_MAX_MEMORY_SIZE = 6_000_000  # a piece of a file comes as a body
MESSAGE_STORAGE = "django.contrib.messages.storage.session.SessionStorage"

LOGGING: dict[str, Any] = {
    "version": 1,
    "disable_existing_loggers": False,
    "filters": {"numbered": {"()": "hauch.site.trace.WithNumber"}},
    "formatters": {
        "plain": {"format": "{asctime} {levelname} {request_id} {name}: {message}", "style": "{"},
        "json": {"()": "hauch.site.trace.AsJson"},
    },
    "handlers": {
        "console": {
            "class": "logging.StreamHandler",
            "formatter": "json" if os.environ.get("HAUCH_LOG") == "json" else "plain",
            "filters": ["numbered"],
        }
    },
    "root": {"handlers": ["console"], "level": "WARNING"},
    "loggers": {"django.request": {"level": "WARNING"}},
}

PROCRASTINATE_AUTODISCOVER_MODULE_NAME = "jobs"
TEST_RUNNER = "hauch.ops.testrunner.Runner"
