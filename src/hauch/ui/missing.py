"""Something that is missing: the sentence, and where it is entered."""

from __future__ import annotations

from typing import NamedTuple

from django.utils.http import urlencode


class Missing(NamedTuple):
    """What is missing, and the link to the place where it is entered; empty where there is none."""

    text: str
    url: str = ""
    words: str = ""

    def back_to(self, here: str) -> Missing:
        """The same with a link that leads back to a page once it is entered."""
        if not self.url:
            return self
        path, hash_, place = self.url.partition("#")
        mark = "&" if "?" in path else "?"
        return self._replace(url=f"{path}{mark}{urlencode({'next': here})}{hash_}{place}")
