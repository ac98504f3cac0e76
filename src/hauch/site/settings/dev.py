"""Settings of ./hauch dev: pages that show what went wrong, static files and templates as they
stand.
"""

from hauch.site.settings.base import *  # noqa: F403
from hauch.site.settings.base import STORAGES, TEMPLATES

DEBUG = True
WHITENOISE_USE_FINDERS = True
STORAGES["staticfiles"] = {"BACKEND": "django.contrib.staticfiles.storage.StaticFilesStorage"}
TEMPLATES[0]["APP_DIRS"] = False
TEMPLATES[0]["OPTIONS"]["loaders"] = [
    "django.template.loaders.app_directories.Loader"
]  # read anew each time
