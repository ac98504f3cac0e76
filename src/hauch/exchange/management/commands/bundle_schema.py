"""Write the schema of round.json as JSON Schema."""

from __future__ import annotations

import json

from django.core.management.base import BaseCommand

from hauch.exchange.schema import json_schema


class Command(BaseCommand):
    """``manage bundle_schema``: what docs/round.schema.json is made with."""

    help = __doc__
    requires_system_checks: tuple[str, ...] = ()

    def handle(self, *args, **options) -> None:
        self.stdout.write(json.dumps(json_schema(), indent=1, ensure_ascii=False))
