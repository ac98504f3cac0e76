"""Headless Chromium against the running application; every test fails on console messages, page
errors and failed requests.
"""

from __future__ import annotations

import re
import threading

from django.conf import settings
from django.contrib.auth import BACKEND_SESSION_KEY, HASH_SESSION_KEY, SESSION_KEY, get_user_model
from django.contrib.sessions.backends.db import SessionStore
from django.contrib.staticfiles.handlers import StaticFilesHandler
from django.contrib.staticfiles.testing import StaticLiveServerTestCase
from django.core.signals import request_finished, request_started
from playwright.sync_api import expect, sync_playwright

from tests.builder import PASSWORD, build
from tests.emptied import Emptied
from tests.snapshot import once

EXPECTED = re.compile(
    r"status of (409|422)|^htmx:(afterRequest|sendAbort)|GPU stall due to ReadPixels"
)
"""Refusals with a sentence are answers, though Chromium notes them; so is a request that a newer
key made needless.
"""


PATIENCE = 120_000
"""For so long [ms] a page is waited for: a machine that is busy is no fault."""


class Answering:
    """Counts requests that are being answered: a page that was left may still be asking when its
    test is over and its tables are emptied.
    """

    def __init__(self) -> None:
        self.changed, self.count = threading.Condition(), 0
        request_started.connect(self._begin, weak=False)
        request_finished.connect(self._end, weak=False)

    def _begin(self, **kwargs):
        with self.changed:
            self.count += 1

    def _end(self, **kwargs):
        with self.changed:
            self.count -= 1
            self.changed.notify_all()

    def wait(self, seconds: float = 5.0) -> None:
        """Wait until all are answered."""
        with self.changed:
            self.changed.wait_for(lambda: self.count <= 0, seconds)
            self.count = 0


answering = Answering()


class Cached(StaticFilesHandler):
    """Scripts and styles that a browser may keep, as those of an installation."""

    def serve(self, request):
        answer = super().serve(request)
        answer["Cache-Control"] = "max-age=3600"
        return answer


class BrowserTests(Emptied, StaticLiveServerTestCase):
    """One browser a class, a measured round in the database. Each test gets contexts without a
    trace of the test before, but with the scripts and styles that it loaded.
    """

    static_handler = Cached
    kinds: tuple[str, ...] = ("air", "power")
    measured = True
    arguments: tuple[str, ...] = ()
    """Of the browser, beside the usual ones."""

    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.playwright = sync_playwright().start()
        cls.browser = cls.playwright.chromium.launch(
            executable_path="/usr/bin/chromium-headless-shell", args=list(cls.arguments)
        )
        cls.free = {}

    @classmethod
    def tearDownClass(cls):
        cls.browser.close()
        cls.playwright.stop()
        super().tearDownClass()

    def setUp(self):
        self.built = once((self.kinds, self.measured), self.make)
        self.troubles: list[str] = []
        self.contexts = []
        self.page = self.new_page()
        expect.set_options(timeout=PATIENCE)

    def make(self):
        """The round that all tests of this kind begin with."""
        built = build(kinds=self.kinds)
        if self.measured:
            built.measure_and_judge()
        return built

    def tearDown(self):
        self.leave()
        answering.wait()
        self.assertEqual(self.troubles, [])

    def leave(self):
        """Close all pages, and put their contexts away without cookies or anything kept in them."""
        for key, context in self.contexts:
            page = context.pages[0] if context.pages else context.new_page()
            context.new_cdp_session(page).send(
                "Storage.clearDataForOrigin",
                {"origin": self.url("").rstrip("/"), "storageTypes": "local_storage"},
            )
            for page in context.pages:
                page.close()
            context.set_offline(False)
            context.clear_cookies()
            self.free.setdefault(key, []).append(context)
        self.contexts = []

    def new_page(self, **options):
        options = {"viewport": {"width": 1280, "height": 800}, "accept_downloads": True, **options}
        key = repr(sorted(options.items()))
        if self.free.get(key):
            context = self.free[key].pop()
        else:
            context = self.browser.new_context(**options)
            context.set_default_timeout(PATIENCE)
        self.contexts.append((key, context))
        page = context.new_page()
        page.on(
            "console",
            lambda m: (
                None if EXPECTED.search(m.text) else self.troubles.append(f"console: {m.text}")
            ),
        )
        page.on("pageerror", lambda e: self.troubles.append(f"page error: {e}"))
        page.on(
            "requestfailed",
            lambda r: (
                None
                if "ERR_ABORTED" in r.failure
                else self.troubles.append(f"failed: {r.url} {r.failure}")
            ),
        )  # left the page
        return page

    def url(self, path: str) -> str:
        return f"{self.live_server_url}{path}"

    def in_round(self, path: str) -> str:
        return self.url(f"/rounds/{self.built.round.slug}/{path}")

    def sign_in(self, who: str, page=None):
        """Give the page's browser a session of somebody; no page is opened yet."""
        page = page or self.page
        user = get_user_model().objects.get(username=who)
        session = SessionStore()
        session.update(
            {
                SESSION_KEY: str(user.pk),
                BACKEND_SESSION_KEY: settings.AUTHENTICATION_BACKENDS[-1],
                HASH_SESSION_KEY: user.get_session_auth_hash(),
            }
        )
        session.save()
        page.context.add_cookies(
            [
                {
                    "name": settings.SESSION_COOKIE_NAME,
                    "value": session.session_key,
                    "url": self.url("/"),
                }
            ]
        )
        return page

    def sign_in_by_hand(self, who: str, page=None):
        """Sign in as a person does, and arrive at home."""
        page = page or self.page
        page.goto(self.url("/"))
        page.get_by_label("Username").fill(who)
        page.get_by_label("Password").fill(PASSWORD)
        page.keyboard.press("Enter")
        expect(page.get_by_role("link", name=who.capitalize(), exact=True)).to_be_visible()
        return page

    def charts_drawn(self, at_least=0, page=None):
        """Wait for so many charts (a click may still be on its way to their page) and until all are
        drawn; how many there are.
        """
        page = page or self.page
        if at_least:
            expect(page.locator("[data-chart]").nth(at_least - 1)).to_be_attached()
        expect(page.locator("[data-chart]:not([data-drawn=yes])")).to_have_count(0)
        return page.locator("[data-chart] svg").count()

    def changes_from(self, before, place):
        """Wait until a place of the page is no longer drawn as it was."""
        for _ in range(100):
            if place.screenshot() != before:
                return
            self.page.wait_for_timeout(50)
        self.fail("The picture did not change.")
