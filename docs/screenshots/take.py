"""Pictures of the main views at 1280x800, from the demo data. Run by `./hauch screenshots`."""

from __future__ import annotations

import tempfile
import threading
from pathlib import Path

import django

django.setup()

from django.contrib.auth import BACKEND_SESSION_KEY, HASH_SESSION_KEY, SESSION_KEY  # noqa: E402
from django.contrib.sessions.backends.db import SessionStore  # noqa: E402
from django.contrib.staticfiles.testing import StaticLiveServerTestCase  # noqa: E402
from django.test.runner import DiscoverRunner  # noqa: E402
from playwright.sync_api import sync_playwright  # noqa: E402

from hauch.bench.models import Run  # noqa: E402
from hauch.bench.runs import Subject  # noqa: E402
from hauch.core.rig import Bench, Loft140  # noqa: E402
from hauch.demo.load import load_demo  # noqa: E402
from hauch.desk.models import Design  # noqa: E402
from hauch.entries.models import Entry, PartFile  # noqa: E402
from hauch.live.actions import begin  # noqa: E402
from hauch.live.recorder import Recorder  # noqa: E402
from hauch.people.first import DEMO_PEOPLE, add_person  # noqa: E402
from hauch.people.models import User  # noqa: E402
from hauch.season.models import Season  # noqa: E402
from hauch.sound.analysing import run_analysis  # noqa: E402
from hauch.sound.models import SoundRecording  # noqa: E402
from hauch.stores.models import ReferenceSpecimen, Rig  # noqa: E402
from tests.browser.live_base import Server  # noqa: E402
from tests.instruments.meters import Meters, put_on_line  # noqa: E402

HERE = Path(__file__).parent


def logger_file(folder: str) -> Path:
    """A logger's file for the preview, from the virtual bench."""
    times, channels = Bench().hot_block(Loft140, "picture", 1.0)
    lines = ["Zeit [s];Temp. Prüfkörper [°C];Raumtemp. [°C];Drehzahl [1/min]"]
    rows = zip(
        times,
        channels["load_temperature"],
        channels["room_temperature"],
        channels["speed"],
        strict=True,
    )
    lines += [f"{t:.0f};{a:.2f};{b:.2f};{c:.0f}".replace(".", ",") for t, a, b, c in rows]
    path = Path(folder) / "loft-logger.csv"
    path.write_text("\n".join(lines), encoding="cp1252")
    return path


class Pictures(StaticLiveServerTestCase):
    def runTest(self):
        for username, (name, _) in DEMO_PEOPLE.items():
            add_person(username, name, staff=username == "runa")
        demo = load_demo()
        entry = demo.entries.get(name="Distel")
        kamm = demo.entries.get(name="Kamm").versions.last().specimens.last()
        run = Run.objects.filter(
            test__key="rise", result__marks__0__isnull=False, state="valid"
        ).first()
        base = f"/rounds/{demo.slug}"
        inlet = "/rounds/hushed-inlet"
        for recording in SoundRecording.objects.filter(session__round__slug="hushed-inlet"):
            run_analysis(recording.pk)
        for recording in SoundRecording.objects.at_work().filter(
            session__round__slug="hushed-inlet"
        ):
            run_analysis(recording.pk)  # once more, with tone and room
        views = {
            "home": "/",
            "brief": f"{inlet}/brief/",
            "envelope": f"{inlet}/brief/envelope/",
            "reference": ReferenceSpecimen.objects.get(serial="I-01").get_absolute_url(),
            "rig": Rig.objects.get(kind="tunnel").get_absolute_url(),
            "entry": f"{base}/entries/{entry.pk}/",
            "workshop": "/rounds/packing-table-ring/workshop/",
            "run": f"{base}/bench/runs/{run.pk}/",
            "verdict": f"{base}/verdict/",
            "what_if": f"{base}/verdict/what-if/?w_noise=6",
            "season": Season.objects.get().get_absolute_url(),
            "plan": "/plan/?day=1",
            "part": PartFile.objects.get(name="ringelnatter.stl").get_absolute_url(),
            "sound": SoundRecording.objects.get(name="Farn.flac").get_absolute_url(),
        }
        with sync_playwright() as playwright, tempfile.TemporaryDirectory() as folder:
            browser = playwright.chromium.launch(executable_path="/usr/bin/chromium-headless-shell")
            page = self.signed_in(browser, "light")
            for name, path in views.items():
                page.goto(self.live_server_url + path)
                self.take(page, name)
            rotors = {
                d.name: d for d in Design.objects.filter(tool="rotor", owner__username="runa")
            }
            page.goto(
                f"{self.live_server_url}{rotors['Schwalbe, blades'].get_absolute_url()}&with={rotors['Mohn, blades'].pk}"  # noqa: E501
            )
            self.take(page, "desk_rotor")
            page.goto(f"{self.live_server_url}/set-up/")
            page.get_by_role("button", name="Ducts").click()
            page.get_by_role("button", name="Next").click()
            page.get_by_text("What do you measure it with?").wait_for()
            self.take(page, "set_up")
            page.goto(f"{self.live_server_url}{base}/bench/")
            page.set_input_files("#log", logger_file(folder))
            page.get_by_role("button", name="Preview").click()
            self.take(page, "preview")
            page.goto(
                f"{self.live_server_url}{Entry.objects.get(name='Zeisig').get_absolute_url()}report/"
            )
            page.locator("section", has_text="A faint hum").evaluate(
                "(section) => section.scrollIntoView()"
            )
            page.wait_for_timeout(1500)  # until the far place is painted
            self.take(page, "report")
            page = self.signed_in(browser, "dark")
            page.goto(
                f"{self.live_server_url}{base}/bench/tests/{demo.tests.first().pk}/?subject=s{kamm.pk}"
            )
            for value in ("15,4", "15,5", "15,3"):
                page.keyboard.type(value)
                page.keyboard.press("Space")
            self.take(page, "capture")
            self.live(page, demo)
            browser.close()

    def live(self, page, demo):
        """A hot block that soaks, on simulated meters, in the dark."""
        test = demo.tests.get(key="rise")
        meters, server, recorder = Meters(), Server(), Recorder(say=lambda text: None)
        meters.bench.rig.load_seconds = 60.0
        put_on_line(test.rig, meters, ("load_temperature", "room_temperature", "speed", "throttle"))
        threading.Thread(target=recorder.run, daemon=True).start()
        one = begin(
            User.objects.get(username="runa"),
            test,
            Subject(specimen=demo.entries.get(name="Schwalbe").versions.last().specimens.last()),
        )
        page.context.add_cookies(
            [
                {**c, "url": f"http://127.0.0.1:{server.port}"}
                for c in [{k: c[k] for k in ("name", "value")} for c in page.context.cookies()]
            ]
        )
        page.goto(f"http://127.0.0.1:{server.port}{one.get_absolute_url()}")
        for _ in range(3):
            page.keyboard.press("Enter")
            page.wait_for_timeout(1500)
        page.wait_for_timeout(70_000)
        page.screenshot(path=HERE / "live.png")
        print("docs/screenshots/live.png", flush=True)
        page.goto("about:blank")
        recorder.stop()
        meters.stop()
        server.stop()

    def signed_in(self, browser, scheme):
        user = User.objects.get(username="runa")
        session = SessionStore()
        session[SESSION_KEY], session[HASH_SESSION_KEY] = str(user.pk), user.get_session_auth_hash()
        session[BACKEND_SESSION_KEY] = "django.contrib.auth.backends.ModelBackend"
        session.save()
        context = browser.new_context(
            viewport={"width": 1280, "height": 800}, color_scheme=scheme, reduced_motion="reduce"
        )
        context.add_cookies(
            [{"name": "sessionid", "value": session.session_key, "url": self.live_server_url}]
        )
        return context.new_page()

    def take(self, page, name):
        page.wait_for_load_state("load")
        page.wait_for_timeout(800)  # what pages ask for once they are there
        page.wait_for_selector(".htmx-request", state="detached")
        page.wait_for_selector("[data-chart]:not([data-drawn=yes])", state="detached")
        page.wait_for_selector(".part3d:not([data-ready=yes])", state="detached")
        page.screenshot(path=HERE / f"{name}.png")
        print(f"docs/screenshots/{name}.png", flush=True)


if __name__ == "__main__":
    runner = DiscoverRunner(verbosity=1, interactive=False)
    runner.setup_databases()  # thrown away with its cluster
    raise SystemExit(0 if runner.run_suite(runner.test_suite([Pictures()])).wasSuccessful() else 1)
