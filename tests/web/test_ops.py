"""The ground under the application: ports, secrets, the supervisor."""

import os
import pickle
import re
import socket
import stat
import subprocess
import sys
import tempfile
import time
import traceback
import unittest
from pathlib import Path
from unittest import mock

from hauch.ops.__main__ import DEVELOPMENT, parser
from hauch.ops.cluster import free_port
from hauch.ops.data import DataFolder
from hauch.ops.errors import CannotGoOn
from hauch.ops.meters import standins
from hauch.ops.start import Supervisor, place_standins, ports_of_our_own, wait_until_healthy
from hauch.ops.testrunner import RemoteTimed


class PortTests(unittest.TestCase):
    def test_a_port_in_use_is_left_alone(self):
        with socket.socket() as other:
            other.bind(("127.0.0.1", 0))
            other.listen()
            taken = other.getsockname()[1]
            self.assertNotEqual(free_port(taken), taken)

    def test_a_free_port_is_taken_as_wished(self):
        wished = free_port()
        self.assertEqual(free_port(wished), wished)

    def test_two_starts_at_once_take_different_ports(self):
        first, held = ports_of_our_own(25_140, 10, 100)
        self.addCleanup(held.close)
        second, also = ports_of_our_own(25_140, 10, 100)
        self.addCleanup(also.close)
        self.assertNotEqual(first, second)
        with socket.socket() as other:
            taken = second + 100
            other.bind(("127.0.0.1", taken + 7))
            other.listen()
            third, last = ports_of_our_own(taken, 10, 100)
            last.close()
        self.assertNotEqual(third, taken)

    def test_an_installation_keeps_its_simulated_meters_to_itself(self):
        with tempfile.TemporaryDirectory() as name:
            data = DataFolder(Path(name))
            with mock.patch("hauch.demo.stores.move_standins") as moved:
                port, held = place_standins(data)
                with mock.patch("hauch.ops.start.say"):
                    other, also = place_standins(DataFolder(Path(name)))
                held.close()
                also.close()
        self.assertNotEqual(port, other)
        self.assertEqual(moved.call_args.args, (port, other))


class PackagesTests(unittest.TestCase):
    def test_every_development_command_gets_the_development_packages(self):
        """A benchmark stopped on a fresh machine: it drives a browser, and the browser's driver was
        not installed.
        """
        script = (Path(__file__).parents[2] / "hauch").read_text()
        commands = re.search(r"case \$command in ([\w |]+)\) lock=dev", script).group(1)
        self.assertEqual(set(commands.split(" | ")), DEVELOPMENT)


class DataFolderTests(unittest.TestCase):
    def setUp(self):
        self.folder = Path(tempfile.mkdtemp())

    def test_secrets_are_made_once_and_closed(self):
        data = DataFolder(self.folder / "new")
        self.assertEqual(data.secret("key"), data.secret("key"))
        self.assertEqual(stat.S_IMODE(os.stat(data.path / "key").st_mode), 0o600)
        self.assertNotEqual(DataFolder(self.folder / "other").secret("key"), data.secret("key"))

    def test_two_at_once_are_refused(self):
        data = DataFolder(self.folder)
        with data.lock(), self.assertRaisesRegex(CannotGoOn, "runs already"):
            DataFolder(self.folder).lock()

    def test_a_folder_that_cannot_be_made(self):
        (self.folder / "file").write_text("")
        with self.assertRaisesRegex(CannotGoOn, "Choose another with --data"):
            DataFolder(self.folder / "file" / "below")


class SupervisorTests(unittest.TestCase):
    """With small stand-ins for web server and worker."""

    def supervise(self, code, name="worker"):
        supervisor = Supervisor([], {})
        supervisor.commands = {name: [sys.executable, "-c", code]}
        supervisor.restarts, supervisor.started = {name: 0}, {name: 0.0}
        supervisor.start(name)
        self.addCleanup(supervisor.stop)
        return supervisor

    def wait_for(self, condition):
        deadline = time.monotonic() + 60
        while not condition():
            self.assertLess(time.monotonic(), deadline)
            time.sleep(0.05)

    def test_a_killed_child_is_started_again_and_its_orphans_end(self):
        note = Path(tempfile.mkdtemp()) / "pid"
        code = (
            "import subprocess, time, sys; p = subprocess.Popen(['sleep', '60']);"
            f" open({str(note)!r}, 'w').write(str(p.pid)); time.sleep(60)"
        )
        supervisor = self.supervise(code)
        self.wait_for(lambda: note.exists() and note.read_text())
        orphan, first = int(note.read_text()), supervisor.children["worker"].pid
        supervisor.children["worker"].kill()
        self.wait_for(lambda: supervisor.children["worker"].poll() is not None)
        supervisor.check()
        self.assertNotEqual(supervisor.children["worker"].pid, first)
        self.wait_for(
            lambda: (
                not Path(f"/proc/{orphan}").exists()
                or "Z" in Path(f"/proc/{orphan}/stat").read_text().split(")")[1][:3]
            )
        )

    def test_a_child_that_keeps_dying_waits_longer_each_time_and_takes_nothing_else_away(self):
        supervisor = self.supervise("raise SystemExit(3)")
        supervisor.commands["web server"] = [sys.executable, "-c", "import time; time.sleep(60)"]
        supervisor.restarts["web server"] = 0
        supervisor.start("web server")
        now, waits = [1000.0], []
        supervisor.clock = lambda: now[0]
        supervisor.started["worker"] = now[0]
        with mock.patch("hauch.ops.start.say"):
            for _ in range(10):
                supervisor.children["worker"].wait(10)
                supervisor.check()
                waits.append(supervisor.due.get("worker", now[0]) - now[0])
                now[0] += waits[-1]
                supervisor.check()
        self.assertEqual(waits, [0, 0, 2, 4, 8, 16, 32, 60, 60, 60])
        self.assertIsNone(supervisor.children["web server"].poll())

    def test_one_that_lived_long_is_started_again_at_once(self):
        supervisor = self.supervise("raise SystemExit(3)")
        supervisor.restarts["worker"] = 9
        supervisor.children["worker"].wait(10)
        supervisor.started["worker"] = time.monotonic() - 100
        with mock.patch("hauch.ops.start.say"):
            supervisor.check()
        self.assertEqual((supervisor.restarts["worker"], supervisor.due), (1, {}))

    def test_a_web_server_that_never_answers_ends_the_start(self):
        supervisor = self.supervise("raise SystemExit(3)", "web server")
        with (
            mock.patch("hauch.ops.start.say"),
            mock.patch("hauch.ops.start.wait_after", return_value=0.0),
            self.assertRaisesRegex(CannotGoOn, "keeps stopping before it answers"),
        ):
            wait_until_healthy(free_port(), supervisor, [])

    def test_a_start_that_is_stopped_waits_no_longer(self):
        supervisor = self.supervise("import time; time.sleep(60)", "web server")
        wait_until_healthy(free_port(), supervisor, [True])

    def test_stop_ends_a_child_that_does_not_listen(self):
        supervisor = self.supervise(
            "import signal, time; signal.signal(signal.SIGTERM, signal.SIG_IGN); time.sleep(60)"
        )
        time.sleep(0.5)
        supervisor.stop()
        self.assertIsNotNone(supervisor.children["worker"].returncode)


class CommandLineTests(unittest.TestCase):
    def test_options_and_unknown_commands(self):
        options = parser().parse_args(["start", "--no-demo", "--port", "9000", "--data", "/tmp/x"])
        self.assertEqual(
            (options.no_demo, options.port, options.data), (True, 9000, Path("/tmp/x"))
        )
        done = subprocess.run(
            [sys.executable, "-m", "hauch.ops", "dance"], capture_output=True, text=True
        )
        self.assertEqual(done.returncode, 2)
        self.assertIn("invalid choice: 'dance'", done.stderr)

    def test_what_is_no_port(self):
        for port in ("99999", "0", "-1", "x", "²", "7" * 5000):
            with self.subTest(port[:9]), mock.patch("sys.stderr") as said:
                with self.assertRaises(SystemExit):
                    parser().parse_args(["start", "--port", port])
                text = "".join(call.args[0] for call in said.write.call_args_list)
                self.assertIn("is no port; one lies between 1 and 65535", text)

    def test_simulated_meters_say_what_cannot_be(self):
        for arguments in (
            ["--benches", "0"],
            ["--first-port", "80"],
            ["--benches", "50", "--first-port", "65000"],
            ["--rate", "0"],
        ):
            with (
                self.subTest(arguments),
                self.assertRaisesRegex(CannotGoOn, "Take 1 to 50 benches"),
            ):
                standins(parser().parse_args(["standins", *arguments]))
        with socket.socket() as taken:
            taken.bind(("127.0.0.1", 0))
            taken.listen()
            with self.assertRaisesRegex(CannotGoOn, "is in use"):
                standins(
                    parser().parse_args(["standins", "--first-port", str(taken.getsockname()[1])])
                )

    def test_maintenance_without_an_installation_says_what_to_do(self):
        folder = tempfile.mkdtemp()
        around = {name: value for name, value in os.environ.items() if name != "HAUCH_DATABASE_URL"}
        done = subprocess.run(
            [sys.executable, "-m", "hauch.ops", "recompute", "--data", folder],
            capture_output=True,
            text=True,
            env=around,
        )
        self.assertEqual(done.returncode, 1)
        self.assertIn("Run ./hauch start first", done.stderr)


class ResultTests(unittest.TestCase):
    def test_a_part_that_failed_goes_from_one_process_to_another(self):
        """Whatever the test holds by then, such as a browser; the whole run ended over it."""

        class One(unittest.TestCase):
            def test(self):
                with self.subTest("the third"):
                    self.assertEqual(1, 2)

        one, result = One("test"), RemoteTimed()
        one.browser = lambda: None  # does not go from one process to another
        result.testsRun = 0
        one.run(result)
        kinds = [event[0] for event in result.events]
        self.assertEqual(kinds.count("addFailure"), 1)
        [failure] = [event for event in result.events if event[0] == "addFailure"]
        error = pickle.loads(pickle.dumps(failure))[2]
        self.assertIn("the third", "".join(traceback.format_exception(*error)))
