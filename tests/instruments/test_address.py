"""Resource names of meters: instruments, and nothing else that a machine could be made to ask."""

import unittest

from django.test import TestCase, override_settings
from django.urls import reverse

from hauch.instruments.address import problem_of
from hauch.stores.models import Instrument
from tests.builder import PASSWORD, build

FINE = (
    "TCPIP0::192.168.1.20::5025::SOCKET",
    "TCPIP::meter-3.bench.invalid::INSTR",
    "TCPIP0::10.0.0.7::inst0::INSTR",
    "TCPIP0::10.0.0.7::hislip0,4880::INSTR",
    "TCPIP0::10.0.0.7",
    "ASRL/dev/ttyUSB0::INSTR",
    "ASRL/dev/serial/by-id/usb-Vane_7-if00::INSTR",
    "ASRLCOM3::INSTR",
    "ASRL1::INSTR",
    "GPIB0::12::INSTR",
    "USB0::0x1AB1::0x0588::DS1K00005888::INSTR",
)
NONE = (
    "file:///etc/passwd",
    "http://192.168.1.1/",
    "ASRL/etc/passwd::INSTR",
    "ASRL/dev/sda::INSTR",
    "ASRL/dev/../etc/passwd::INSTR",
    "ASRL/dev/ttyUSB0/../../etc/passwd::INSTR",
    "TCPIP0::a b::5025::SOCKET",
    "TCPIP0::10.0.0.7::5025::SOCKET\nX",
    "TCPIP0::10.0.0.7::70000::SOCKET",
    "TCPIP0::10.0.0.7::0::SOCKET",
    "VICP::10.0.0.7::INSTR",
    "x" * 300,
)
HERE = (
    "TCPIP0::127.0.0.1::5432::SOCKET",
    "TCPIP0::127.9.9.9::5432::SOCKET",
    "TCPIP0::localhost::22::SOCKET",
    "TCPIP0::LOCALHOST.::22::SOCKET",
    "TCPIP0::0.0.0.0::22::SOCKET",
    "TCPIP0::[::1]::22::SOCKET",
    "TCPIP0::[::ffff:127.0.0.1]::22::SOCKET",
    "TCPIP0::169.254.169.254::80::SOCKET",
    "TCPIP0::2130706433::22::SOCKET",
    "TCPIP0::127.1::22::SOCKET",
)


class AddressTests(unittest.TestCase):
    def test_instruments(self):
        for resource in FINE:
            with self.subTest(resource):
                self.assertEqual(problem_of(resource, here=False), "")

    def test_what_is_none(self):
        for resource in NONE:
            with self.subTest(resource[:40]):
                self.assertNotEqual(problem_of(resource, here=True), "")

    def test_this_machine_only_where_it_is_allowed(self):
        for resource in HERE:
            with self.subTest(resource):
                self.assertIn("address of this machine", problem_of(resource, here=False))
                self.assertEqual(problem_of(resource, here=True), "")


class PageTests(TestCase):
    def test_it_is_told_at_its_field(self):
        build()
        vane = Instrument.objects.get(channel="air_speed")
        self.client.login(username="host", password=PASSWORD)
        url = reverse("stores:change_instrument", args=[vane.pk])
        data = {
            "name": "Vane",
            "resolution": "0.1",
            "profile": '{"query": "X?", "unit": "m/s"}',
            "resource": "TCPIP0::127.0.0.1::5432::SOCKET",
        }
        with override_settings(LOCAL_METERS=False):
            answer = self.client.post(url, data)
        self.assertContains(answer, "This is an address of this machine", status_code=422)
        vane.refresh_from_db()
        self.assertEqual(vane.resource, "")
        self.assertEqual(self.client.post(url, data).status_code, 302)
