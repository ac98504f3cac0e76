"""Pages: who gets where, how many queries, what bad input is told."""

from unittest import mock

from django.core.files.uploadedfile import SimpleUploadedFile
from django.db import connection, transaction
from django.test import TestCase
from django.test.utils import CaptureQueriesContext
from django.urls import reverse

from hauch.bench.imports import stop_import
from hauch.bench.jobs import import_later
from hauch.bench.models import LogImport, Recording, Run, SourceFile
from hauch.people.permissions import ANYWHERE, MATRIX, ROLES, STAFF_ACTIONS, WORDS, allowed
from hauch.rounds.invitations import invite
from hauch.rounds.models import Round
from tests import markup
from tests.builder import PASSWORD, build
from tests.web.test_actions import DATA

MOST_QUERIES = 13


class Pages(TestCase):
    """A measured round and a client for everybody."""

    published = False

    @classmethod
    def setUpTestData(cls):
        cls.built = build(published=cls.published)
        cls.built.measure_and_judge()
        run = Run.objects.filter(specimen=cls.built.specimens["Binse"]).first()
        slug, air = cls.built.round.slug, cls.built.tests["air"]
        cls.pages = {
            "home": reverse("home"),
            "search": reverse("search") + "?q=bin",
            "person": reverse("people:person"),
            "password": reverse("people:change_password"),
            "second factor": reverse("people:second_factor"),
            "mail": reverse("people:mail"),
            "people of all": reverse("people:people"),
            "installation": reverse("keeper"),
            "files": reverse("entries:files", args=[slug, cls.built.entries["Amsel"].pk]),
            "stores": reverse("stores:stores"),
            "brief": reverse("rounds:brief", args=[slug]),
            "entries": reverse("entries:list", args=[slug]),
            "own entry": cls.built.entries["Amsel"].get_absolute_url(),
            "entry": cls.built.entries["Binse"].get_absolute_url(),
            "workshop": reverse("workshop:list", args=[slug]),
            "bench": reverse("bench:overview", args=[slug]),
            "capture": (
                reverse("bench:capture", args=[slug, air.pk])
                + f"?subject=s{cls.built.specimens['Amsel'].pk}"
            ),
            "run": run.get_absolute_url(),
            "verdict": reverse("verdict:standing", args=[slug]),
            "cell": reverse("verdict:cell", args=[slug, 1, cls.built.entries["Binse"].pk, "air"]),
            "zip": reverse("exchange:zip", args=[slug]),
            "csv": reverse("exchange:csv", args=[slug]),
            "import": reverse("exchange:import"),
            "attention": reverse("attention"),
            "begin": reverse("rounds:begin"),
            "set up": reverse("setup:begin"),
            "practice": reverse("practice:practice"),
            "soak": reverse("bench:soak", args=[slug, air.pk]),
            "form": reverse("bench:form", args=[slug]),
            "settings": (
                reverse("bench:settings", args=[slug, air.pk])
                + f"?subject=s{cls.built.specimens['Amsel'].pk}"
            ),
            "change": reverse("rounds:change", args=[slug]),
            "rules": reverse("change_rules", args=[slug]),
            "envelope": reverse("rounds:envelope", args=[slug]),
            "sheet": reverse("rounds:sheet", args=[slug]),
            "people": reverse("rounds:people", args=[slug]),
            "audit": reverse("rounds:audit", args=[slug]),
            "care": reverse("care", args=[slug]),
            "reference": cls.built.reference.get_absolute_url(),
            "rig": air.rig.get_absolute_url(),
            "change rig": reverse("stores:change_rig", args=[air.rig_id]),
            "traverse": reverse("stores:calibrate_rig", args=[air.rig_id, "traverse"]),
            "blank plate": reverse("stores:calibrate_rig", args=[air.rig_id, "blank_plate"]),
            "instrument": reverse("stores:instrument", args=[air.rig.meters.first().instrument_id]),
            "change instrument": reverse(
                "stores:change_instrument", args=[air.rig.meters.first().instrument_id]
            ),
            "calibrate": reverse("stores:calibrate", args=[air.rig.meters.first().instrument_id]),
            "new rig": reverse("stores:new_rig") + "?kind=lift",
            "new instrument": reverse("stores:new_instrument") + "?channel=power",
            "library": reverse("exchange:library"),
            "import library": reverse("exchange:import_library"),
            "desk": reverse("desk:index"),
            "rotor": reverse("desk:tool", args=["rotor"]),
            "pack": reverse("desk:tool", args=["pack"]),
            "record": reverse("desk:record"),
            "own predictions": reverse("desk:entry", args=[cls.built.entries["Amsel"].pk]),
            "sounds": reverse("sound:overview", args=[slug]),
            "begin sound": reverse("sound:begin", args=[slug]),
            "listen": reverse("sound:listen", args=[slug]),
            "blind": reverse("sound:blind", args=[slug]),
            "sounds of a run": reverse("sound:of_run", args=[slug, run.pk]),
        }

    def get(self, who, page, **more):
        self.client.force_login(
            self.built.people[who], backend="django.contrib.auth.backends.ModelBackend"
        )
        return self.client.get(self.pages.get(page, page), **more)

    def post(self, who, url, data, **more):
        self.client.force_login(
            self.built.people[who], backend="django.contrib.auth.backends.ModelBackend"
        )
        with self.captureOnCommitCallbacks(execute=True):
            return self.client.post(url, data, **more)


EVERYBODY = ("host", "operator", "designer", "viewer", "stranger")
IN_ROUND = ("host", "operator", "designer", "viewer")


class BeforePublicationTests(Pages):
    STATUS = {
        "home": dict.fromkeys(EVERYBODY, 200),
        "search": dict.fromkeys(EVERYBODY, 200),
        "person": dict.fromkeys(EVERYBODY, 200),
        "password": dict.fromkeys(EVERYBODY, 200),
        "second factor": dict.fromkeys(EVERYBODY, 200),
        "mail": dict.fromkeys(EVERYBODY, 200),
        "files": {"host": 200, "operator": 200, "designer": 200},
        **{
            page: {"host": 200, "operator": 403, "designer": 403, "viewer": 403, "stranger": 403}
            for page in ("people of all", "installation")
        },
        "stores": dict.fromkeys(EVERYBODY, 200),
        "brief": dict.fromkeys(IN_ROUND, 200),
        "entries": dict.fromkeys(IN_ROUND, 200),
        "workshop": dict.fromkeys(IN_ROUND, 200),
        "own entry": {"host": 200, "operator": 200, "designer": 200},
        "entry": {"host": 200, "operator": 200},
        "bench": {"host": 200, "operator": 200, "designer": 403, "viewer": 403},
        "capture": {"host": 200, "operator": 200, "designer": 403, "viewer": 403},
        "sounds": dict.fromkeys(IN_ROUND, 200),
        "listen": dict.fromkeys(IN_ROUND, 200),
        "sounds of a run": dict.fromkeys(IN_ROUND, 200),
        "begin sound": {"host": 200, "operator": 200, "designer": 403, "viewer": 403},
        "blind": {"host": 200, "operator": 200, "designer": 403, "viewer": 403},
        "run": {"host": 200, "operator": 200},
        "verdict": dict.fromkeys(IN_ROUND, 200),
        "cell": {"host": 200, "operator": 200},
        "zip": {"host": 200, "operator": 200, "designer": 403, "viewer": 403},
        "csv": {"host": 200, "operator": 200, "designer": 403, "viewer": 403},
        "import": {"host": 200, "operator": 403, "designer": 403, "viewer": 403, "stranger": 403},
        "attention": dict.fromkeys(EVERYBODY, 200),
        "begin": {"host": 200, "operator": 403, "designer": 403, "viewer": 403, "stranger": 403},
        "set up": {"host": 200, "operator": 403, "designer": 403, "viewer": 403, "stranger": 403},
        "practice": dict.fromkeys(EVERYBODY, 200),
        "form": {"host": 200, "operator": 200, "designer": 403, "viewer": 403},
        "soak": {"host": 200, "operator": 200, "designer": 403, "viewer": 403},
        "settings": {"host": 200, "operator": 200, "designer": 403, "viewer": 403},
        **{
            page: {"host": 200, "operator": 403, "designer": 403, "viewer": 403}
            for page in ("change", "rules", "people", "audit")
        },
        **{page: dict.fromkeys(IN_ROUND, 200) for page in ("envelope", "sheet")},
        "care": {"host": 200, "operator": 200, "designer": 403, "viewer": 403},
        **{
            page: dict.fromkeys(EVERYBODY, 200)
            for page in ("reference", "rig", "instrument", "library")
        },
        **{
            page: {"host": 200, "operator": 200, "designer": 403, "viewer": 403, "stranger": 403}
            for page in (
                "change rig",
                "traverse",
                "blank plate",
                "change instrument",
                "calibrate",
                "new rig",
                "new instrument",
                "import library",
            )
        },
    }

    def test_everybody_on_every_page(self):
        for page, expected in self.STATUS.items():
            for who in EVERYBODY:
                with self.subTest(page=page, who=who):
                    self.assertEqual(self.get(who, page).status_code, expected.get(who, 404))

    def test_nobody_without_signing_in(self):
        for page, url in self.pages.items():
            with self.subTest(page):
                self.assertRedirects(
                    self.client.get(url),
                    f"{reverse('people:login')}?next={url.replace('?', '%3F').replace('=', '%3D')}",
                )

    def test_designer_sees_own_entries_and_no_standing(self):
        entries = self.get("designer", "entries").content.decode()
        self.assertIn("Amsel", entries)
        self.assertNotIn("Binse", entries)
        self.assertContains(self.get("designer", "verdict"), "has not published the standing yet")
        self.assertNotContains(self.get("designer", "search"), "Binse")
        self.assertNotContains(self.get("designer", "own entry"), "Rank 1")

    def test_queries_of_each_page(self):
        for page in self.pages:
            if page in {"zip", "csv", "library"}:
                continue
            self.get("host", page)
            with self.subTest(page), CaptureQueriesContext(connection) as queries:
                self.client.get(self.pages[page])
            self.assertLessEqual(
                len(queries),
                MOST_QUERIES,
                f"{page}: " + "\n".join(q["sql"][:160] for q in queries.captured_queries),
            )

    def test_markup_of_each_page(self):
        for page in self.pages.keys() - {"zip", "csv", "library"}:
            with self.subTest(page):
                html = self.get("host", page).content.decode()
                self.assertEqual(markup.problems(html), [])

    def test_matrix_is_complete_and_closed(self):
        roles = {key for key, _ in ROLES}
        for action, who in MATRIX.items():
            self.assertLessEqual(who, roles, action)
        self.assertEqual(set(WORDS), set(MATRIX) | STAFF_ACTIONS | set(ANYWHERE))
        with self.assertRaises(KeyError):
            allowed(self.built.host, "round.destroy", self.built.round)
        self.built.people["viewer"].is_active = False
        self.assertFalse(allowed(self.built.people["viewer"], "round.view", self.built.round))

    def test_actions_by_role(self):
        for action, roles in MATRIX.items():
            for who in IN_ROUND:
                with self.subTest(action=action, who=who):
                    self.assertEqual(
                        allowed(self.built.people[who], action, self.built.round), who in roles
                    )


class PostTests(Pages):
    """Everybody on every action that a page offers: who may not is refused before anything is
    looked at.
    """

    def actions(self):
        built, slug = self.built, self.built.round.slug
        air, meter = built.tests["air"], built.tests["air"].rig.meters.first().instrument
        question = built.round.rules.get().questions.create(text="Why?", asked_by=built.host)
        member = built.round.memberships.get(user=built.people["viewer"])
        made, _ = invite(built.host, built.round, "viewer")
        run = Run.objects.filter(specimen=built.specimens["Amsel"]).first()
        host, bench, in_round = {"host"}, {"host", "operator"}, {"host", "operator", "designer"}
        return {
            reverse("rounds:begin"): host,
            reverse("setup:begin"): host,
            reverse("people:password_link", args=[built.people["viewer"].pk]): host,
            reverse("people:take_second_off", args=[built.people["viewer"].pk]): host,
            reverse("people:set_active", args=[built.people["viewer"].pk]): host,
            reverse("keeper_job", args=[1]): set(),
            reverse("bench:add_setting", args=[slug, air.pk]): bench,
            reverse("stores:delete_rig", args=[air.rig_id]): bench,
            reverse("stores:delete_instrument", args=[meter.pk]): bench,
            reverse("rounds:change", args=[slug]): host,
            reverse("change_rules", args=[slug]): host,
            reverse("rounds:envelope", args=[slug]): host,
            reverse("rounds:move", args=[slug]): host,
            reverse("rounds:people", args=[slug]): host,
            reverse("rounds:role", args=[slug, member.pk]): host,
            reverse("rounds:revoke", args=[slug, made.pk]): host,
            reverse("rounds:ask", args=[slug]): in_round,
            reverse("rounds:answer", args=[slug, question.pk]): host,
            reverse("verdict:publish", args=[slug]): host,
            reverse("change_reference", args=[slug]): bench,
            reverse("stores:new_rig") + "?kind=lift": bench,
            reverse("stores:change_rig", args=[air.rig_id]): bench,
            reverse("stores:rig_drawing", args=["tunnel"]): bench,
            reverse("stores:calibrate_rig", args=[air.rig_id, "traverse"]): bench,
            reverse("stores:new_instrument") + "?channel=power": bench,
            reverse("stores:change_instrument", args=[meter.pk]): bench,
            reverse("stores:calibrate", args=[meter.pk]): bench,
            reverse("stores:new_reference"): bench,
            reverse("stores:note_reference", args=[built.reference.pk]): bench,
            reverse("exchange:import_library"): bench,
            reverse("exchange:import"): host,
            reverse("bench:capture", args=[slug, air.pk])
            + f"?subject=s{built.specimens['Amsel'].pk}": bench,
            reverse("bench:void", args=[slug, run.pk]): bench,
            reverse("entries:add", args=[slug]): {"host", "designer"},
            reverse("desk:save", args=["rotor"]): {"host", "operator", "designer", "viewer"},
            reverse("desk:start_search", args=["rotor"]): {
                "host",
                "operator",
                "designer",
                "viewer",
            },
        }

    def test_everybody_on_every_action(self):
        for url, who_may in self.actions().items():
            for who in EVERYBODY:
                if who in who_may and url.endswith(("/publish/", "/role/")):
                    # what they do is tested where it belongs, and would change who may what here
                    continue
                data = (
                    {"type_name": "Loft-140", "serial": "L-77"}
                    if url.endswith("references/new/")
                    else {}
                )
                with self.subTest(url, who=who), transaction.atomic():
                    status = self.post(who, url, data).status_code
                    transaction.set_rollback(True)
                self.assertEqual(
                    status in {403, 404}, who not in who_may, f"{who} on {url}: {status}"
                )

    def test_nobody_without_signing_in(self):
        for url in self.actions():
            answer = self.client.post(url, {})
            self.assertEqual(answer.status_code, 302, url)
            self.assertIn(reverse("people:login"), answer["Location"])


class AfterPublicationTests(Pages):
    published = True

    def test_all_members_see_everything_but_the_bench(self):
        for page, status in {
            "entry": 200,
            "verdict": 200,
            "cell": 200,
            "run": 200,
            "bench": 403,
            "zip": 403,
        }.items():
            with self.subTest(page):
                self.assertEqual(self.get("viewer", page).status_code, status)
        self.assertEqual(self.get("stranger", "verdict").status_code, 404)


class SecurityTests(Pages):
    def test_headers(self):
        answer = self.get("host", "verdict")
        policy = answer["Content-Security-Policy"]
        self.assertIn("default-src 'none'", policy)
        self.assertIn("script-src 'self';", policy + ";")
        self.assertNotIn("unsafe", policy)
        self.assertEqual(
            (answer["X-Frame-Options"], answer["X-Content-Type-Options"]), ("DENY", "nosniff")
        )

    def test_names_are_text_and_no_markup(self):
        url = reverse("entries:add", args=[self.built.round.slug])
        Round.objects.update(state="open")
        answer = self.post(
            "designer",
            url,
            {"name": "<script>alert(1)</script> Ü", "story": "</textarea><img src=x onerror=y>"},
            follow=True,
        )
        self.assertContains(answer, "&lt;script&gt;alert(1)&lt;/script&gt; Ü")
        self.assertNotContains(answer, "<script>alert")
        self.assertNotContains(answer, "<img src=x")

    def test_charts_cannot_break_out_of_their_script(self):
        self.built.entries["Amsel"].name = "</script><script>alert(2)"
        self.built.entries["Amsel"].save()
        self.assertNotContains(self.get("host", "verdict"), "</script><script>alert(2)")

    def test_forms_need_their_token(self):
        from django.test import Client

        strict = Client(enforce_csrf_checks=True)
        strict.force_login(self.built.host, backend="django.contrib.auth.backends.ModelBackend")
        self.assertEqual(
            strict.post(reverse("verdict:publish", args=[self.built.round.slug])).status_code, 403
        )

    def test_exports_are_attachments_without_formulas(self):
        self.built.entries["Binse"].name = "=cmd()"
        self.built.entries["Binse"].save()
        answer = self.get("host", "csv")
        self.assertIn("attachment", answer["Content-Disposition"])
        self.assertIn("'=cmd()", answer.content.decode())

    def test_health(self):
        self.client.logout()
        answer = self.client.get("/health/")
        self.assertEqual(answer.status_code, 200)
        self.assertEqual(set(answer.json()), {"version", "core_version", "database", "worker"})
        self.assertEqual((answer.json()["database"], answer.json()["worker"]), ("ok", "none"))

    def test_wrong_password_says_so(self):
        answer = self.client.post(
            reverse("people:login"), {"username": "host", "password": "wrong"}
        )
        self.assertContains(answer, "do not go together")
        self.assertRedirects(
            self.client.post(reverse("people:login"), {"username": "host", "password": PASSWORD}),
            "/",
        )


class BenchPageTests(Pages):
    def capture(self, **data):
        form = {
            "r-air_speed": ["4,2", "4,3"],
            "unit-air_speed": "m/s",
            "temperature": "21,5",
            "pressure": "965",
            "humidity": "48",
        }
        form |= {"form_key": "6f0c7a52-6f1b-4d3e-9a4e-140140140141"} | data
        return self.post("operator", self.pages["capture"], form, follow=True)

    def test_the_code_on_a_print_leads_to_its_next_run(self):
        slug, specimen = self.built.round.slug, self.built.specimens["Binse"]
        at = reverse("bench:next", args=[slug, specimen.pk])
        page = self.get("operator", specimen.get_absolute_url())
        self.assertContains(page, f'href="{at}"')
        answer = self.get("operator", at, follow=True)
        self.assertContains(answer, "has all its runs")
        self.assertContains(answer, "Binse")
        test = self.built.tests["power"]
        test.repeats = 4
        test.save()
        answer = self.get("operator", at)
        capture = reverse("bench:capture", args=[slug, test.pk])
        self.assertRedirects(answer, f"{capture}?subject=s{specimen.pk}")
        type(specimen).objects.filter(pk=specimen.pk).update(state="oven")
        answer = self.get("operator", at, follow=True)
        self.assertContains(answer, "is in the oven")
        self.assertEqual(self.get("viewer", at).status_code, 403)

    def test_decimal_comma_and_result(self):
        answer = self.capture(show="1")
        self.assertContains(answer, "m³/h")
        run = Run.objects.latest("pk")
        self.assertEqual([reading.value for reading in run.readings.all()], [4.2, 4.3])
        self.assertEqual((run.temperature, run.pressure), (21.5, 96_500.0))
        self.assertContains(answer, "Volume flow")

    def test_sending_twice_records_once(self):
        before = Run.objects.count()
        self.capture()
        self.capture()
        self.assertEqual(Run.objects.count(), before + 1)

    def test_bad_input_keeps_what_was_typed(self):
        before = Run.objects.count()
        for data, words in (
            ({"pressure": ""}, "Air pressure is missing"),
            ({"r-air_speed": ["abc"]}, "Air speed, reading 1: “abc” is not a number."),
            ({"r-air_speed": ["-3"]}, "Air speed: -3 m/s cannot be"),
            ({"r-air_speed": ["nan"]}, "Air speed, reading 1: “nan” is not a number."),
            ({"r-air_speed": [""]}, "No result without readings"),
            ({"unit-air_speed": "furlong/h"}, "“furlong/h” is not known"),
            ({"humidity": "wet"}, "“wet” is not a number."),
        ):
            with self.subTest(words):
                answer = self.capture(**data)
                self.assertContains(answer, words, status_code=422)
                self.assertContains(answer, 'value="21,5"', status_code=422)
        self.assertEqual(Run.objects.count(), before)

    def test_units_follow_the_person(self):
        self.built.operator.preset = "inch"
        self.built.operator.save()
        answer = self.get("operator", "capture")
        self.assertContains(answer, "Air speed, ft/min")
        self.assertContains(self.get("operator", "verdict"), "cfm")

    def test_did_not_finish_and_void(self):
        url = reverse("bench:dnf", args=[self.built.round.slug, self.built.tests["air"].pk])
        subject = f"s{self.built.specimens['Kiebitz'].pk}"
        self.assertContains(
            self.post("operator", url, {"subject": subject, "reason": ""}, follow=True),
            "why it did not finish",
        )
        self.post("operator", url, {"subject": subject, "reason": "rubs <b>hard</b>"})
        answer = self.get("host", "verdict")
        self.assertContains(answer, "Did not finish: rubs &lt;b&gt;hard&lt;/b&gt;")
        run = Run.objects.filter(specimen=self.built.specimens["Binse"]).first()
        void = reverse("bench:void", args=[self.built.round.slug, run.pk])
        self.assertContains(
            self.post("operator", void, {"reason": "door open"}, follow=True),
            "Void, it does not count: door open",
        )

    def test_addresses_that_lead_nowhere(self):
        for url in (
            "bench/runs/999999/",
            "bench/tests/999999/?subject=s1",
            "entries/999999/",
            "verdict/v1/999999/air/",
            "verdict/v9/1/air/",
        ):
            with self.subTest(url):
                self.assertEqual(
                    self.get("host", f"/rounds/{self.built.round.slug}/{url}").status_code, 404
                )
        self.assertRedirects(
            self.get("host", self.pages["capture"].replace("?subject=s", "?subject=q")),
            self.pages["bench"],
        )


class UploadTests(Pages):
    def upload(self, name, data):
        url = reverse("bench:upload", args=[self.built.round.slug])
        return self.post("operator", url, {"log": SimpleUploadedFile(name, data)}, follow=True)

    def confirm(self, answer, **data):
        mapping = {}
        for column in answer.context["columns"]:
            mapping |= {
                f"channel-{column['index']}": column["channel"],
                f"unit-{column['index']}": column["unit"],
            }
        form = {
            "subject": f"s{self.built.specimens['Amsel'].pk}",
            "temperature": "21",
            "pressure": "965",
            "humidity": "48",
            "form_key": "6f0c7a52-6f1b-4d3e-9a4e-140140140142",
            "tests": [str(t.pk) for t in self.built.tests.values()],
        }
        return self.client.post(answer.request["PATH_INFO"], mapping | form | data, follow=True)

    def test_preview_confirm_result_and_memory(self):
        data = (DATA / "bench_b_german.csv").read_bytes()
        preview = self.upload("märz.csv", data)
        self.assertContains(preview, "semicolon between columns, decimal comma, Windows-1252")
        self.assertContains(preview, "The columns are guessed")
        done = self.confirm(preview)
        self.assertContains(done, "märz.csv: 1,200 rows imported as 2 runs: air, power.")
        again = self.upload("other name.csv", data)
        self.assertContains(again, "This file is in already", status_code=409)
        self.assertContains(again, "märz.csv", status_code=409)
        remembered = self.upload(
            "april.csv", data + b"03.04.2026 09:32:00;3,8;38,9;48,7;66,2;21,5;11,92;0,371;1704\r\n"
        )
        self.assertContains(remembered, "as Operator confirmed them for this logger")

    def left_to_the_worker(self, data=None, **more):
        """A file that counts as large is confirmed; its import, and the page that tells of it."""
        preview = self.upload("long.csv", data or (DATA / "bench_b_german.csv").read_bytes())
        with mock.patch("hauch.bench.views_import.AT_ONCE", 1000):
            page = self.confirm(preview, **more)
        return LogImport.objects.get(), page

    def test_a_large_file_is_left_to_the_worker_once(self):
        asked, page = self.left_to_the_worker()
        self.assertContains(page, "Waiting for the worker")
        url = page.request["PATH_INFO"]
        for name in ("again", "another tab"):
            with self.subTest(name):
                same = self.upload("long.csv", (DATA / "bench_b_german.csv").read_bytes())
                self.assertEqual(same.request["PATH_INFO"], url)
        self.assertEqual(Recording.objects.count(), 0)
        import_later(asked.pk)
        import_later(asked.pk)  # the job of a worker that died is run again
        done = self.client.get(url, headers={"hx-request": "true"})
        self.assertContains(done, "long.csv: 1,200 rows imported as 2 runs: air, power.")
        self.assertNotContains(done, "hx-trigger")
        for run in Recording.objects.get().runs.all():
            self.assertContains(done, run.get_absolute_url())
        asked.refresh_from_db()
        self.assertEqual((asked.state, asked.progress), (LogImport.State.DONE, 1.0))
        self.assertEqual(self.get("designer", url).status_code, 403)
        self.assertEqual(self.get("stranger", url).status_code, 404)

    def test_what_can_be_told_before_a_large_file_is_read_is_told_at_once(self):
        preview = self.upload("long.csv", (DATA / "bench_b_german.csv").read_bytes())
        with mock.patch("hauch.bench.views_import.AT_ONCE", 1000):
            for data, words in (
                ({"tests": []}, "Choose at least one test"),
                ({"temperature": ""}, "Room temperature is missing"),
                ({"subject": ""}, "Choose what was run"),
                ({"channel-1": "", "channel-6": ""}, "also needs"),
            ):
                with self.subTest(words):
                    self.assertContains(self.confirm(preview, **data), words, status_code=422)
        self.assertEqual(LogImport.objects.count(), 0)

    def test_a_large_file_that_cannot_be_imported_says_why_and_can_be_asked_for_again(self):
        data = (DATA / "bench_d_broken.csv").read_bytes()
        asked, page = self.left_to_the_worker(data)
        import_later(asked.pk)
        told = self.client.get(page.request["PATH_INFO"])
        self.assertContains(told, "43 of 1,802 rows cannot be read, so nothing was imported")
        self.assertContains(told, "“OL” in air speed is not a number")
        self.assertContains(told, "Back to its columns")
        self.assertEqual((Recording.objects.count(), Run.objects.filter(note="x").count()), (0, 0))
        again = self.upload("long.csv", data)
        self.assertIn("columns", again.context)

    def test_an_import_is_stopped_or_fails_and_can_be_asked_for_again(self):
        asked, page = self.left_to_the_worker()
        url = page.request["PATH_INFO"]
        self.assertEqual(self.post("designer", url, {}).status_code, 403)
        stopped = self.post("operator", url, {}, follow=True)
        self.assertContains(stopped, "It was stopped by hand.")
        import_later(asked.pk)
        self.assertEqual(Recording.objects.count(), 0)
        LogImport.objects.all().delete()
        asked, page = self.left_to_the_worker()
        with mock.patch("hauch.bench.importing.summary", side_effect=lambda *_: self.stop(asked)):
            import_later(asked.pk)  # stopped while it is stored: all of it goes
        self.assertEqual(Recording.objects.count(), 0)
        LogImport.objects.all().delete()
        asked, page = self.left_to_the_worker()
        with (
            mock.patch("hauch.bench.importing.read_apart", side_effect=ArithmeticError),
            self.assertLogs("hauch.bench.importing", "ERROR"),
        ):
            import_later(asked.pk)
        told = self.client.get(page.request["PATH_INFO"])
        self.assertContains(told, "Something went wrong here")
        self.assertContains(told, "Back to its columns")

    def stop(self, asked):
        stop_import(self.built.operator, asked)
        return ""

    def test_whoever_left_the_round_imports_nothing_later(self):
        asked, _ = self.left_to_the_worker()
        self.built.round.memberships.filter(user=self.built.operator).delete()
        import_later(asked.pk)
        asked.refresh_from_db()
        self.assertEqual(asked.state, LogImport.State.FAILED)
        self.assertIn("may no longer record runs", asked.problems[0])
        self.assertEqual(Recording.objects.count(), 0)

    def test_broken_file_lists_rows_and_imports_nothing(self):
        answer = self.confirm(self.upload("broken.csv", (DATA / "bench_d_broken.csv").read_bytes()))
        self.assertContains(
            answer, "43 of 1,802 rows cannot be read, so nothing was imported", status_code=422
        )
        self.assertContains(answer, "“OL” in air speed is not a number", status_code=422)
        self.assertEqual(Recording.objects.count(), 0)

    def test_refused_at_the_door(self):
        for name, data, words in (
            ("empty.csv", b"", "empty"),
            ("photo.csv", b"\x89PNG\x00\x00", "binary"),
            ("text.csv", b"hello\nworld\n", "No table"),
        ):
            with self.subTest(name):
                self.assertContains(self.upload(name, data), words, status_code=422)
        self.assertEqual(SourceFile.objects.count(), 0)

    def test_200_megabytes_are_not_even_kept(self):
        url = reverse("bench:upload", args=[self.built.round.slug])
        body = (
            b'--x\r\nContent-Disposition: form-data; name="log"; filename="huge.csv"\r\n\r\n'
            + b"0,1\n" * 50_000_000
            + b"\r\n--x--\r\n"
        )
        self.client.force_login(
            self.built.operator, backend="django.contrib.auth.backends.ModelBackend"
        )
        answer = self.client.generic(
            "POST", url, body, content_type="multipart/form-data; boundary=x"
        )
        self.assertContains(answer, "larger than 134 MB and was not read", status_code=422)
        self.assertEqual(SourceFile.objects.count(), 0)

    def test_confirming_nonsense(self):
        preview = self.upload("log.csv", (DATA / "bench_b_german.csv").read_bytes())
        for data, words in (
            ({"subject": ""}, "Choose what was run"),
            ({"tests": []}, "at least one test"),
            ({"unit-1": "furlong"}, "“furlong” is not known for air speed"),
            ({"channel-1": ""}, "also needs air speed"),
            ({"pressure": ""}, "Air pressure is missing"),
            ({"channel-0": ""}, "which column holds the time"),
        ):
            with self.subTest(words):
                self.assertContains(self.confirm(preview, **data), words, status_code=422)
        self.assertEqual(Recording.objects.count(), 0)


class SmallPageTests(Pages):
    def test_search_finds_entries_runs_and_meters(self):
        run = Run.objects.first()
        self.assertContains(self.get("host", "search"), "Binse")
        self.assertContains(self.get("host", f"/search/?q=run {run.pk}"), f"Run {run.pk},")
        self.assertContains(self.get("host", "/search/?q=vane"), "Vane")
        self.assertContains(
            self.get("host", "/search/?q=xyz"), "Nothing that you may see has this name"
        )

    def test_htmx_gets_the_part_alone(self):
        part = self.get("host", "entries", headers={"HX-Request": "true"}).content.decode()
        self.assertNotIn("<html", part)
        self.assertIn("Amsel", part)
        self.assertNotIn(
            "<html", self.get("host", "cell", headers={"HX-Request": "true"}).content.decode()
        )

    def test_specimen_form_and_state(self):
        slug = self.built.round.slug
        version = self.built.entries["Kiebitz"].versions.get()
        good = {"version": version.pk, "code": "R-30", "material": "ASA", "mass_g": "31.4"}
        self.assertContains(
            self.post("operator", reverse("workshop:add", args=[slug]), good, follow=True),
            "Specimen R-30 is printed",
        )
        self.assertContains(
            self.post("operator", reverse("workshop:add", args=[slug]), good),
            "is on another specimen",
            status_code=422,
        )
        specimen = version.specimens.get(code="R-30")
        move = reverse("workshop:move", args=[slug, specimen.pk])
        self.assertContains(
            self.post("operator", move, {"state": "ready"}, follow=True), "not done yet"
        )
        self.post("operator", move, {"state": "broken"})
        specimen.refresh_from_db()
        self.assertEqual((specimen.state, specimen.mass), ("broken", 0.0314))

    def test_units_page_and_publication(self):
        self.assertContains(
            self.post("viewer", self.pages["person"], {"preset": "si"}, follow=True),
            "shown in these units",
        )
        publish = reverse("verdict:publish", args=[self.built.round.slug])
        self.assertEqual(self.post("operator", publish, {}).status_code, 403)
        self.post("host", publish, {})
        self.built.round.refresh_from_db()
        self.assertTrue(self.built.round.is_published)
