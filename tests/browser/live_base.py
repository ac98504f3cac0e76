"""Browser tests of what streams: the application under uvicorn on the test database, simulated
meters, a recorder.
"""

from __future__ import annotations

import asyncio
import socket
import threading
import time

import uvicorn
from django.contrib.staticfiles.handlers import ASGIStaticFilesHandler
from django.core.asgi import get_asgi_application
from django.db import connections

from hauch.live.recorder import Recorder
from tests.browser.base import BrowserTests
from tests.instruments.meters import Meters, put_on_line

CHANNELS = (
    "air_speed",
    "static_pressure",
    "sound_level",
    "voltage",
    "current",
    "speed",
    "throttle",
)


class Server:
    """uvicorn in a thread; it can be stopped and started again on its port."""

    def __init__(self) -> None:
        with socket.socket() as probe:
            probe.bind(("127.0.0.1", 0))
            self.port = probe.getsockname()[1]
        self.start()

    def start(self) -> None:
        config = uvicorn.Config(
            ASGIStaticFilesHandler(get_asgi_application()),
            host="127.0.0.1",
            port=self.port,
            # a server that is stopped under open streams says so at length; a failed request fails
            # the test by itself
            log_level="critical",
            lifespan="off",
            timeout_graceful_shutdown=1,
        )
        self.server = uvicorn.Server(config)
        self.thread = threading.Thread(target=self._run, daemon=True)
        self.thread.start()
        while not self.server.started:
            time.sleep(0.02)

    def _run(self) -> None:
        asyncio.run(self.server.serve())
        connections.close_all()

    def stop(self) -> None:
        self.server.should_exit = True
        self.thread.join(8)


class LiveBrowserTests(BrowserTests):
    """A live bench in the browser."""

    measured = False
    real_time = True

    def setUp(self):
        super().setUp()
        self.server = Server()
        self.addCleanup(self.server.stop)
        self.meters = Meters()
        self.addCleanup(self.meters.stop)
        put_on_line(self.built.tests["air"].rig, self.meters, CHANNELS)
        self.recorder = Recorder(say=lambda text: None)
        thread = threading.Thread(target=self._record, daemon=True)
        thread.start()
        self.addCleanup(lambda: (self.recorder.stop(), thread.join(8)))

    def _record(self) -> None:
        self.recorder.run()
        connections.close_all()

    def url(self, path: str) -> str:
        return f"http://127.0.0.1:{self.server.port}{path}"
