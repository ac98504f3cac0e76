"""ASGI entry point, served by uvicorn."""

import os
import warnings

from django.core.asgi import get_asgi_application

from hauch.site.limits import Limits
from hauch.site.turns import Turns

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "hauch.site.settings.base")
# WhiteNoise gives small static files as plain iterators; that they are read at once here is fine.
warnings.filterwarnings(
    "ignore", message="StreamingHttpResponse must consume synchronous iterators"
)
application = Limits(Turns(get_asgi_application()))  # type: ignore[arg-type]  # two spellings of ASGI
