"""Django's own commands, run as `python -m hauch.ops.manage`; the environment comes from ./hauch."""

import os
import sys

from django.core.management import execute_from_command_line

if __name__ == "__main__":
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "hauch.web.settings")
    execute_from_command_line(["hauch", *sys.argv[1:]])
