"""Django's own commands, run as `python -m hauch.ops.manage`; the environment comes from ./hauch."""

import os
import sys

if (
    __name__ == "__main__"
):  # children that check files import this module too: nothing above costs them time
    from django.core.management import execute_from_command_line

    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "hauch.site.settings.base")
    execute_from_command_line(["hauch", *sys.argv[1:]])
