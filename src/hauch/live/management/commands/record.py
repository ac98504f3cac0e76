"""Run the recorder: it writes down what the meters show."""

from __future__ import annotations

import signal

from django.core.management.base import BaseCommand

from hauch.live.recorder import Recorder


class Command(BaseCommand):
    """``manage record``, what ``./hauch recorder`` and ``./hauch start`` run."""

    help = __doc__

    def handle(self, *args, **options) -> None:
        recorder = Recorder(say=lambda text: self.stderr.write(f"recorder: {text}"))
        for number in (signal.SIGTERM, signal.SIGINT):
            signal.signal(number, lambda *_: recorder.stop())
        recorder.run()
