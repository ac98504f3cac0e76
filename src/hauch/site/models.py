"""What the site itself remembers."""

from __future__ import annotations

from django.db import models
from django.utils import timezone

MOST_KEPT = 200


class Trouble(models.Model):
    """A page that ended in an error, for whoever keeps the installation."""

    at = models.DateTimeField(default=timezone.now)
    number = models.CharField(max_length=16, help_text="what its log lines and its page show")
    what = models.CharField(max_length=300, help_text="the error, in one line")
    where = models.CharField(max_length=300, help_text="method and address")
    who = models.CharField(max_length=150, blank=True)

    class Meta:
        ordering = ["-at", "-id"]

    def __str__(self) -> str:
        return f"{self.number} {self.what}"
