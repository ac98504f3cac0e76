"""Work on files from strangers, in a child process with limits: whatever such a file does to a
reader, only the child dies of it.
"""

from __future__ import annotations

import ctypes
import json
import multiprocessing
import os
import resource
import signal
import tempfile
import time
import traceback
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass
from multiprocessing.connection import Connection
from typing import Any, Protocol

GIB = 2**30
POLL = 0.5
"""Seconds between two looks whether the child lives and whether somebody stopped it."""
MOST_HEAD = 64 * 2**20
MOST_BLOB = GIB
LAST_WORDS = 5.0
"""Seconds that a child has for its end after it said that it is done."""


@dataclass(frozen=True, slots=True)
class Limits:
    """What a child may take: address space [bytes], processor [s], time [s] (for a busy machine, so
    much more), size of a file that it writes [bytes], files that it may hold open.
    """

    memory: int = 6 * GIB
    processor: int = 300
    seconds: float = 1800.0
    written: int = GIB
    files: int = 128


USUAL = Limits()


class Refused(ValueError):
    """What a reader says of a file that it does not take: what, where, and what to do, in a
    sentence.
    """


class Died(Exception):
    """The child did not come to its end; the sentence says of what."""


class Broke(Exception):
    """The work ended in an error that nobody thought of; the text is the child's traceback."""


class Stopped(Exception):
    """Somebody stopped the work."""


Made = tuple[dict[str, Any], dict[str, bytes]]
"""What work gives back: plain values, and bytes by name. Nothing of it is ever unpickled."""


class Work(Protocol):
    """A function of a module: gets a way to tell how far it is, and its arguments."""

    def __call__(self, tell: Callable[[int], None], *arguments: Any) -> Made: ...


def preload(*modules: str) -> None:
    """Modules that children find imported; said once, where the work stands."""
    context = multiprocessing.get_context("forkserver")
    known = [*_preloaded, *(m for m in modules if m not in _preloaded)]
    _preloaded[:] = known
    context.set_forkserver_preload(known)


_preloaded: list[str] = []


def apart(work: Work, *arguments: Any, tell: Callable[[int], bool], limits: Limits = USUAL) -> Made:
    """Do work in a child process.

    Parameters
    ----------
    work : a function that a child can import; its arguments must be picklable
    tell : called with the number of the stage, when it changes and about every `POLL` seconds;
        False stops the child
    limits : of the child

    Raises
    ------
    Refused : as the work says it, for a file that it does not take
    Died : a crash, or a limit that was met
    Broke : another error in the work
    Stopped : when ``tell`` gave False

    Notes
    -----
    Children are forked from a server that holds the modules of `preload` and nothing else: no
    connection to the database, no secrets but the environment's.
    """
    context = multiprocessing.get_context("forkserver")
    ours, theirs = context.Pipe(duplex=False)
    with tempfile.TemporaryDirectory(prefix="hauch-apart-") as folder, ours:
        child = _begun(context, (theirs, folder, limits, work, arguments))
        theirs.close()
        try:
            return _listen(ours, child, tell, limits)
        finally:
            if child.is_alive():
                child.kill()
            child.join()
            child.close()


FORKS_AGAIN, WAITS = 5, 0.1
"""So often a child is asked for anew, after so long [s], where the server that forks had died."""


def _begun(context: Any, told: tuple[Any, ...]) -> Any:
    """A child that runs. That the server that forks had died is not the file's fault; it is made
    anew.
    """
    for left in range(FORKS_AGAIN, -1, -1):
        child = context.Process(target=_child, args=told, daemon=True)
        try:
            child.start()
        except (ConnectionError, EOFError):
            if not left:
                raise
            time.sleep(WAITS)
        else:
            return child
    raise AssertionError("the last turn returns or raises")


def _listen(ours: Connection, child: Any, tell: Callable[[int], bool], limits: Limits) -> Made:
    end, stage = time.monotonic() + limits.seconds, 0
    while True:
        if not tell(stage):
            raise Stopped
        if time.monotonic() > end:
            raise Died(f"it was not done after {limits.seconds / 60:.0f} minutes")
        if not ours.poll(POLL):
            continue
        try:
            head = json.loads(ours.recv_bytes(MOST_HEAD))
            if "stage" in head:
                stage = int(head["stage"])
                continue
            if "refused" in head:
                raise Refused(str(head["refused"]))
            if "died" in head:
                raise Died(str(head["died"]))
            if "broke" in head:
                raise Broke(str(head["broke"]))
            return head["made"], {str(name): ours.recv_bytes(MOST_BLOB) for name in head["blobs"]}
        except EOFError:
            child.join(LAST_WORDS)
            raise Died(_of_what(child.exitcode, limits)) from None


def _of_what(code: int | None, limits: Limits) -> str:
    """What a child died of, in words."""
    if code == -signal.SIGXCPU:
        return f"it took more than {limits.processor} seconds of the processor"
    if code is not None and code < 0:
        with suppress(ValueError):
            return f"it broke the program that reads it ({signal.Signals(-code).name})"
    return f"the program that reads it ended (exit {code})"


NEW_USER, NEW_NETWORK = 0x10000000, 0x40000000
"""Flags of unshare(2): CLONE_NEWUSER, CLONE_NEWNET."""


def _without_network() -> bool:
    """Leave the network, into one where nothing is, as far as the system lets people do that."""
    unshare = getattr(ctypes.CDLL(None), "unshare", None)
    return unshare is not None and unshare(NEW_USER | NEW_NETWORK) == 0


def _child(
    theirs: Connection, folder: str, limits: Limits, work: Work, arguments: tuple[Any, ...]
) -> None:
    """The child's whole life."""
    for kind, most in (
        (resource.RLIMIT_AS, limits.memory),
        (resource.RLIMIT_CPU, limits.processor),
        (resource.RLIMIT_FSIZE, limits.written),
        (resource.RLIMIT_NOFILE, limits.files),
        (resource.RLIMIT_CORE, 0),
    ):
        hard = (
            most + 5 if kind == resource.RLIMIT_CPU else most
        )  # the soft limit's signal says what it was
        resource.setrlimit(kind, (most, hard))
    _without_network()
    os.chdir(folder)
    tempfile.tempdir = folder
    signal.signal(signal.SIGINT, signal.SIG_IGN)

    def say(head: dict[str, Any]) -> None:
        theirs.send_bytes(json.dumps(head).encode())

    try:
        made, blobs = work(lambda stage: say({"stage": stage}), *arguments)
        say({"made": made, "blobs": list(blobs)})
        for blob in blobs.values():
            theirs.send_bytes(blob)
    except Refused as problem:
        say({"refused": str(problem)})
    except MemoryError:
        say({"died": f"it takes more than the {limits.memory / GIB:.0f} GB of memory that it may"})
    except Exception:  # told to the parent, which logs it
        say({"broke": traceback.format_exc(limit=-20)})
    finally:
        theirs.close()
