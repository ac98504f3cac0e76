"""Home: what is on the benches with what they show, and where each other round waits."""

from django.urls import reverse

from hauch.pages.home import next_station
from hauch.pages.line import stations
from hauch.people.permissions import DESIGNER, HOST
from hauch.rounds.models import Membership, Round
from tests.web.test_live import LiveCase


class HomeTests(LiveCase):
    def sign_in(self, who="operator"):
        self.client.force_login(
            self.built.people[who], backend="django.contrib.auth.backends.ModelBackend"
        )

    def test_a_bench_in_use_is_there_with_what_it_shows(self):
        self.sign_in()
        self.assertNotContains(self.client.get(reverse("on_now")), "section")
        one = self.record(self.begin(), 20.0)
        self.assertContains(self.client.get(reverse("home")), reverse("on_now"))
        page = self.client.get(reverse("on_now"))
        self.assertContains(page, "Amsel, air test")
        self.assertContains(page, 'hx-trigger="every 3s"')
        (live, figure, status) = page.context["rows"][0]
        self.assertEqual((live, figure[0], status.throttle), (one, "air_speed", 100.0))
        self.assertAlmostEqual(figure[1], 3.9, delta=1.0)
        for who in ("designer", "stranger"):
            self.sign_in(who)
            self.assertNotContains(self.client.get(reverse("on_now")), "Amsel")

    def test_before_the_first_sample_there_is_no_figure(self):
        self.sign_in()
        self.begin()
        self.assertEqual(self.client.get(reverse("on_now")).context["rows"][0][1], None)

    def test_each_other_round_says_where_it_waits(self):
        host, designer = self.built.host, self.built.people["designer"]
        other = Round.objects.create(
            slug="silent-duct", number=1, title="Silent duct", question="Which?", part="duct"
        )
        for who, role in ((host, HOST), (designer, DESIGNER)):
            Membership.objects.create(round=other, user=who, role=role)
        self.sign_in("host")
        page = self.client.get(reverse("attention"))
        self.assertContains(page, "Silent duct")
        self.assertContains(page, "no rules yet")
        self.assertContains(page, f'href="{reverse("rounds:brief", args=["silent-duct"])}"')
        found = next_station(stations(self.built.round, designer))
        self.assertTrue(found.open)
        Round.objects.update(archived=True)
        self.assertNotContains(self.client.get(reverse("attention")), "Silent duct")
