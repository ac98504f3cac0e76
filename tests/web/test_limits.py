"""Bodies are bounded before anything of them is kept, by who sends them and to where."""

from __future__ import annotations

import asyncio
import re
import time
import unittest
from contextlib import suppress

from asgiref.sync import async_to_sync
from django.conf import settings
from django.core.asgi import get_asgi_application
from django.test import TransactionTestCase
from django.urls import reverse

from hauch.site import limits
from hauch.site.limits import FILES, MOST_OF_A_FILE, MOST_OF_A_FORM, Limits, most_bytes
from hauch.site.turns import Turns
from tests.builder import build
from tests.emptied import Emptied
from tests.web.test_fuzz import forms_of


class Line:
    """What a browser sends, in pieces, and what it gets."""

    def __init__(self, pieces, after=0.0):
        self.pieces, self.after, self.sent = list(pieces), after, []
        self.taken = 0

    async def receive(self):
        await asyncio.sleep(self.after)
        if not self.pieces:
            await asyncio.Event().wait()
        self.taken += 1
        body = self.pieces.pop(0)
        return {"type": "http.request", "body": body, "more_body": bool(self.pieces)}

    async def send(self, message):
        self.sent.append(message)

    @property
    def status(self):
        return self.sent[0]["status"]

    @property
    def text(self):
        return b"".join(m.get("body", b"") for m in self.sent[1:]).decode()


class LimitTests(Emptied, TransactionTestCase):
    def setUp(self):
        self.built = build()
        self.client.force_login(
            self.built.people["host"], backend="django.contrib.auth.backends.ModelBackend"
        )
        self.cookie = self.client.cookies[settings.SESSION_COOKIE_NAME].value
        self.read = 0

    def ask(self, path, pieces, *, cookie="", length=None, after=0.0, app=None, silence=5.0):
        async def reads_all(scope, receive, send):
            more = True
            while more:
                message = await receive()
                self.read += len(message["body"])
                more = message["more_body"]
            await send({"type": "http.response.start", "status": 200, "headers": []})
            await send({"type": "http.response.body", "body": b"read"})

        line = Line(pieces, after)
        headers = [
            (b"host", b"localhost"),
            (b"content-type", b"application/x-www-form-urlencoded"),
        ]
        if length is not None:
            headers.append((b"content-length", str(length).encode()))
        if cookie:
            headers.append((b"cookie", f"{settings.SESSION_COOKIE_NAME}={cookie}".encode()))
        scope = {
            "type": "http",
            "method": "POST",
            "path": path,
            "headers": headers,
            "query_string": b"",
            "http_version": "1.1",
            "scheme": "http",
            "server": ("localhost", 80),
        }
        async_to_sync(Limits(app or reads_all, silence))(scope, line.receive, line.send)
        return line

    def test_a_stranger_sends_a_form_and_no_more(self):
        url = reverse("exchange:import")
        self.assertEqual(self.ask(url, [b"x" * 60_000], length=60_000).status, 200)
        self.read = 0
        line = self.ask(url, [b"x" * 1000] * 800, length=800_000_000)
        self.assertEqual((line.status, self.read, line.taken), (413, 0, 0))
        self.assertIn("has not signed in", line.text)
        # Who does not say how much comes is stopped when it is too much.
        line = self.ask(url, [b"x" * 10_000] * 100)
        self.assertEqual(line.status, 413)
        self.assertLess(self.read, 100_000)
        for cookie in ("0" * 32, "x", "%00", "a" * 5000):
            with self.subTest(cookie[:9]):
                line = self.ask(url, [], cookie=cookie, length=5_000_000)
                self.assertEqual(line.status, 413)

    def test_who_has_signed_in_sends_what_the_address_takes(self):
        slug = self.built.round.slug
        for url, most in (
            (reverse("exchange:import"), MOST_OF_A_FILE),
            (reverse("rounds:change", args=[slug]), MOST_OF_A_FORM),
            (reverse("entries:upload", args=[slug, 1]), MOST_OF_A_FILE),
            (reverse("bench:observe", args=[slug, 1]), limits.MOST_OF_A_PICTURE),
            ("/nowhere/", limits.MOST_OF_A_STRANGER),
        ):
            with self.subTest(url):
                self.assertEqual(most_bytes(url, known=True), most)
                self.assertEqual(most_bytes(url, known=False), limits.MOST_OF_A_STRANGER)
        self.read = 0
        url = reverse("rounds:change", args=[slug])
        line = self.ask(url, [b"x" * 500_000] * 6, cookie=self.cookie, length=3_000_000)
        self.assertEqual((line.status, self.read), (200, 3_000_000))
        self.read = 0
        line = self.ask(url, [b"x" * 500_000] * 10, cookie=self.cookie, length=5_000_000)
        self.assertEqual((line.status, self.read, line.taken), (413, 0, 10))
        self.assertIn("At most 4 MB are taken here. Go back", line.text)
        line = self.ask(url, [b"x" * 500_000] * 10, cookie=self.cookie)
        self.assertEqual(line.status, 413)
        line = self.ask(url, [], cookie=self.cookie, length=10**13)
        self.assertEqual((line.status, line.taken), (413, 0))

    def test_a_file_that_is_too_long_is_said_on_its_page(self):
        token = re.search(
            r'name="csrfmiddlewaretoken" value="(\w+)"',
            self.client.get(reverse("exchange:import")).content.decode(),
        ).group(1)
        boundary = "xXx"
        head = (
            f'--{boundary}\r\nContent-Disposition: form-data; name="csrfmiddlewaretoken"\r\n\r\n'
            f'{token}\r\n--{boundary}\r\nContent-Disposition: form-data; name="bundle";'
            ' filename="big.zip"\r\nContent-Type: application/zip\r\n\r\n'
        ).encode()
        django = get_asgi_application()

        async def as_form(scope, receive, send):
            scope["headers"] = [
                (b"content-type", f"multipart/form-data; boundary={boundary}".encode())
                if key == b"content-type"
                else (key, value)
                for key, value in scope["headers"]
            ]
            cookies = f"; csrftoken={self.client.cookies['csrftoken'].value}".encode()
            scope["headers"] = [
                (key, value + cookies if key == b"cookie" else value)
                for key, value in scope["headers"]
            ]
            await django(scope, receive, send)

        piece = b"P" * 1_000_000
        line = self.ask(
            reverse("exchange:import"),
            [head, *[piece] * 140],
            cookie=self.cookie,
            length=140_000_000 + len(head),
            app=as_form,
        )
        self.assertEqual(line.taken, 141)
        self.assertIn(line.status, {200, 422})
        self.assertRegex(line.text, r"more than|at most|too large")

    def test_what_comes_too_slowly_ends(self):
        url = reverse("people:login")
        line = self.ask(url, [b"x"] * 50, length=50, after=0.3, silence=0.1)
        self.assertEqual(line.status, 408)
        self.assertIn("Nothing came for too long", line.text)
        line = self.ask(url, [b"x"] * 50, length=50, after=0.02, silence=0.1)
        self.assertEqual(line.status, 408)
        self.assertIn("too slowly", line.text)
        self.assertEqual(self.ask(url, [b"x" * 1000] * 20, after=0.02, silence=0.1).status, 200)

    def test_every_form_with_a_file_is_one_of_those_that_may_be_long(self):
        slug, built = self.built.round.slug, self.built
        type(built.round).objects.update(state="open")
        run = built.air(built.reference, 0, (4.0, 4.0))
        pages = [
            reverse("exchange:import"),
            reverse("exchange:import_library"),
            reverse("entries:edit", args=[slug, built.entries["Amsel"].pk]),
            reverse("bench:overview", args=[slug]),
            reverse("desk:tool", args=["rotor"]),
            built.specimens["Amsel"].get_absolute_url(),
            built.reference.get_absolute_url(),
            run.get_absolute_url(),
            reverse("bench:capture", args=[slug, built.tests["air"].pk])
            + f"?subject=s{built.specimens['Amsel'].pk}",
        ]
        count = 0
        for page in pages:
            answer = self.client.get(page)
            for form in forms_of(answer.content.decode(), page, "host"):
                if form.files and form.multipart:
                    count += 1
                    with self.subTest(form.url):
                        path = form.url.partition("?")[0]
                        self.assertGreaterEqual(
                            most_bytes(path, known=True), limits.MOST_OF_A_PICTURE
                        )
        self.assertGreaterEqual(count, 8)
        self.assertTrue(all(name.count(":") == 1 for name in FILES))


class TurnTests(unittest.TestCase):
    """So many pages are worked on at once; who sends slowly holds no turn."""

    def at_once(self, requests, at_once=2, fails=()):
        """Serve requests, each a list of pieces with the pause before each [s]; the most that were
        worked on at once, and the order in which they began.
        """
        now, most, order = set(), [0], []

        async def page(scope, receive, send):
            while (await receive()).get("more_body"):
                pass
            order.append(scope["number"])
            now.add(scope["number"])
            most[0] = max(most[0], len(now))
            await asyncio.sleep(0.03)
            now.discard(scope["number"])
            if scope["number"] in fails:
                raise ValueError("a page that breaks")
            await send({"type": "http.response.start"})
            await asyncio.sleep(0.2)  # somebody who reads the answer slowly

        async def one(app, number, pieces):
            left = list(pieces)

            async def receive():
                await asyncio.sleep(left.pop(0))
                return {"type": "http.request", "body": b"x", "more_body": bool(left)}

            async def send(message):
                pass

            with suppress(ValueError):
                await app({"type": "http", "number": number}, receive, send)

        async def all_of_them():
            app = Turns(page, at_once)
            await asyncio.gather(*(one(app, n, pieces) for n, pieces in enumerate(requests)))

        began = time.monotonic()
        asyncio.run(asyncio.wait_for(all_of_them(), 20))
        return most[0], order, time.monotonic() - began

    def test_the_others_wait_in_order(self):
        most, order, took = self.at_once([[0.0]] * 8)
        self.assertEqual((most, order), (2, list(range(8))))
        self.assertLess(took, 8 * 0.2)  # slow readers hold none

    def test_a_slow_sender_holds_none_and_a_page_that_breaks_gives_it_back(self):
        most, order, _ = self.at_once([[0.4, 0.0], [0.4, 0.0], *[[0.0]] * 5], fails={2, 3})
        self.assertEqual(most, 2)
        self.assertEqual(set(order[-2:]), {0, 1})
