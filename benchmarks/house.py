"""An installation of its own that runs beside a benchmark, and people with browsers in it."""

from __future__ import annotations

import http.cookiejar
import os
import re
import shutil
import signal
import subprocess
import sys
import tempfile
import time
import urllib.error
import urllib.parse
import urllib.request
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

from django.conf import settings
from django.db import DatabaseError, connection

ROOM_FOR_FILES = 250_000_000
"""Bytes of the disk that files are kept on."""
PATIENCE = 240.0


def until(condition: Callable[[], object], what: str, seconds: float = PATIENCE) -> float:
    """Seconds until something holds; a database that is away does not hold."""
    began = time.monotonic()
    while time.monotonic() - began < seconds:
        with suppress(DatabaseError, OSError):
            if condition():
                return time.monotonic() - began
        connection.close()
        time.sleep(0.05)
    raise TimeoutError(f"{what} did not happen within {seconds:.0f} s")


class House:
    """An installation with the demo, on a disk of its own for its files where that may be had."""

    def __init__(self, *, own_clock: bool = False) -> None:
        self.folder = Path(tempfile.mkdtemp(prefix="hauch-faults-"))
        self.folder.chmod(0o711)
        self.disk = self.folder / "disk"
        self.disk.mkdir()
        self.own_disk = _mounted(self.disk)
        away = {"HAUCH_DATABASE_URL", "HAUCH_DATA", "DJANGO_SETTINGS_MODULE", "HAUCH_SECRET_KEY"}
        environment = {k: v for k, v in os.environ.items() if k not in away}
        environment |= {"HAUCH_FILES_URL": f"file://{self.disk}"}
        self.clock = self.folder / "clock"
        if own_clock:
            self.set_clock(0.0)
            environment |= {
                "PYTHONPATH": os.pathsep.join(
                    [str(Path(__file__).parent / "own_clock"), environment.get("PYTHONPATH", "")]
                ),
                "HAUCH_BENCHMARK_CLOCK": str(self.clock),
            }
        self.command = [sys.executable, "-m", "hauch.ops"]
        self.environment = environment
        self.said = (self.folder / "said").open("w")
        self.main = subprocess.Popen(
            [*self.command, "start", "--data", str(self.folder / "data"), "--port", "8970"],
            env=environment,
            stdout=self.said,
            stderr=subprocess.STDOUT,
        )
        self.base = "http://127.0.0.1:8970"
        until(lambda: "Hauch runs at" in (self.folder / "said").read_text(), "the start", 600)
        data = self.folder / "data"
        connection.close()
        self.theirs = dict(connection.settings_dict)
        connection.settings_dict |= {
            "HOST": "127.0.0.1",
            "PORT": (data / "db_port").read_text(),
            "NAME": "hauch",
            "USER": "hauch",
            "PASSWORD": (data / "db_password").read_text().strip(),
        }
        settings.MEDIA_ROOT = self.disk
        self.logins = dict(re.findall(r"(\w+) +(\w{4}-\S+)", (data / "logins").read_text()))

    def processes(self, kind: str) -> list[int]:
        """Those of a kind, the oldest first."""
        listed = subprocess.run(
            ["ps", "-eo", "pid=,ppid=,args="], capture_output=True, text=True, check=True
        )
        rows = [line.split(None, 2) for line in listed.stdout.splitlines()]
        return [int(p) for p, parent, said in rows if int(parent) == self.main.pid and kind in said]

    def kill(self, kind: str) -> None:
        """Kill one of a kind, with all that it has started."""
        os.killpg(self.processes(kind)[0], signal.SIGKILL)

    def kill_database(self) -> None:
        """Kill the server and all of its processes."""
        pid = int((self.folder / "data" / "pg" / "postmaster.pid").read_text().split()[0])
        children = subprocess.run(["pgrep", "-P", str(pid)], capture_output=True, text=True)
        for one in (pid, *map(int, children.stdout.split())):
            with suppress(ProcessLookupError):
                os.kill(one, signal.SIGKILL)

    def healthy(self) -> bool:
        """Whether pages are answered."""
        with urllib.request.urlopen(f"{self.base}/health/", timeout=2) as answer:
            return answer.status == 200

    def set_clock(self, ahead: float) -> None:
        """Set the clock that all but the database go by: seconds before this machine's."""
        coming = self.clock.with_name("clock.coming")
        coming.write_text(f"{ahead:+.0f}\n")
        coming.rename(self.clock)

    def close(self) -> None:
        """End it, and all that it leaves."""
        connection.close()
        connection.settings_dict |= self.theirs
        self.main.send_signal(signal.SIGTERM)
        with suppress(subprocess.TimeoutExpired):
            self.main.wait(30)
        if self.own_disk:
            subprocess.run(["umount", str(self.disk)], check=False)
        shutil.rmtree(self.folder, ignore_errors=True)


def _mounted(folder: Path) -> bool:
    options = f"size={ROOM_FOR_FILES}"
    done = subprocess.run(
        ["mount", "-t", "tmpfs", "-o", options, "tmpfs", str(folder)], capture_output=True
    )
    return done.returncode == 0


class Person:
    """Somebody with a browser, as far as forms go."""

    def __init__(self, house: House, name: str):
        self.house = house
        self.jar = http.cookiejar.CookieJar()
        self.opener = urllib.request.build_opener(urllib.request.HTTPCookieProcessor(self.jar))
        self.get("/person/login/")
        form = {"username": name, "password": house.logins[name]}
        self.post("/person/login/", urllib.parse.urlencode(form).encode())

    def get(self, path: str) -> bytes:
        """A page."""
        with self.opener.open(self.house.base + path, timeout=60) as answer:
            return answer.read()

    def post(
        self, path: str, body: bytes, kind: str = "application/x-www-form-urlencoded"
    ) -> tuple[int, str]:
        """Send a form; status and text of the answer, where it led to."""
        token = next(c.value for c in self.jar if c.name == "csrftoken")
        headers = {"Content-Type": kind, "X-CSRFToken": token, "Referer": self.house.base}
        request = urllib.request.Request(self.house.base + path, body, headers)
        try:
            with self.opener.open(request, timeout=120) as answer:
                return answer.status, answer.read().decode()
        except urllib.error.HTTPError as refused:
            return refused.code, refused.read().decode()

    def send_file(self, path: str, field: str, name: str, data: bytes) -> tuple[int, str]:
        """Send a file with a form."""
        edge = "edge-of-a-part"
        head = f'--{edge}\r\nContent-Disposition: form-data; name="{field}"; filename="{name}"\r\n'
        body = f"{head}\r\n".encode() + data + f"\r\n--{edge}--\r\n".encode()
        return self.post(path, body, f"multipart/form-data; boundary={edge}")
