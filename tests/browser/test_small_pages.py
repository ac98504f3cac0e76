"""Units, finding, signing out, and pages that say no."""

from playwright.sync_api import expect

from hauch.bench.runs import Subject, record_dnf
from tests.browser.base import BrowserTests
from tests.builder import START


class PersonTests(BrowserTests):
    def test_units_change_everywhere_at_once(self):
        page = self.sign_in("host")
        page.goto(self.in_round("verdict/"))
        expect(page.get_by_role("columnheader", name="Air m³/h")).to_be_visible()
        page.get_by_role("link", name="Host", exact=True).click()
        page.get_by_label("Inch: cfm, inH2O, ft/min").check()
        page.get_by_role("button", name="Save").click()
        expect(page.get_by_text("shown in these units from now on")).to_be_visible()
        page.goto(self.in_round("verdict/"))
        expect(page.get_by_role("columnheader", name="Air cfm")).to_be_visible()
        expect(page.locator("#working .big")).to_contain_text("cfm")
        page.goto(
            self.in_round(
                f"bench/tests/{self.built.tests['air'].pk}/?subject=s{self.built.specimens['Amsel'].pk}"
            )
        )
        expect(page.get_by_label("Air speed, ft/min")).to_be_visible()
        page.goto(self.url(f"/stores/rigs/{self.built.tests['air'].rig_id}/"))
        expect(page.get_by_text("4.929 ± 0.008 in")).to_be_visible()

    def test_signing_out_and_back_shows_nothing(self):
        page = self.sign_in_by_hand("host")
        page.goto(self.in_round("verdict/"))
        page.get_by_role("link", name="Host", exact=True).click()
        page.get_by_role("button", name="Sign out").click()
        expect(page.get_by_role("heading", level=1)).to_have_text("Sign in")
        page.goto(self.in_round("verdict/"))
        expect(page.get_by_role("heading", level=1)).to_have_text("Sign in")

    def test_a_wrong_password_says_so_and_keeps_the_name(self):
        page = self.page
        page.goto(self.url("/"))
        page.get_by_label("Username").fill("host")
        page.get_by_label("Password").fill("wrong")
        page.keyboard.press("Enter")
        expect(page.get_by_role("alert")).to_contain_text("do not go together")
        expect(page.get_by_label("Username")).to_have_value("host")


class FindTests(BrowserTests):
    def test_find_by_key(self):
        page = self.sign_in_by_hand("operator")
        page.keyboard.press("/")
        page.keyboard.type("kieb")
        page.keyboard.press("Enter")
        expect(page.get_by_role("heading", level=1)).to_have_text("Found for “kieb”")
        page.get_by_role("main").get_by_role("link", name="Kiebitz").click()
        expect(page.get_by_role("heading", level=1)).to_contain_text("Kiebitz")

    def test_home_leads_to_what_is_next(self):
        record_dnf(
            self.built.operator,
            self.built.tests["air"],
            Subject(specimen=self.built.specimens["Binse"]),
            "rubs",
            START,
        )
        page = self.sign_in_by_hand("operator")
        expect(page.get_by_role("main")).to_contain_text("Amsel leads with")
        page.get_by_role("link", name="Go to the bench").click()
        expect(page.get_by_role("heading", level=1)).to_have_text(
            "All runs that the rules ask for are done"
        )


class RefusedTests(BrowserTests):
    def expect_refusal(self, who, path, words):
        page = self.sign_in(who, self.new_page())
        page.goto(self.url(path))
        expect(page.get_by_role("main")).to_contain_text(words)
        page.get_by_role("main").get_by_role("link", name="Home").click()
        self.assertEqual(page.url, self.url("/"))
        self.troubles[:] = [t for t in self.troubles if "status of 40" not in t]

    def test_pages_that_say_no_in_a_sentence(self):
        self.expect_refusal(
            "viewer",
            "/rounds/drying-rack/bench/",
            "You may not see the bench. Ask the host of the round",
        )
        self.expect_refusal("designer", "/import/", "You may not import a round")
        self.expect_refusal("host", "/rounds/nowhere/verdict/", "There is nothing here")
        self.expect_refusal("stranger", "/rounds/drying-rack/brief/", "There is nothing here")


DECLARATIONS = r"""async (url) => {
  const text = (await (await fetch(url)).text()).replace(/\/\*[^]*?\*\/|@font-face[^}]*\}/g, "");
  const lines = [...text.matchAll(/\{([^{}]*)\}/g)].flatMap((found) => found[1].split(";"));
  const pairs = lines.filter((line) => line.includes(":")).map((line) => {
    const at = line.indexOf(":");
    return [line.slice(0, at).trim(), line.slice(at + 1).replace("!important", "").trim()];
  });
  const plain = pairs.filter(([name]) => !name.startsWith("--"));
  return [plain.length, plain.filter((pair) => !CSS.supports(...pair)).map((pair) => pair.join(": "))];
}"""


class StyleTests(BrowserTests):
    def test_the_browser_knows_every_declaration(self):
        page = self.sign_in("host")
        page.goto(self.url("/"))
        url = page.locator("link[rel=stylesheet][href*=hauch]").first.get_attribute("href")
        count, unknown = page.evaluate(DECLARATIONS, url)
        self.assertGreater(count, 500)
        self.assertEqual(unknown, [])
