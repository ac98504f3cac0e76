"""Settings of tests, benchmarks and pictures: plain connections, quick passwords, plain static
files.
"""

from hauch.site.settings.base import *  # noqa: F403
from hauch.site.settings.base import DATABASES, LOGGING, STORAGES

DATABASES["default"]["OPTIONS"].pop("pool", None)
AXES_ENABLED = False
LOCAL_METERS = True
PASSWORD_HASHERS = [
    "django.contrib.auth.hashers.MD5PasswordHasher"
]  # hashing is slow on purpose; tests log in often
STORAGES["staticfiles"] = {"BACKEND": "django.contrib.staticfiles.storage.StaticFilesStorage"}
LOGGING["root"]["level"] = LOGGING["loggers"]["django.request"]["level"] = "ERROR"
