"""Files that people hand in: parts, and what is none. Each refusal is a sentence."""

from __future__ import annotations

import io
import unittest
import zipfile
from pathlib import Path

import numpy as np
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st

from hauch.formats import mesh, mesh_in
from hauch.formats.mesh_in import Unreadable, read_part

DATA = Path(__file__).parents[1] / "data" / "parts"
GOOD = (DATA / "rotor_big.stl").read_bytes()


def zipped(**entries: bytes) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as made:
        for name, data in entries.items():
            made.writestr(name, data)
    return out.getvalue()


MODEL = (
    b'<?xml version="1.0"?><model unit="%s"'
    b' xmlns="http://schemas.microsoft.com/3dmanufacturing/core/2015/02"><resources/><build/></model>'
)


class Refused(unittest.TestCase):
    def refused(self, name: str, data: bytes) -> str:
        with self.assertRaises(Unreadable) as caught:
            read_part(name, data)
        return str(caught.exception)

    def test_files_that_are_no_parts(self):
        for name, words in (
            ("zero_bytes.stl", "empty"),
            ("text_renamed.stl", "no STL"),
            ("nan.stl", "5 of 1,160 triangles"),
        ):
            with self.subTest(name):
                self.assertIn(words, self.refused(name, (DATA / name).read_bytes()))

    def test_cut_off(self):
        self.assertIn(
            "announces 11,104 triangles and holds 5,550 whole ones",
            self.refused("a.stl", GOOD[: 84 + 50 * 5550 + 17]),
        )
        text = (
            b"solid x\nfacet normal 0 0 1\nouter loop\nvertex 0 0 0\nvertex 1 0 0\nvertex 0 1"
            b" 0\nendloop\nendfacet\nfacet normal 0 0 1\nouter loop\nvertex 0 0"
        )
        self.assertIn("after 1 whole triangles", self.refused("a.stl", text))

    def test_numbers_that_are_none_in_text(self):
        text = (
            b"solid x\nfacet normal 0 0 1\nouter loop\nvertex 0 0 0\nvertex nan 0 0\nvertex 0 1"
            b" 0\nendloop\nendfacet\nendsolid x"
        )
        self.assertIn("not numbers", self.refused("a.stl", text))
        self.assertIn("no number", self.refused("a.stl", text.replace(b"nan", b"1,5")))

    def test_endings_and_sizes(self):
        self.assertIn("STL, 3MF or STEP", self.refused("part.exe", b"x"))
        self.assertIn("at most", self.refused("a.stl", bytes(mesh_in.MOST_BYTES + 1)))

    def test_traps_in_archives(self):
        self.assertIn(
            "would unpack", self.refused("a.3mf", zipped(**{"3D/3dmodel.model": bytes(80_000_000)}))
        )
        self.assertIn(
            "leads out",
            self.refused(
                "a.3mf",
                zipped(**{"../../etc/passwd": b"x", "3D/3dmodel.model": MODEL % b"millimeter"}),
            ),
        )
        self.assertIn(
            "declares entities",
            self.refused(
                "a.3mf",
                zipped(**{"3D/3dmodel.model": b'<!DOCTYPE a [<!ENTITY b "c">]>' + MODEL % b"inch"}),
            ),
        )
        self.assertIn("no model", self.refused("a.3mf", zipped(**{"x.txt": b"x"})))
        self.assertIn("cannot be unpacked", self.refused("a.3mf", b"PK\x03\x04 nothing"))
        self.assertIn(
            "does not know",
            self.refused("a.3mf", zipped(**{"3D/3dmodel.model": MODEL % b"furlong"})),
        )
        self.assertIn(
            "cannot be read",
            self.refused("a.3mf", zipped(**{"3D/3dmodel.model": MODEL % b"millimeter"})),
        )

    def test_step_without_a_solid(self):
        head = b"ISO-10303-21;\nHEADER;\nFILE_DESCRIPTION((''),'2;1');\nFILE_NAME('','',(''),(''),'','','');\nFILE_SCHEMA(('AUTOMOTIVE_DESIGN'));\nENDSEC;\nDATA;\n"  # noqa: E501
        point = b"#1=CARTESIAN_POINT('',(0.,0.,0.));\nENDSEC;\nEND-ISO-10303-21;\n"
        self.assertRegex(self.refused("a.step", head + point), "nothing (solid|in it)")
        self.assertIn("cut off", self.refused("a.step", (DATA / "ring.step").read_bytes()[:60_000]))
        self.assertIn("no STEP", self.refused("a.step", b"hello"))

    @given(st.binary(max_size=400), st.sampled_from(["a.stl", "a.3mf", "a.step"]))
    @settings(max_examples=120, deadline=None)
    def test_any_bytes_are_a_mesh_or_a_sentence(self, data, name):
        try:
            read_part(name, data)
        except Unreadable as problem:
            self.assertTrue(str(problem).endswith((".", "?")))


class Read(unittest.TestCase):
    def test_binary_that_begins_like_text(self):
        loaded = read_part("a.stl", GOOD)
        self.assertEqual((len(loaded.mesh.faces), loaded.unit), (11104, None))
        self.assertTrue(loaded.mesh.is_watertight)

    def test_text_gives_the_same_mesh(self):
        whole = read_part("a.stl", GOOD).mesh
        again = read_part("b.STL", whole.export(file_type="stl_ascii").encode()).mesh
        self.assertEqual(len(again.faces), len(whole.faces))
        self.assertAlmostEqual(again.volume / whole.volume, 1, delta=1e-6)

    def test_3mf_tells_its_unit(self):
        self.assertEqual(read_part("rotor_ok.3mf", (DATA / "rotor_ok.3mf").read_bytes()).unit, 1.0)

    def test_step_in_fine_facets(self):
        loaded = read_part("ring.step", (DATA / "ring.step").read_bytes())
        self.assertEqual(loaded.unit, 1.0)
        self.assertAlmostEqual(
            loaded.mesh.volume / 67500.7983, 1, delta=0.001
        )  # volume of the exact solid

    def test_what_we_write_we_read(self):
        box = trimesh.creation.box((0.02, 0.03, 0.04))
        for name, data in (("a.stl", mesh.to_stl(box)), ("a.3mf", mesh.to_3mf(box, "box"))):
            self.assertAlmostEqual(read_part(name, data).mesh.volume, 24_000.0, delta=0.01)

    def test_views_of_a_mesh(self):
        whole = read_part("a.stl", GOOD).mesh
        small = mesh.preview(whole, 2000)
        self.assertLessEqual(len(small.faces), 2100)
        np.testing.assert_allclose(small.bounds, whole.bounds, atol=1.0)
        glb = mesh.to_glb(small, {"thickness": np.ones(len(small.vertices))})
        self.assertEqual(glb[:4], b"glTF")
        self.assertIn(b"_thickness", glb)
        self.assertEqual(
            mesh.picture(small, 60, 40, np.ones(len(small.vertices), bool))[:4], b"\x89PNG"
        )

    def test_a_million_triangles_are_drawn_together_first(self):
        ball = trimesh.creation.icosphere(subdivisions=7, radius=50)
        self.assertGreater(len(ball.faces), mesh.ROUGH_FACES)
        self.assertLess(len(mesh.preview(ball).faces), mesh.PREVIEW_FACES + 100)
