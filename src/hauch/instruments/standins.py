"""Simulated meters on loopback: each a small server that speaks plain SCPI over TCP, all of one
bench around one virtual rig.

References
----------
SCPI-1999 (command tree, errors, 9.91E37 for no reading); IEEE 488.2-1992, 8.7.9 (definite length
    blocks, ``#`` and a count).
"""

from __future__ import annotations

import asyncio
import math
import socket
import time
from collections.abc import Awaitable, Callable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from hauch.core.rig import Fan
from hauch.core.rig.live import LiveRig, bench_rig

FIRST_PORT = 15_140
PER_BENCH = 20
"""Ports from one bench to the next."""


@dataclass(frozen=True, slots=True)
class Device:
    """One meter: its name, how its readings are asked for, and the channels in the columns of its
    buffer.
    """

    key: str
    name: str
    commands: dict[str, str]
    """Query -> channel."""

    @property
    def columns(self) -> tuple[str, ...]:
        """Channels in the order of the buffer's columns."""
        return tuple(dict.fromkeys(self.commands.values()))


DEVICES: tuple[Device, ...] = (
    Device("anemometer", "ANEMOMETER", {"MEAS:VEL?": "air_speed"}),
    Device(
        "manometer",
        "MANOMETER",
        {
            "MEAS:PRES? (@1)": "static_pressure",
            "MEAS:PRES? (@2)": "orifice_pressure",
            "MEAS:PRES? (@3)": "test_depression",
        },
    ),
    Device("sound", "SOUND LEVEL METER", {"MEAS:SPL?": "sound_level"}),
    Device(
        "thermometer",
        "THERMOMETER",
        {
            "MEAS:TEMP? (@1)": "load_temperature",
            "MEAS:TEMP? (@2)": "room_temperature",
            "MEAS:TEMP? (@3)": "outlet_temperature",
            "MEAS:TEMP? (@4)": "case_temperature",
        },
    ),
    Device(
        "supply",
        "SUPPLY AND POWER METER",
        {"MEAS:VOLT?": "voltage", "MEAS:CURR?": "current", "MEAS:POW?": "power"},
    ),
    Device("tachometer", "TACHOMETER", {"MEAS:RPM? (@1)": "speed", "MEAS:RPM? (@2)": "speed_2"}),
    Device("scale", "SCALE", {"MEAS:MASS?": "scale_mass"}),
    Device("torque", "TORQUE TRANSDUCER", {"MEAS:TORQ?": "torque"}),
    Device("accelerometer", "ACCELEROMETER", {"MEAS:VIB?": "vibration"}),
    Device("motor", "MOTOR CONTROLLER", {"SOUR:THR?": "throttle"}),
)
"""The meters of one bench, in the order of their ports."""


def block(values: np.ndarray, kind: str = "<f8") -> bytes:
    """A definite length block with its terminator."""
    data = np.ascontiguousarray(values, dtype=kind).tobytes()
    count = str(len(data))
    return f"#{len(count)}{count}".encode() + data + b"\n"


class Meter:
    """One meter as a server: reads lines, answers queries, queues errors."""

    def __init__(self, device: Device, rig: LiveRig, bench: int, clock: Callable[[], float]):
        self.device, self.rig, self.bench, self.clock = device, rig, bench, clock
        self.errors: list[str] = []
        self.offline_until = 0.0
        self.writers: set[asyncio.StreamWriter] = set()

    async def serve(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        """Talk to one client until it leaves."""
        line: socket.socket = writer.get_extra_info("socket")
        line.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        self.writers.add(writer)
        try:
            while (text := await reader.readline()) and self.clock() >= self.offline_until:
                if len(text) > 4096:
                    break
                for command in text.decode("ascii", "replace").strip().split(";"):
                    answer = self.answer(command.strip())
                    if answer is not None:
                        writer.write(answer)
                await writer.drain()
        except (ConnectionError, asyncio.LimitOverrunError, ValueError):
            pass
        finally:
            self.writers.discard(writer)
            writer.close()

    def answer(self, command: str) -> bytes | None:
        """Bytes of the answer to a query; None for a command or an empty line."""
        self.rig.advance(self.clock())
        head, _, rest = command.partition(" ")
        upper = command.upper()
        if upper in self.device.commands:
            value = self.rig.now(self.device.commands[upper])
            return (f"{value:.6g}" if math.isfinite(value) else "9.91E37").encode() + b"\n"
        try:
            return self._other(head.upper(), rest)
        except (ValueError, IndexError) as problem:
            self.errors.append(f'-224,"Illegal parameter value; {problem}"')
            return b"\n" if head.endswith("?") else None

    def _other(self, head: str, rest: str) -> bytes | None:  # noqa: PLR0911 one answer for each command
        match head:
            case "*IDN?":
                return f"Hauch,STAND-IN {self.device.name},bench {self.bench},1".encode() + b"\n"
            case "SYST:ERR?":
                return (self.errors.pop(0) if self.errors else '0,"No error"').encode() + b"\n"
            case "*RST" | "*CLS" | "":
                self.errors.clear()
                return None
            case "FETC:BUFF?":
                return self._buffer(int(rest))
            case "SENS:WAV?":
                return self._wave(float(rest))
            case "SOUR:THR" if self.device.key == "motor":
                self.rig.set_throttle(float(rest))
                return None
            case "OUTP" if self.device.key == "motor" and rest.upper() in {"OFF", "0"}:
                self.rig.set_throttle(0.0)
                return None
        if head.startswith("RIG:"):
            return self._rig(head, [part.strip().strip('"') for part in rest.split(",")])
        self.errors.append('-113,"Undefined header"')
        return b"\n" if head.endswith("?") else None

    def _buffer(self, after: int) -> bytes:
        columns = [self.rig.since(channel, after) for channel in self.device.columns]
        first, rows = columns[0][0], np.column_stack([values for _, values in columns])
        head = [self.clock(), self.rig.rate, first, len(columns)]
        return block(np.concatenate((head, rows.ravel())))

    def _wave(self, seconds: float) -> bytes:
        if not 0 < seconds <= 20:
            raise ValueError("a waveform lasts up to 20 s")
        if self.device.key == "sound":
            return block(self.rig.sound(seconds), "<f4")
        if self.device.key == "accelerometer":
            return block(self.rig.acceleration(seconds), "<f4")
        raise ValueError("this meter has no waveform")

    def _rig(self, head: str, parts: Sequence[str]) -> bytes | None:
        """What a hand does at the rig, and faults on request."""
        if head == "RIG:CHANNELS?":
            return ",".join(self.device.columns).encode() + b"\n"
        if head == "RIG:OFFLINE":
            self.offline_until = self.clock() + float(parts[0])
            for writer in self.writers:
                writer.close()
        elif head in HANDS:
            HANDS[head](self.rig, parts)
        else:
            self.errors.append('-113,"Undefined header"')
            return b"\n" if head.endswith("?") else None
        return None


def _battery(rig: LiveRig, parts: Sequence[str]) -> None:
    rig.battery, rig.used = float(parts[0]), 0.0


def _over(rig: LiveRig, parts: Sequence[str]) -> None:
    rig.turned_over, rig.only_upright = parts[0] == "1", len(parts) > 1 and parts[1] == "1"


def _fault(rig: LiveRig, parts: Sequence[str]) -> None:
    rig.fault(parts[0], parts[1].lower(), *(float(p) for p in parts[2:4]))


HANDS: dict[str, Callable[[LiveRig, Sequence[str]], None]] = {
    "RIG:PART": lambda rig, parts: rig.mount(parts[0]),
    "RIG:SUPPLY": lambda rig, parts: setattr(rig, "supply", float(parts[0])),
    "RIG:AIR": lambda rig, parts: setattr(rig, "air_share", float(parts[0])),
    "RIG:DAMPER": lambda rig, parts: setattr(rig, "damper", float(parts[0])),
    "RIG:DRIFT": lambda rig, parts: setattr(rig, "drift_per_hour", float(parts[0])),
    "RIG:NOISE": lambda rig, parts: setattr(rig, "background", float(parts[0])),
    "RIG:RANGE": lambda rig, parts: setattr(rig, "full_scale", float(parts[0])),
    "RIG:BATTERY": _battery,
    "RIG:OVER": _over,
    "RIG:FAULT": _fault,
}
"""What a hand does at the rig, by command."""


class Bench:
    """The meters of one bench on loopback ports."""

    def __init__(
        self,
        number: int = 1,
        rate: float = 50.0,
        first_port: int = FIRST_PORT,
        clock: Callable[[], float] = time.time,
        parts: Mapping[str, Fan] | None = None,
    ):
        self.rig = bench_rig(number, rate)
        self.rig.parts = parts or {}
        self.rig.start(clock())
        self.ports = {
            device.key: first_port + (number - 1) * PER_BENCH + i if first_port else 0
            for i, device in enumerate(DEVICES)
        }
        self.meters = {device.key: Meter(device, self.rig, number, clock) for device in DEVICES}
        self.servers: list[asyncio.Server] = []

    async def start(self) -> None:
        """Open all ports; port 0 becomes a free one."""
        for key, meter in self.meters.items():
            server = await asyncio.start_server(meter.serve, "127.0.0.1", self.ports[key])
            self.ports[key] = server.sockets[0].getsockname()[1]
            self.servers.append(server)

    def resource(self, key: str) -> str:
        """VISA resource name of a meter."""
        return f"TCPIP0::127.0.0.1::{self.ports[key]}::SOCKET"

    async def stop(self) -> None:
        """Close all ports."""
        for server in self.servers:
            server.close()
        for meter in self.meters.values():
            for writer in list(meter.writers):
                writer.close()


async def run(
    count: int,
    rate: float,
    first_port: int,
    say: Callable[[str], None],
    beside: Callable[[list[Bench], Callable[[str], None]], Awaitable[None]] | None = None,
    parts: Mapping[str, Fan] | None = None,
) -> None:
    """Serve the meters of some benches until cancelled, and do what is to be done ``beside``."""
    benches = [Bench(number, rate, first_port, parts=parts) for number in range(1, count + 1)]
    for bench in benches:
        await bench.start()
    for number, bench in enumerate(benches, 1):
        say(f"Bench {number}: " + ", ".join(f"{key} {port}" for key, port in bench.ports.items()))
    say("Simulated meters on 127.0.0.1; Ctrl-C stops them.")
    try:
        if beside is not None:
            await beside(benches, say)
        await asyncio.Event().wait()
    finally:
        for bench in benches:
            await bench.stop()
