"""Work for a child process in tests: what files of strangers do to a reader."""

import os
import signal
import socket
import time

import numpy as np

from hauch.formats.apart import Refused


def well(tell, words):
    tell(1)
    tell(2)
    return {"words": words, "folder": os.getcwd()}, {"bytes": b"\x00\xff"}


def crash(tell):
    os.kill(os.getpid(), signal.SIGSEGV)


def crash_with(tell, anything):
    crash(tell)


def deep(tell):
    """Overflow the stack of the machine, as the parser of a nested file does."""
    import ctypes

    callback = ctypes.CFUNCTYPE(ctypes.c_int)
    calls = []

    def again():
        return calls[0]()

    calls.append(callback(again))
    import sys

    sys.setrecursionlimit(10**9)
    calls[0]()


def hungry(tell):
    return {"sum": float(np.ones(200 * 2**20).sum())}, {}


def busy(tell):
    while True:
        pass


def sleepy(tell):
    tell(1)
    time.sleep(60)


def refuses(tell):
    raise Refused("The file is empty.")


def breaks(tell):
    raise ArithmeticError("odd")


def quits(tell):
    os._exit(7)


def holds_files(tell):
    held = [socket.socket() for _ in range(500)]
    return {"held": len(held)}, {}


def lines(tell):
    """The network lines that it sees."""
    return {"lines": [name for _, name in socket.if_nameindex()]}, {}
