"""Whatever is sent to whatever address: an answer with a sentence, never a server error.

Forms are found on the pages as a browser would find them, filled in as they stand, and sent with a
few fields replaced by what people, programs and attackers send. By default a sample; all of it by

    HAUCH_FUZZ=20000 HAUCH_FUZZ_SEED=1 ./hauch test tests.web.test_fuzz
"""

from __future__ import annotations

import collections
import io
import json
import os
import random
import re
import traceback
import uuid
from contextlib import suppress
from dataclasses import dataclass, field
from http.cookies import SimpleCookie
from pathlib import Path
from urllib.parse import parse_qsl, quote, urlencode, urljoin, urlsplit

import html5lib
from django.core.signals import got_request_exception
from django.db import transaction
from django.test import Client, TestCase
from django.urls import Resolver404, URLPattern, URLResolver, get_resolver, reverse
from django.utils import timezone

from hauch.bench.exclusions import exclude
from hauch.bench.models import Run
from hauch.bench.runs import Subject
from hauch.entries.actions import attach
from hauch.entries.checking import run_check
from hauch.entries.models import PartCheck
from hauch.entries.uploads import begin as begin_upload
from hauch.entries.uploads import path_of
from hauch.live import actions as live
from hauch.panel.actions import open_sitting
from hauch.rounds.invitations import invite
from hauch.rounds.models import Round, Test
from hauch.season import actions as seasons
from hauch.setup.actions import begin as begin_set_up
from hauch.sound.blind import open_listening
from hauch.sound.models import Calibration, Listening
from hauch.stores.models import Instrument, Rig
from hauch.verdict.publishing import keep_publication
from tests.builder import build
from tests.sounds import confirm, hand_in, session_of

DATA = Path(__file__).parents[1] / "data" / "parts"
COUNT = int(os.environ.get("HAUCH_FUZZ", "600"))
SEED = int(os.environ.get("HAUCH_FUZZ_SEED", "1"))

TEXTS = (
    "",
    " ",
    "²",
    "٣",
    "１２",
    "½",
    "1_000",
    "0x10",
    "5e",
    "1e5",
    "1e308",
    "-1e308",
    "1e-320",
    "1e999",
    "nan",
    "inf",
    "-inf",
    "−5",
    "-1",
    "0",
    "-0.0",
    "0,5",
    "1,2,3",
    "1.000,5",
    "12,4 g",
    "3 furlongs",
    "2147483648",
    "9223372036854775808",
    "-9223372036854775809",
    "9" * 40,
    "9" * 5000,
    "0." + "3" * 400,
    "\x00",
    "a\x00b",
    "a\nb\r\nc",
    "\ufeff",
    "\u202e\u0000",
    "\ud83c\udf2c".encode("utf-16", "surrogatepass").decode("utf-16"),
    "%",
    "%s %d %(x)s",
    "{x} {0}",
    "{{ x }} {% y %}",
    "<script>alert(1)</script>",
    "'\"`;--",
    "=cmd()",
    "../../etc/passwd",
    "x" * 300,
    "x" * 70_000,
    "é" * 255,
    "[]",
    "{}",
    "null",
    "[null]",
    '{"a": 1e400}',
    '{"a": NaN}',
    "[" * 3000,
    '{"a":' * 3000,
    "true",
    "2026-02-30",
    "0001-01-01",
    "9999-12-31",
    "9999-12-31T23:59",
    "0001-01-01T00:00",
    "10000-01-01",
    "2026-03-29T02:30",
    "24:00",
    "s0",
    "r99999999999999999999",
    "s²",
    "sx",
    "00000000-0000-0000-0000-000000000000",
    "not-a-uuid",
    "on",
    "no",
)
IN_PATHS = {
    "int": ("0", "1", "2147483648", "9223372036854775808", "9" * 30),
    "slug": ("x", "drying-rack", "a" * 300, "-", "1"),
    "str": ("x", "ä", "a" * 300, "%00", "%2e%2e", "1", "²"),
    "uuid": (str(uuid.UUID(int=0)), "6f0c7a52-6f1b-4d3e-9a4e-140140140141"),
    "path": ("x", "a/b/c", "%00"),
}
FILES = (
    ("x.csv", b""),
    ("x.csv", b"\x00\x01\x02" * 99),
    ("log.csv", b"time,air speed [m/s]\n0,1\n1,nan\n2,1e400\n"),
    ("log.csv", "time;\ufeff²;air\n1;2;3\n".encode("utf-16")),
    ("x" * 300 + ".stl", b"solid x\nendsolid x\n"),
    ("a\x00b.stl", b"solid"),
    ("../../x.png", b"\x89PNG\r\n\x1a\n" + b"\0" * 40),
    ("x.jpg", b"\xff\xd8\xff\xe0" + b"\0" * 100),
    ("x.zip", b"PK\x05\x06" + b"\0" * 18),
    ("x.zip", b"PK\x03\x04" + b"\xff" * 60),
    ("x.json", b"[" * 5000),
    ("x.json", b'{"schema": 12, "rounds": [' + b"{}," * 9 + b"{}]}"),
    ("x.3mf", b"PK\x03\x04"),
    ("x.step", b"ISO-10303-21;" + b"(" * 5000),
    ("x.wav", b"RIFF\xff\xff\xff\xffWAVEfmt "),
)
LEFT_OUT = {"/admin/"}
"""Django's own administration, which only those who keep the installation reach."""


@dataclass
class Form:
    """A form of a page, as a browser would send it."""

    method: str
    url: str
    who: str
    fields: list[tuple[str, str]] = field(default_factory=list)
    files: list[str] = field(default_factory=list)
    choices: dict[str, list[str]] = field(default_factory=dict)
    multipart: bool = False


def forms_of(html: str, page: str, who: str) -> list[Form]:
    """The forms of a page, and one for each htmx request that an element would send."""
    root = html5lib.parse(html, namespaceHTMLElements=False)
    found = []
    for element in root.iter():
        if not isinstance(element.tag, str):
            continue
        for name, method in (("action", ""), ("hx-post", "post"), ("hx-get", "get")):
            if element.tag == "form" if name == "action" else element.get(name):
                url = urljoin(page, element.get(name) or page)
                inside = element if element.tag == "form" else root
                made = Form(method or (element.get("method") or "get").lower(), url, who)
                _fill(made, inside)
                kind = element.get("enctype") or element.get("hx-encoding") or ""
                made.multipart = kind == "multipart/form-data"
                if value := element.get("hx-vals"):
                    made.fields += [(k, str(v)) for k, v in json.loads(value).items()]
                if value := element.get("name"):
                    made.fields.append((value, element.get("value") or ""))
                found.append(made)
        if element.tag == "button" and element.get("formaction"):
            made = Form("post", urljoin(page, element.get("formaction")), who)
            _fill(made, root)
            made.multipart = element.get("formenctype") == "multipart/form-data"
            found.append(made)
        if element.tag == "a" and "?" in (element.get("href") or ""):
            parts = urlsplit(urljoin(page, element.get("href")))
            if not parts.netloc:
                found.append(Form("get", parts.path, who, parse_qsl(parts.query)))
    return found


def _fill(form: Form, inside) -> None:
    for one in inside.iter():
        name = one.get("name")
        if one.tag not in {"input", "textarea", "select", "button"} or not name:
            continue
        if name == "csrfmiddlewaretoken":
            continue
        kind = one.get("type") or ""
        if kind == "file":
            form.files.append(name)
        elif one.tag == "select":
            options = list(one.iter("option"))
            form.choices[name] = [o.get("value") or o.text or "" for o in options]
            chosen = [o.get("value") or "" for o in options if o.get("selected") is not None]
            form.fields.append((name, (chosen or form.choices[name] or [""])[0]))
        elif kind in {"checkbox", "radio"}:
            form.choices.setdefault(name, []).append(one.get("value") or "on")
            if one.get("checked") is not None:
                form.fields.append((name, one.get("value") or "on"))
        else:
            text = "".join(one.itertext()).strip() if one.tag == "textarea" else ""
            form.fields.append((name, one.get("value") or text))


def patterns(resolver: URLResolver | None = None, before: str = "") -> list[tuple[str, dict]]:
    """All addresses as (address with {name} for its parts, converters)."""
    found = []
    for one in (resolver or get_resolver()).url_patterns:
        converters = {k: type(v).__name__ for k, v in one.pattern.converters.items()}
        text = before + str(one.pattern)
        if isinstance(one, URLPattern):
            found.append((text, converters))
        else:
            found += [(t, {**converters, **c}) for t, c in patterns(one, text)]
    return found


def _names() -> set[str]:
    found, left = set(), [(get_resolver(), "")]
    while left:
        resolver, space = left.pop()
        for one in resolver.url_patterns:
            if isinstance(one, URLResolver):
                left.append((one, f"{one.namespace}:" if one.namespace else space))
            elif one.name:
                found.add(space + one.name)
    return found


class FuzzTests(TestCase):
    """Each request is rolled back, so that all meet the same round."""

    @classmethod
    def setUpTestData(cls):
        cls.built = built = build(kinds=("air", "power", "rise"))
        Round.objects.update(state="open")
        solid = attach(
            built.people["designer"],
            built.specimens["Amsel"].version,
            "scoop.stl",
            (DATA / "duct3.stl").read_bytes(),
        )
        designer = built.people["designer"]
        cls.coming = begin_upload(designer, built.specimens["Amsel"].version, "horn.stl", 900)
        Round.objects.update(state="bench")
        for check in PartCheck.objects.all():
            run_check(check.pk)
        built.measure_and_judge()
        air, round = built.tests["air"], built.round
        round.rules.get().questions.create(text="Why?", asked_by=built.host)
        _, cls.secret = invite(built.host, round, "viewer", uses=500)
        cls.set_up = begin_set_up(built.host, "duct")
        meter = air.rig.meters.first().instrument_id
        Instrument.objects.filter(channel="air_speed").update(
            resource="TCPIP0::127.0.0.1::9::SOCKET", profile={"query": "X?", "unit": "m/s"}
        )
        running = live.begin(built.operator, air, Subject(specimen=built.specimens["Binse"]))
        last = Run.objects.exclude(test__key="air").latest("pk")
        exclude(built.host, last, "dust", reading_pk=last.readings.first().pk)
        run = Run.objects.filter(specimen=built.specimens["Amsel"]).first()
        sitting, judge = cls.judged(round)
        keep_publication(round, built.host, timezone.now())
        subject = f"?subject=s{built.specimens['Amsel'].pk}"
        heard, played = cls.heard()
        season = seasons.begin(built.host, "Loft year", None)
        seasons.put_in(built.host, season, round)
        slug, entry = round.slug, built.entries["Amsel"].pk
        cls.begin = [
            "/",
            reverse("people:person"),
            reverse("people:login"),
            reverse("people:forgotten"),
            reverse("people:second_step"),
            reverse("people:second_factor"),
            reverse("people:mail"),
            reverse("search") + "?q=bin",
            reverse("stores:stores"),
            reverse("rounds:begin"),
            reverse("rounds:brief", args=[slug]),
            reverse("rounds:change", args=[slug]),
            reverse("change_rules", args=[slug]),
            reverse("rounds:envelope", args=[slug]),
            reverse("rounds:people", args=[slug]),
            reverse("rounds:audit", args=[slug]),
            reverse("rounds:join", args=[cls.secret]),
            reverse("entries:list", args=[slug]),
            reverse("entries:edit", args=[slug, entry]),
            built.entries["Amsel"].get_absolute_url(),
            reverse("workshop:list", args=[slug]),
            built.specimens["Amsel"].get_absolute_url(),
            reverse("bench:overview", args=[slug]),
            reverse("bench:capture", args=[slug, air.pk]) + subject,
            reverse("bench:capture", args=[slug, built.tests["rise"].pk]) + subject,
            reverse("bench:settings", args=[slug, air.pk]) + subject,
            reverse("bench:form", args=[slug]),
            reverse("bench:soak", args=[slug, air.pk]),
            run.get_absolute_url(),
            last.get_absolute_url(),
            solid.get_absolute_url(),
            running.get_absolute_url(),
            reverse("entries:compare", args=[slug, entry]),
            reverse("verdict:standing", args=[slug]),
            reverse("verdict:what_if", args=[slug]),
            reverse("verdict:settling", args=[slug]),
            reverse("verdict:guesses", args=[slug]),
            reverse("verdict:beside", args=[slug]) + "?at_air=4",
            reverse("verdict:accept", args=[slug, entry]),
            reverse("verdict:design", args=[slug, entry, 1]),
            reverse("rig_scatter", args=[air.rig_id]),
            reverse("round_scatter", args=[slug]),
            reverse("verdict:with_without", args=[slug]),
            reverse("desk:next", args=[entry]),
            reverse("season:seasons"),
            season.get_absolute_url(),
            reverse("published", args=[slug]),
            reverse("panel:begin", args=[slug, sitting.test_id]),
            sitting.get_absolute_url(),
            reverse("panel:judge", args=[judge]),
            reverse("sound:overview", args=[slug]),
            reverse("sound:begin", args=[slug]),
            heard.session.get_absolute_url(),
            heard.get_absolute_url(),
            reverse("sound:listen", args=[slug]),
            reverse("sound:blind", args=[slug]),
            played.get_absolute_url(),
            reverse("sound:take_part", args=[played.secret]),
            reverse("sound:microphone", args=[slug, heard.session_id]),
            reverse("sound:grid", args=[slug, heard.pk]),
            reverse("care", args=[slug]),
            built.reference.get_absolute_url(),
            air.rig.get_absolute_url(),
            reverse("stores:change_rig", args=[air.rig_id]),
            reverse("stores:new_rig") + "?kind=lift",
            reverse("stores:calibrate_rig", args=[air.rig_id, "traverse"]),
            reverse("stores:calibrate_rig", args=[air.rig_id, "blank_plate"]),
            reverse("stores:instrument", args=[meter]),
            reverse("stores:change_instrument", args=[meter]),
            reverse("stores:calibrate", args=[meter]),
            reverse("stores:new_instrument") + "?channel=power",
            reverse("stores:new_reference"),
            reverse("exchange:library"),
            reverse("exchange:import_library"),
            reverse("exchange:import"),
            reverse("setup:begin"),
            cls.set_up.get_absolute_url(),
            reverse("practice:practice"),
            reverse("desk:index"),
            reverse("desk:record"),
            *(reverse("desk:tool", args=[key]) for key in ("rotor", "duct", "intake", "pack")),
        ]

    @classmethod
    def heard(cls):
        """A recording that was analysed, beside one that is not confirmed; and a blind ranking."""
        session = session_of(cls.built, calibration=Calibration.NONE, tone_level=None)
        hand_in(cls.built, session, "stereo.flac")
        rows = [
            confirm(cls.built, hand_in(cls.built, session, name), cls.built.specimens[entry])
            for name, entry in (("whistle.flac", "Amsel"), ("fan.flac", "Binse"))
        ]
        kind, equal = Listening.Kind.RANKING, Listening.Equal.LOUDNESS
        played = open_listening(cls.built.host, cls.built.round, kind, equal, rows)
        return rows[0], played

    @classmethod
    def judged(cls, round):
        """A panel that sits, and the secret of one of its judges."""
        constants = {"places": [2, 0.0], "faces": [2, 0.0], "top": [10, 0.0]}
        rig = Rig.objects.create(name="Score sheets", kind="panel", constants=constants)
        sheets = Instrument.objects.create(name="Sheets", channel="panel_points", resolution=1.0)
        rig.meters.create(channel="panel_points", instrument=sheets)
        looks = Test.objects.create(
            round=round,
            key="looks",
            label="Looks",
            procedure="panel_points",
            rig=rig,
            setting=round.settings.first(),
            order=9,
        )
        samples = [Subject(specimen=s) for s in cls.built.specimens.values()]
        sitting, links = open_sitting(
            cls.built.host, looks, samples, ["Ilse", "Jost"], [("surface", 1)]
        )
        return sitting, next(iter(links.values()))

    def setUp(self):
        self.random = random.Random(SEED)
        self.raised: list[str] = []
        got_request_exception.connect(self._note)
        self.addCleanup(got_request_exception.disconnect, self._note)
        self.clients = {}
        for who in (*self.built.people, ""):
            client = Client(raise_request_exception=False)
            if who:
                client.force_login(
                    self.built.people[who], backend="django.contrib.auth.backends.ModelBackend"
                )
            self.clients[who] = client

    def _note(self, **kwargs):
        self.raised.append(traceback.format_exc(limit=-4))

    def send(self, method, url, who, data, *, files=(), htmx=False, kind="form"):
        """One request, whatever it did undone; its status."""
        headers = {"HX-Request": "true"} if htmx else {}
        client = self.clients[who]
        before = {name: one.value for name, one in client.cookies.items()}
        with transaction.atomic():
            if method == "get":
                query = urlencode(data, errors="surrogatepass")
                parts = urlsplit(url)
                target = f"{parts.path}?{query}" if data else url
                answer = client.get(target, headers=headers)
            elif kind == "body":
                answer = client.post(url, data, content_type="text/plain", headers=headers)
            elif files:
                together = collections.defaultdict(list)
                for name, value in data:
                    together[name].append(value)
                for name, (title, content) in files:
                    handed = io.BytesIO(content)
                    handed.name = title
                    together[name] = handed
                answer = client.post(url, together, headers=headers)
            else:
                answer = client.post(
                    url,
                    urlencode(data, errors="surrogatepass"),
                    content_type="application/x-www-form-urlencoded",
                    headers=headers,
                )
            if hasattr(answer, "streaming_content") and answer.streaming and not answer.is_async:
                for _, _ in zip(range(50), answer.streaming_content, strict=False):
                    pass
            if answer.status_code >= 500 and not self.raised:
                self.raised.append(f"answered {answer.status_code}")
            transaction.set_rollback(True)
        client.cookies = SimpleCookie(before)
        return answer

    def send_piece(self, who):
        """A piece of a file that is coming in, as the page sends it and not."""
        amsel = self.built.entries["Amsel"].pk
        at = [self.built.round.slug, amsel, self.coming.key]
        url = reverse("entries:piece", args=at)
        offset = self.random.choice(("0", "1", "899", "900", *TEXTS))
        with transaction.atomic():
            Round.objects.update(state="open")
            answer = self.clients[who].post(
                url,
                self.random.choice((b"", b"x", b"solid a", b"\x00" * 900, b"x" * 901)),
                content_type=self.random.choice(("application/octet-stream", "text/plain", "x")),
                headers={"Upload-Offset": offset[:200].encode("ascii", "replace").decode()},
            )
            if answer.status_code >= 500 and not self.raised:
                self.raised.append(f"answered {answer.status_code}")
            transaction.set_rollback(True)
        path_of(self.coming).unlink(missing_ok=True)
        return answer

    def changed(self, form: Form) -> list[tuple[str, str]]:
        """What the form would send, with some of it replaced."""
        data = [
            (name, self.random.choice(form.choices[name]))
            if name in form.choices and form.choices[name] and self.random.random() < 0.3
            else (name, value)
            for name, value in form.fields
        ]
        for _ in range(self.random.choice((0, 1, 1, 1, 2, 3, 8))):
            if not data:
                break
            at = self.random.randrange(len(data))
            way = self.random.random()
            if way < 0.85:
                data[at] = (data[at][0], self.random.choice(TEXTS))
            elif way < 0.92:
                data.append((data[at][0], self.random.choice(TEXTS)))
            else:
                del data[at]
        return data

    def changed_link(self, link: str) -> str:
        """An address from a page, with one part of it replaced now and then."""
        parts = link.partition("?")[0].split("/")
        if self.random.random() < 0.3:
            at = self.random.randrange(len(parts))
            parts[at] = quote(self.random.choice(TEXTS)[:200], errors="surrogatepass")
            return "/" + "/".join(parts).strip("/") + "/"
        return link

    def address(self, text: str, converters: dict[str, str]) -> str:
        """An address with parts that may or may not be there."""
        known = {
            "slug": self.built.round.slug,
            "pk": self.random.choice(
                [self.built.tests["air"].pk, 1, self.built.entries["Amsel"].pk]
            ),
        }
        for name, converter in converters.items():
            kind = converter.removesuffix("Converter").lower().replace("string", "str")
            usual = known.get(name)
            value = (
                str(usual)
                if usual is not None and self.random.random() < 0.6
                else self.random.choice(IN_PATHS.get(kind, IN_PATHS["str"]))
            )
            text = text.replace(f"<{kind}:{name}>", value).replace(f"<{name}>", value)
        return "/" + text.replace("^", "").replace("$", "").replace("\\Z", "")

    def test_no_server_error(self):
        forms: list[Form] = []
        links: set[str] = set()
        for page in self.begin:
            for who in ("host", "designer") if "/rounds/" in page else ("host",):
                client = self.clients[who]
                answer = client.get(page)
                if answer.status_code == 200 and "html" in answer["Content-Type"]:
                    html = answer.content.decode()
                    forms += forms_of(html, page, who)
                    links |= {
                        urljoin(page, link)
                        for link in re.findall(r'(?:href|src|hx-get)="([^"#]+)"', html)
                    }
        forms = [
            f for f in forms if not f.url.startswith(tuple(LEFT_OUT)) and "logout" not in f.url
        ]
        self.assertGreater(len(forms), 100)
        known = sorted(
            link
            for link in links
            if link.startswith("/") and not link.startswith(("/static/", *LEFT_OUT))
        )
        self.assertGreater(len(known), 150)
        addresses = [(t, c) for t, c in patterns() if not ("/" + t).startswith(tuple(LEFT_OUT))]
        self.assertGreater(len(addresses), 120)
        troubles: collections.Counter[str] = collections.Counter()
        example: dict[str, str] = {}
        statuses: collections.Counter[int] = collections.Counter()
        reached: collections.Counter[str] = collections.Counter()
        for number in range(COUNT):
            self.raised.clear()
            who = self.random.choice(("host",) * 6 + tuple(self.built.people) + ("",))
            htmx = self.random.random() < 0.3
            if self.random.random() < 0.75:
                form = self.random.choice(forms)
                data, url, method = self.changed(form), form.url, form.method
                files = [
                    (name, self.random.choice(FILES))
                    for name in form.files
                    if self.random.random() < 0.7
                ]
                who = form.who if self.random.random() < 0.8 else who
            else:
                url = (
                    self.changed_link(self.random.choice(known))
                    if self.random.random() < 0.6
                    else self.address(*self.random.choice(addresses))
                )
                method = self.random.choice(("get", "get", "post"))
                data = [
                    (self.random.choice(("q", "page", "subject", "kind", "rules", "x", "then")), t)
                    for t in self.random.sample(TEXTS, self.random.randrange(3))
                ]
                files = []
            if url.startswith("/events/") or "/stream/" in url:
                continue
            if number % 40 == 0:
                answer = self.send_piece("designer" if self.random.random() < 0.8 else who)
            else:
                answer = self.send(method, url, who, data, files=files, htmx=htmx)
            statuses[answer.status_code] += 1
            if answer.status_code not in {403, 404, 405, 414}:
                with suppress(Resolver404):
                    reached[answer.resolver_match.view_name] += 1
            for trouble in self.raised:
                key = " | ".join(
                    line.strip()
                    for line in trouble.strip().splitlines()[-1:] + trouble.splitlines()[-4:-2]
                )[:260]
                troubles[key] += 1
                short = [(k, v if len(v) < 60 else f"{v[:30]}… {len(v)}") for k, v in data]
                example.setdefault(
                    key,
                    f"{number}: {method} {url} as {who or 'nobody'} {short}"
                    f" {[f[1][0] for f in files]}\n{trouble}",
                )
        if os.environ.get("HAUCH_FUZZ"):
            names = {name for name in _names() if not name.startswith("admin:")}
            print(dict(sorted(statuses.items())))
            print(f"{len(names & set(reached))} of {len(names)} addresses answered; not:")
            print(", ".join(sorted(names - set(reached))))
        self.assertEqual(
            dict(troubles),
            {},
            f"{sum(troubles.values())} of {COUNT} requests:\n\n" + "\n\n".join(example.values()),
        )
