"""Templates, their tags and their static files keep the order of the imports: a room builds only on
rooms below it.
"""

import re
import tomllib
import unittest
from pathlib import Path

HOME = Path(__file__).parents[2]
SOURCE = HOME / "src" / "hauch"
NAMED = re.compile(r"""\{%\s*(?:extends|include|static)\s+['"]([^'"]+)['"]""")
RENDERED = re.compile(r"""["']([a-z_]+/[a-z_]+\.html)["']""")


def floors():
    """Room -> floor, the lowest 0, as the import contract has them."""
    contracts = tomllib.loads((HOME / "pyproject.toml").read_text())["tool"]["importlinter"][
        "contracts"
    ]
    layers = next(c["layers"] for c in contracts if c["name"] == "Imports run one way")
    return {
        room.strip().removeprefix("hauch."): floor
        for floor, row in enumerate(reversed(layers))
        for room in row.split("|")
    }


class TemplateOrderTests(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.floors = floors()
        cls.rooms = {}
        for path in SOURCE.glob("*/templates/**/*.html"):
            room = path.relative_to(SOURCE).parts[0]
            cls.rooms[str(path.relative_to(SOURCE / room / "templates"))] = room
        for path in SOURCE.glob("*/static/**/*"):
            if path.is_file():
                room = path.relative_to(SOURCE).parts[0]
                cls.rooms[str(path.relative_to(SOURCE / room / "static"))] = room

    def above(self, pattern, files):
        for path in files:
            own = path.relative_to(SOURCE).parts[0]
            for name in pattern.findall(path.read_text()):
                if name in self.rooms and self.floors[self.rooms[name]] > self.floors[own]:
                    yield f"{path.relative_to(SOURCE)} takes {name} from {self.rooms[name]}"

    def test_no_template_builds_on_a_room_above_it(self):
        files = sorted(SOURCE.glob("*/templates/**/*.html"))
        self.assertGreater(len(files), 60)
        self.assertEqual(list(self.above(NAMED, files)), [])

    def test_no_view_renders_a_template_of_a_room_above_it(self):
        self.assertEqual(list(self.above(RENDERED, sorted(SOURCE.glob("*/*.py")))), [])

    def test_every_template_that_is_named_is_there(self):
        named = {
            name
            for path in SOURCE.glob("*/templates/**/*.html")
            for name in NAMED.findall(path.read_text())
        }
        self.assertEqual(sorted(named - set(self.rooms)), [])
