"""Every page with axe-core, and at the width of a phone: nothing serious, and nothing that runs out of
the page.
"""

from __future__ import annotations

from pathlib import Path

from django.urls import reverse

from hauch.bench.models import Run
from hauch.setup.models import SetUp
from hauch.sound.models import Calibration
from tests.browser.base import BrowserTests
from tests.sounds import confirm, hand_in, session_of

AXE = (Path(__file__).parents[1] / "vendor" / "axe.min.js").read_text(encoding="utf-8")
LOOK = """async () => {
  const rules = ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa"];
  const found = await axe.run(document, {resultTypes: ["violations"], runOnly: rules});
  return found.violations.filter((v) => ["serious", "critical"].includes(v.impact))
    .map((v) => `${v.id}: ${v.nodes.slice(0, 3).map((n) => n.html.slice(0, 140)).join(" | ")}`);
}"""
FITS = "document.documentElement.scrollWidth <= innerWidth"
WIDER = """() => [...document.querySelectorAll("main *")].filter((e) => {
  const box = e.getBoundingClientRect();
  return box.width && box.right > innerWidth + 1 && !e.closest(".table-wrap, .board, svg, canvas");
}).slice(0, 3).map((e) => e.outerHTML.slice(0, 120))"""


class AccessibleTests(BrowserTests):
    kinds = ("air", "power", "noise")

    def heard(self) -> list[str]:
        """A sound session with a recording that is confirmed and one that is not."""
        session = session_of(self.built, calibration=Calibration.NONE, tone_level=None)
        hand_in(self.built, session, "stereo.flac")
        row = hand_in(self.built, session, "whistle.flac")
        confirm(self.built, row, self.built.specimens["Amsel"], blades=7, speed=1850.0)
        return [
            session.get_absolute_url(),
            row.get_absolute_url(),
            reverse("sound:microphone", args=[self.built.round.slug, session.pk]),
        ]

    def addresses(self) -> list[str]:
        round, air = self.built.round, self.built.tests["air"]
        slug, entry = round.slug, self.built.entries["Amsel"]
        specimen = self.built.specimens["Amsel"]
        meter = air.rig.meters.first().instrument
        set_up = SetUp.objects.create(
            user=self.built.host,
            answers={
                "part": "rotor",
                "wants": ["air", "noise"],
                "done": ["wants", "means", "sizes"],
                "diameter": 0.12,
            },
        )
        places = ["/", "/person/", "/search/?q=Amsel", "/set-up/", "/practice/"]
        places += [f"/set-up/{set_up.pk}/{step}/" for step in ("wants", "means", "sizes", "parts")]
        places += [
            reverse(f"rounds:{name}", args=[slug])
            for name in ("brief", "change", "envelope", "sheet", "people", "audit")
        ]
        places += [
            reverse("rounds:begin"),
            reverse("change_rules", args=[slug]),
            reverse("entries:list", args=[slug]),
            entry.get_absolute_url(),
            reverse("entry_report", args=[slug, entry.pk]),
            reverse("entries:edit", args=[slug, entry.pk]),
            reverse("workshop:list", args=[slug]),
            specimen.get_absolute_url(),
            reverse("sound:overview", args=[slug]),
            reverse("sound:begin", args=[slug]),
            *self.heard(),
            reverse("workshop:gate", args=[slug, specimen.pk]),
            reverse("bench:overview", args=[slug]),
            f"{reverse('bench:capture', args=[slug, air.pk])}?subject=s{specimen.pk}",
            Run.objects.filter(reference=None).first().get_absolute_url(),
            reverse("verdict:standing", args=[slug]),
            reverse("verdict:what_if", args=[slug]) + "?scheme=rank_points",
            reverse("verdict:settling", args=[slug]),
            reverse("verdict:beside", args=[slug]),
            reverse("verdict:guesses", args=[slug]),
            reverse("verdict:accept", args=[slug, entry.pk]),
            reverse("verdict:with_without", args=[slug]),
            reverse("desk:next", args=[entry.pk]),
            reverse("season:seasons"),
            reverse("care", args=[slug]),
            self.built.reference.get_absolute_url(),
            reverse("stores:stores"),
            air.rig.get_absolute_url(),
            reverse("stores:change_rig", args=[air.rig_id]),
            reverse("stores:calibrate_rig", args=[air.rig_id, "traverse"]),
            meter.get_absolute_url(),
            reverse("stores:change_instrument", args=[meter.pk]),
            reverse("stores:calibrate", args=[meter.pk]),
            reverse("desk:index"),
            reverse("desk:tool", args=["rotor"]),
            reverse("desk:tool", args=["ring"]),
            reverse("desk:record"),
            reverse("exchange:import"),
        ]
        return places

    def test_nothing_serious_on_any_page_and_nothing_lost_on_a_phone(self):
        page = self.sign_in("host")
        found: dict[str, list[str]] = {}
        for place in self.addresses():
            page.set_viewport_size({"width": 1280, "height": 800})
            page.goto(self.url(place))
            page.wait_for_selector("[data-chart]:not([data-drawn=yes])", state="detached")
            page.evaluate(AXE)
            problems = page.evaluate(LOOK)
            page.set_viewport_size({"width": 390, "height": 800})
            if not any(page.evaluate(FITS) or page.wait_for_timeout(250) for _ in range(20)):
                problems.append(f"wider than a phone: {page.evaluate(WIDER)}")
            if problems:
                found[place] = problems
        self.assertFalse(found, "\n".join(f"{place}: {why}" for place, why in found.items()))
