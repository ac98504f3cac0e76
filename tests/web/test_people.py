"""Signing in, passwords, sessions, and the keeper's list of people."""

from __future__ import annotations

import os
import re
from unittest import mock

from axes.models import AccessAttempt
from django.core.exceptions import PermissionDenied
from django.test import Client, TestCase, override_settings
from django.urls import reverse

from hauch.ops.start import proxies
from hauch.people import sessions
from hauch.people.models import AuditEntry, SignIn
from tests.builder import PASSWORD, build

NEW = "barley-field-77"


class PeopleCase(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.built = build()
        cls.host, cls.operator = cls.built.host, cls.built.operator

    def browser(self, who="", password=PASSWORD, **more):
        client = Client(**more)
        if who:
            answer = client.post(reverse("people:login"), {"username": who, "password": password})
            self.assertEqual(answer.status_code, 302)
        return client

    def inside(self, client):
        return client.get("/").status_code == 200


class SessionTests(PeopleCase):
    def test_where_one_is_signed_in_and_how_that_ends(self):
        one = self.browser("operator", headers={"user-agent": "Workshop tablet"})
        two = self.browser("operator", headers={"user-agent": "Phone"})
        three = self.browser("operator")
        page = one.get(reverse("people:person"))
        self.assertContains(page, "This browser")
        self.assertContains(page, "Phone")
        phone = SignIn.objects.get(browser="Phone")
        other = self.browser("viewer")
        other.post(reverse("people:end_session", args=[phone.pk]))  # somebody else's: nothing
        self.assertTrue(self.inside(two))
        one.post(reverse("people:end_session", args=[phone.pk]))
        self.assertEqual(
            [self.inside(c) for c in (one, two, three, other)], [True, False, True, True]
        )
        one.post(reverse("people:end_sessions"))
        self.assertEqual([self.inside(c) for c in (one, three, other)], [True, False, True])
        self.assertContains(one.get(reverse("people:person")), "This browser")

    def test_a_new_password_ends_all_but_this_browser(self):
        here, there = self.browser("operator"), self.browser("operator")
        url = reverse("people:change_password")
        wrong = here.post(url, {"old_password": "x", "new_password1": NEW, "new_password2": NEW})
        self.assertContains(wrong, "old password was entered incorrectly")
        short = here.post(
            url, {"old_password": PASSWORD, "new_password1": "short", "new_password2": "short"}
        )
        self.assertContains(short, "too short")
        self.assertTrue(self.inside(there))
        answer = here.post(
            url,
            {"old_password": PASSWORD, "new_password1": NEW, "new_password2": NEW},
            follow=True,
        )
        self.assertContains(answer, "All other sessions have ended")
        self.assertContains(answer, "This browser")
        self.assertEqual((self.inside(here), self.inside(there)), (True, False))
        self.browser("operator", NEW)

    def test_the_keepers_link_sets_a_password_once(self):
        old = self.browser("operator")
        keeper = self.browser("host")
        answer = keeper.post(reverse("people:password_link", args=[self.operator.pk]))
        link = re.search(r'value="(http[^"]+)"', answer.content.decode()).group(1)
        self.assertEqual(AuditEntry.objects.filter(action="people.password_link").count(), 1)
        stranger = Client()
        page = stranger.get(link, follow=True)
        self.assertContains(page, "Set a password")
        target = page.redirect_chain[-1][0]
        answer = stranger.post(target, {"new_password1": NEW, "new_password2": NEW}, follow=True)
        self.assertContains(answer, "The password is set")
        self.assertFalse(self.inside(old))
        self.browser("operator", NEW)
        self.assertContains(Client().get(link, follow=True), "does not hold any more")

    def test_people_and_who_may_manage_them(self):
        keeper = self.browser("host")
        page = keeper.get(reverse("people:people"))
        self.assertContains(page, "Operator")
        self.assertContains(page, "Drying rack (bench operator)")
        self.assertNotContains(
            keeper.get(reverse("people:people") + "?q=view"), "Drying rack (bench operator)"
        )
        there = self.browser("operator")
        url = reverse("people:set_active", args=[self.operator.pk])
        keeper.post(url, {"active": "no"})
        self.assertFalse(self.inside(there))
        refused = Client().post(
            reverse("people:login"), {"username": "operator", "password": PASSWORD}
        )
        self.assertEqual(refused.status_code, 200)
        keeper.post(url, {"active": "yes"})
        self.browser("operator")
        own = keeper.post(
            reverse("people:set_active", args=[self.host.pk]), {"active": "no"}, follow=True
        )
        self.assertContains(own, "You would lock yourself out")
        other = self.browser("viewer")
        for refused in (
            other.get(reverse("people:people")),
            other.post(reverse("people:password_link", args=[self.host.pk])),
            other.post(url, {"active": "no"}),
        ):
            self.assertEqual(refused.status_code, 403)
        with self.assertRaises(PermissionDenied):
            sessions.link_for_password(self.operator, self.host)


@override_settings(AXES_ENABLED=True)
class LockTests(PeopleCase):
    def guess(self, who, address, password="wrong", **more):
        return Client(REMOTE_ADDR=address, **more).post(
            reverse("people:login"), {"username": who, "password": password}
        )

    def test_one_name_from_one_address(self):
        for _ in range(8):
            last = self.guess("host", "10.0.0.1")
        self.assertContains(last, "Too many attempts", status_code=429)
        self.assertEqual(self.guess("host", "10.0.0.1", PASSWORD).status_code, 429)
        # Somebody else behind the same address, and the same person elsewhere, get in.
        self.assertEqual(self.guess("operator", "10.0.0.1", PASSWORD).status_code, 302)
        self.assertEqual(self.guess("host", "10.0.0.2", PASSWORD).status_code, 302)

    def test_what_anybody_writes_of_an_address_changes_nothing(self):
        for number in range(8):
            self.guess("host", "10.0.0.1", headers={"x-forwarded-for": f"192.0.2.{number}"})
        late = self.guess("host", "10.0.0.1", PASSWORD, headers={"x-forwarded-for": "192.0.2.99"})
        self.assertEqual(late.status_code, 429)
        self.assertEqual(
            set(AccessAttempt.objects.values_list("ip_address", flat=True)), {"10.0.0.1"}
        )

    def test_many_names_from_one_address_and_one_name_from_many(self):
        with mock.patch.object(sessions, "MOST_FAILURES", 12):
            for number in range(12):
                self.guess(f"name{number}", "10.0.0.1")
            self.assertEqual(self.guess("host", "10.0.0.1", PASSWORD).status_code, 429)
            self.assertEqual(self.guess("host", "10.0.0.9", PASSWORD).status_code, 302)
            for number in range(12):
                self.guess("operator", f"10.0.1.{number}")
            self.assertEqual(self.guess("operator", "10.0.2.1", PASSWORD).status_code, 429)
            AccessAttempt.objects.all().delete()  # as the cool-off does
            self.assertEqual(self.guess("operator", "10.0.2.1", PASSWORD).status_code, 302)

    def test_a_keepers_link_opens_it_again(self):
        for _ in range(8):
            self.guess("operator", "10.0.0.1")
        sessions.link_for_password(self.host, self.operator)
        self.assertEqual(self.guess("operator", "10.0.0.1", PASSWORD).status_code, 302)


class PageTests(PeopleCase):
    def test_a_form_without_its_token_says_what_to_do(self):
        strict = Client(enforce_csrf_checks=True)
        answer = strict.post(reverse("people:login"), {"username": "host", "password": "x"})
        self.assertContains(answer, "Nothing of it was saved", status_code=403)

    def test_pages_are_private(self):
        answer = self.browser("host").get("/")
        self.assertEqual(answer["Cache-Control"], "private, no-store")

    def test_whose_word_is_taken_on_where_a_request_came_from(self):
        for given, expected in (
            ({}, ["--no-proxy-headers"]),
            ({"HAUCH_HTTPS": "1"}, ["--proxy-headers", "--forwarded-allow-ips", "127.0.0.1"]),
            (
                {"HAUCH_PROXIES": "10.1.2.3"},
                ["--proxy-headers", "--forwarded-allow-ips", "10.1.2.3"],
            ),
        ):
            with mock.patch.dict(os.environ, given):
                self.assertEqual(proxies(), expected)
