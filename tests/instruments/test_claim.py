"""What one installation of a machine holds, no other does."""

import unittest
from unittest import mock

from hauch.instruments import claim as claims
from hauch.instruments.claim import Claimed, claim


class ClaimTests(unittest.TestCase):
    def held(self, what, owner=""):
        made = claim(what, owner)
        self.addCleanup(made.close)
        return made

    def test_by_one_installation_and_its_own_processes(self):
        first = self.held("TCPIP0::10.0.0.7::5025::SOCKET", "a")
        self.held(" tcpip0::10.0.0.7::5025::socket", "a")
        self.held("TCPIP0::10.0.0.8::5025::SOCKET", "b")
        with self.assertRaisesRegex(Claimed, "another installation on this machine"):
            claim("TCPIP0::10.0.0.7::5025::SOCKET", "b")
        first.close()

    def test_without_an_owner_by_one_alone_until_it_is_let_go(self):
        first = self.held("port 1")
        with self.assertRaises(Claimed):
            claim("port 1")
        first.close()
        self.held("port 1")

    def test_of_two_at_once_one_holds_it(self):
        """Each looks before the other's claim is there, and sees it after its own."""
        for there, comes, stays in (("b", "a", True), ("a", "b", False)):
            self.held(f"port of {there}", there)
            looks = mock.Mock(side_effect=[set(), {there}])
            with self.subTest(comes), mock.patch.object(claims, "_others", looks):
                if stays:
                    self.held(f"port of {there}", comes)
                    continue
                with self.assertRaises(Claimed):
                    claim(f"port of {there}", comes)
