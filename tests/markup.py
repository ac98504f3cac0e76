"""What is wrong with the HTML of a page."""

from collections import Counter

import html5lib

REFERENCES = ("for", "form", "aria-labelledby", "aria-describedby", "aria-controls")
"""Attributes that name the id of another element of the page."""


def problems(html: str) -> list[str]:
    """Sentences on markup that a browser would have to guess at, on ids that stand twice, and on
    references to ids that are not there (in whole pages).
    """
    whole = "<html" in html
    parser = html5lib.HTMLParser(namespaceHTMLElements=False)
    root = parser.parse(html) if whole else parser.parseFragment(html)
    lines = html.splitlines()
    found = [
        f"{code} {data or ''} in “{lines[line - 1].strip()[:120]}”"
        for (line, _), code, data in parser.errors
    ]
    elements = [element for element in root.iter() if isinstance(element.tag, str)]
    ids = Counter(element.get("id") for element in elements if element.get("id"))
    found += [f"id {name} stands {count} times" for name, count in ids.items() if count > 1]
    if whole:
        found += [
            f"{element.tag} {attribute}={name}: there is no such id"
            for element in elements
            for attribute in REFERENCES
            for name in (element.get(attribute) or "").split()
            if name not in ids
        ]
    return found
