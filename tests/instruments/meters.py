"""Simulated meters in a thread of their own, on free ports, for tests."""

from __future__ import annotations

import asyncio
import threading

from hauch.core.measure.channels import CHANNELS
from hauch.instruments.profile import Profile, presets
from hauch.instruments.standins import DEVICES, Bench
from hauch.stores.models import Instrument, Rig, RigMeter


class Meters:
    """The meters of one bench; ``bench.rig`` is what they read."""

    def __init__(self, number: int = 1, rate: float = 50.0, ports: dict[str, int] | None = None):
        self.loop = asyncio.new_event_loop()
        self.thread = threading.Thread(target=self.loop.run_forever, daemon=True)
        self.thread.start()
        self.bench = Bench(number, rate, 0)
        if ports:
            self.bench.ports = dict(ports)
        self._run(self.bench.start())

    def _run(self, task):
        return asyncio.run_coroutine_threadsafe(task, self.loop).result(5)

    def resource(self, key: str) -> str:
        return self.bench.resource(key)

    def call(self, key: str, command: str) -> None:
        """What a hand does at a meter."""
        self.loop.call_soon_threadsafe(self.bench.meters[key].answer, command)

    def stop(self) -> None:
        self._run(self.bench.stop())
        self.loop.call_soon_threadsafe(self.loop.stop)
        self.thread.join(5)
        self.loop.close()


def profiles_of(device: str) -> dict[str, dict]:
    """Profiles of one simulated meter by channel."""
    return next(
        p
        for name, p in presets().items()
        if name.startswith("stand-in") and set(p) <= set(columns_of(device)) and p
    )


def columns_of(device: str) -> tuple[str, ...]:
    return next(d.columns for d in DEVICES if d.key == device)


def profile_objects(device: str) -> dict[str, Profile]:
    return {channel: Profile.of(data, channel) for channel, data in profiles_of(device).items()}


def put_on_line(rig: Rig, meters: Meters, channels: tuple[str, ...]) -> None:
    """Let channels of a rig be read from simulated meters."""
    for channel in channels:
        device = next(d.key for d in DEVICES if channel in d.columns)
        fields = {"resource": meters.resource(device), "profile": profiles_of(device)[channel]}
        row = rig.meters.filter(channel=channel).first()
        if row is None:
            instrument = Instrument.objects.create(
                name=f"Line {channel} of rig {rig.pk}",
                channel=channel,
                resolution=0.01 if CHANNELS[channel].kind != "rotational_speed" else 1.0,
                **fields,
            )
            RigMeter.objects.create(rig=rig, channel=channel, instrument=instrument)
        else:
            Instrument.objects.filter(pk=row.instrument_id).update(**fields)
