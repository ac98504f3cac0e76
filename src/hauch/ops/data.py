"""The data folder: cluster, files and secrets of one installation."""

from __future__ import annotations

import fcntl
import os
import secrets
from pathlib import Path
from typing import IO

from hauch.ops.cluster import Cluster
from hauch.ops.errors import CannotGoOn

SETTINGS = "hauch.site.settings.base"


def default_folder() -> Path:
    """Where data lives unless --data says otherwise."""
    if os.getuid() == 0:
        return Path("/var/lib/hauch")
    return Path(os.environ.get("XDG_DATA_HOME") or Path.home() / ".local" / "share") / "hauch"


class DataFolder:
    """One installation's folder. Secrets in it are readable by their owner only."""

    def __init__(self, path: Path | None = None):
        self.path = (path or default_folder()).resolve()
        try:
            self.path.mkdir(parents=True, exist_ok=True)
            # The database's own user must pass through; what is inside is closed one by one.
            self.path.chmod(0o711 if os.getuid() == 0 else 0o700)
            (self.path / "files").mkdir(exist_ok=True, mode=0o700)
        except OSError as problem:
            raise CannotGoOn(
                f"The data folder {self.path} cannot be written: {problem.strerror}. Choose another"
                " with --data."
            ) from problem

    def secret(self, name: str, length: int = 32) -> str:
        """A secret of this installation, made on first use."""
        file = self.path / name
        if not file.exists():
            descriptor = os.open(file, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
            with os.fdopen(descriptor, "w") as handle:
                handle.write(secrets.token_urlsafe(length))
        return file.read_text().strip()

    def lock(self) -> IO[str]:
        """Hold the folder for one running Hauch."""
        handle = (self.path / "lock").open("a+")
        try:
            fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError as problem:
            raise CannotGoOn(
                f"Hauch runs already with the data in {self.path}. Stop it first, or choose another"
                " folder with --data."
            ) from problem
        return handle

    def cluster(self) -> Cluster:
        """The installation's cluster; prefers the port that it had before."""
        port = self.path / "db_port"
        return Cluster(
            self.path / "pg",
            self.secret("db_password"),
            port=int(port.read_text()) if port.exists() else 0,
            archive=self.archive,
        )

    @property
    def archive_switch(self) -> Path:
        """The file that names the archive; it stays with the data, so that no start forgets it."""
        return self.path / "archive"

    @property
    def archive(self) -> Path | None:
        """Where the installation's log is handed over to; None where it has no archive."""
        switch = self.archive_switch
        return Path(switch.read_text()) if switch.exists() else None

    def standins_at(self) -> int:
        """First port of the simulated meters that this installation's meters are."""
        from hauch.instruments.standins import FIRST_PORT  # it loads half the core

        told = self.path / "standins_port"
        return int(told.read_text()) if told.exists() else FIRST_PORT

    def put_standins(self, port: int) -> None:
        """Remember where its simulated meters are from now on."""
        (self.path / "standins_port").write_text(str(port))

    def environment(self, cluster: Cluster) -> dict[str, str]:
        """What Django's settings read."""
        (self.path / "db_port").write_text(str(cluster.port))
        return {
            **cluster.environment(),
            "HAUCH_DATA": str(self.path),
            "HAUCH_SECRET_KEY": self.secret("secret_key", 48),
            "DJANGO_SETTINGS_MODULE": SETTINGS,
        }
