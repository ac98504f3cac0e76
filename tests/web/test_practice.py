"""The page of practice: answered once, in order, told at the end; nothing is stored in a round."""

from django.test import TestCase
from django.urls import reverse

from hauch.core.rig.practice import NONE, ORDER
from hauch.people.models import User
from hauch.practice.exercise import session_of


class PracticeTests(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.user = User.objects.create_user("newcomer")

    def setUp(self):
        self.client.force_login(self.user, backend="django.contrib.auth.backends.ModelBackend")
        self.at = reverse("practice:practice")

    def say(self, said, number=""):
        return self.client.post(self.at, {"said": said, "number": number}, follow=True)

    def begin(self, seed=11):
        self.client.post(self.at, {"begin": "yes"})
        session = self.client.session
        session["practice"] = {"seed": seed, "answers": []}
        session.save()
        return session_of(seed)

    def test_from_the_first_run_to_what_was_there(self):
        self.assertContains(self.client.get(self.at), "Practise on a bench that cannot break")
        session = self.begin()
        for number, run in enumerate(session.runs, 1):
            page = self.client.get(self.at)
            self.assertContains(page, f"run {number} of {len(ORDER)}")
            self.assertNotContains(page, "Hauch by itself")
            self.say(run.fault, number)
        self.assertContains(self.client.get(self.at), "Does the reference drift?")
        page = self.say("drifts" if session.drifts else "steady")
        self.assertContains(page, "8 of 8 right")
        self.assertContains(page, "Hauch by itself", count=len(ORDER))
        self.assertNotContains(page, "You said")
        self.client.post(self.at, {"begin": "yes"})
        self.assertContains(self.client.get(self.at), "run 1 of")

    def test_all_taken_for_sound(self):
        session = self.begin()
        for number in range(1, len(ORDER) + 1):
            self.say(NONE, number)
        page = self.say("steady")
        hidden = sum(run.fault != NONE for run in session.runs)
        self.assertContains(page, "missed</span></h2>", count=hidden + session.drifts)

    def test_twice_back_and_nonsense_answer_nothing(self):
        self.begin()
        self.say(NONE, 1)
        for said, number in ((NONE, 1), ("flood", 2), (NONE, 7), (NONE, ""), ("steady", 2)):
            self.say(said, number)
            self.assertEqual(len(self.client.session["practice"]["answers"]), 1)

    def test_nobody_else_sees_it(self):
        self.client.logout()
        self.assertEqual(self.client.get(self.at).status_code, 302)
