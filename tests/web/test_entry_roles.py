"""Who may do what with parts and specimens: by action, by page and by POST; before and after
publication.
"""

from __future__ import annotations

from django.core.exceptions import PermissionDenied, ValidationError
from django.test import TestCase
from django.utils import timezone

from hauch.entries import actions, uploads
from hauch.entries.checking import run_check
from hauch.entries.models import PartCheck, PartFile
from hauch.people.models import User
from hauch.rounds.models import Round
from hauch.workshop import actions as shop
from hauch.workshop.models import Specimen
from tests.builder import build
from tests.web.test_entry_parts import ROTOR

EVERYBODY = ("host", "operator", "designer", "viewer", "stranger")


class Roles(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.built = build()
        cls.round = cls.built.round
        cls.entry = cls.built.entries["Amsel"]  # the designer's own
        cls.version = cls.entry.versions.get()
        cls.file = actions.attach(cls.built.people["designer"], cls.version, "amsel.stl", ROTOR)
        run_check(cls.file.newest_check.pk)
        cls.specimen = shop.add_specimen(cls.built.operator, cls.version, "W-01")
        cls.step = cls.specimen.steps.first()

    def sign_in(self, who: str) -> User:
        person = self.built.people[who]
        self.client.force_login(person, backend="django.contrib.auth.backends.ModelBackend")
        return User.objects.get(pk=person.pk)

    def refused(self, work, person: User) -> bool:
        try:
            work(person)
        except (PermissionDenied, ValidationError):
            return True
        return False

    def test_actions(self):
        """Each action with those who may do it; everybody else is refused and nothing changes."""

        def file():
            return PartFile.objects.select_related("version__entry__round").get(pk=self.file.pk)

        def specimen():
            return Specimen.objects.select_related("version__entry__round").get(pk=self.specimen.pk)

        papers = {"changed": "x", "why": "", "material": None, "bill": [], "steps": []}
        own, bench = {"host", "designer"}, {"host", "operator"}
        table = [
            ("attach", lambda u: actions.attach(u, file().version, "b.txt", b"note"), own),
            (
                "describe",
                lambda u: actions.describe_part(u, file(), place="x", count=1, unit="", axis=""),
                own,
            ),
            ("again", lambda u: actions.check_again(u, file()), own),
            ("stop", lambda u: actions.stop_check(u, file()), own),
            ("papers", lambda u: actions.set_papers(u, file().version, **papers), own),
            ("version", lambda u: actions.add_version(u, file().version.entry, "more"), own),
            ("upload", lambda u: uploads.begin(u, file().version, "c.stl", 10), own),
            ("plan", lambda u: shop.add_specimen(u, file().version, f"N-{u.pk}"), bench),
            ("state", lambda u: shop.set_state(u, specimen(), "broken"), bench),
            ("log", lambda u: shop.log_print(u, specimen(), "Printer", 1.0, failed=False), bench),
            (
                "tick",
                lambda u: shop.tick_step(u, specimen().steps.get(pk=self.step.pk), True),
                bench,
            ),
            ("measure", lambda u: shop.add_measures(u, specimen(), "bore", {1: 0.004}), bench),
            ("step", lambda u: shop.add_step(u, specimen(), "glue", "Glue."), bench),
            ("print", lambda u: shop.set_print(u, specimen(), {"note": "x"}), bench),
        ]
        for name, work, may in table:
            for who in EVERYBODY:
                with self.subTest(action=name, who=who):
                    person = User.objects.get(pk=self.built.people[who].pk)
                    self.assertEqual(self.refused(work, person), who not in may)

    def pages(self) -> dict[str, str]:
        base = f"/rounds/{self.round.slug}"
        entry = f"{base}/entries/{self.entry.pk}"
        return {
            "edit": f"{entry}/edit/",
            "parts": f"{entry}/parts/",
            "part": f"{entry}/parts/{self.file.pk}/",
            "view": f"{entry}/parts/{self.file.pk}/view.glb",
            "working": f"{entry}/parts/{self.file.pk}/working/volume/",
            "compare": f"{entry}/compare/",
            "file": f"/desk/files/{self.file.pk}/",
            "specimen": f"{base}/workshop/{self.specimen.pk}/",
            "label": f"{base}/workshop/{self.specimen.pk}/label/",
        }

    def statuses(self, who: str) -> dict[str, int]:
        self.sign_in(who)
        return {
            name: self.client.get(path).status_code
            for name, path in self.pages().items()
            if name != "file"
        }

    def test_pages_before_publication(self):
        for who in ("host", "operator", "designer"):
            with self.subTest(who):
                self.assertEqual(set(self.statuses(who).values()), {200})
        for who in ("viewer", "stranger"):
            with self.subTest(who):
                self.assertLessEqual(set(self.statuses(who).values()), {403, 404})

    def test_pages_after_publication(self):
        Round.objects.filter(pk=self.round.pk).update(
            state="published", published_at=timezone.now()
        )
        self.assertEqual(set(self.statuses("viewer").values()), {200})
        self.assertLessEqual(set(self.statuses("stranger").values()), {403, 404})
        page = self.client
        self.sign_in("designer")
        answer = page.post(
            f"/rounds/{self.round.slug}/entries/{self.entry.pk}/edit/",
            {"changed": "late"},
            follow=True,
        )
        self.assertContains(answer, "The round is published", status_code=422)

    def test_the_gate_is_for_those_who_run_the_bench(self):
        path = f"/rounds/{self.round.slug}/workshop/{self.specimen.pk}/gate/"
        for who, status in (
            ("host", 200),
            ("operator", 200),
            ("designer", 403),
            ("viewer", 403),
            ("stranger", 404),
        ):
            with self.subTest(who):
                self.sign_in(who)
                self.assertEqual(self.client.get(path).status_code, status)
                if status != 200:
                    self.assertEqual(
                        self.client.post(path, {"pass": "1", "power": "supply"}).status_code, status
                    )

    def test_posts_need_their_token_and_their_person(self):
        base = f"/rounds/{self.round.slug}"
        paths = [
            f"{base}/entries/{self.entry.pk}/parts/{self.file.pk}/{what}/"
            for what in ("describe", "again", "stop", "mended", "remove", "unit")
        ]
        paths += [
            f"{base}/workshop/{self.specimen.pk}/{what}/"
            for what in ("move", "tick", "measure", "balance", "log", "print")
        ]
        for who in ("viewer", "stranger"):
            self.sign_in(who)
            for path in paths:
                with self.subTest(who=who, path=path):
                    self.assertIn(self.client.post(path, {}).status_code, {403, 404})
        self.client.logout()
        for path in paths:
            self.assertEqual(self.client.post(path, {}).status_code, 302)  # to the login
        self.sign_in("designer")
        for path in paths:
            self.assertEqual(self.client.get(path).status_code, 405)
        self.assertTrue(PartCheck.objects.filter(file=self.file).exists())
