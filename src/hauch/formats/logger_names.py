"""What a logger's columns probably are: from the unit, which tells most, and from names in English,
German, French, Spanish, Italian and Dutch. A wrong guess is worse than none.
"""

from __future__ import annotations

import re

from hauch.core.measure.channels import CHANNELS
from hauch.core.quantity.units import KINDS
from hauch.formats.logger_table import SECONDS, TIME, Column, Table

TIME_WORDS = (
    "time",
    "zeit",
    "elapsed",
    "date",
    "datum",
    "stamp",
    "clock",
    "uhrzeit",
    "temps",
    "heure",
    "tiempo",
    "hora",
    "fecha",
    "tempo",
    "ora",
    "tijd",
    "horodat",
)
NOT_MEASURED = (
    "luftdruck",
    "baro",
    "air pressure",
    "pression atmosph",
    "presión atmosf",
    "pressione atmosf",
    "humid",
    "feucht",
    "umidità",
    "vocht",
    "battery",
    "akku",
    "batterie",
    "batería",
    "dew",
    "taupunkt",
    "setpoint",
    "soll",
    "target",
    "status",
    "alarm",
    "error",
    "fehler",
    "count",
    "index",
    "fill level",
    "füllstand",
    "factor",
    "weighting",
    "of sound",
    "schallgeschw",
    "tip speed",
    "umfangsgeschw",
    "wheel speed",
)
"""Words of columns that are none of the channels, whatever else their names hold."""
SYMBOLS = {
    "u": ("voltage",),
    "v": ("voltage", "air_speed"),
    "i": ("current",),
    "p": ("power",),
    "n": ("speed",),
    "m": ("torque", "scale_mass"),
    "md": ("torque",),
    "l": ("sound_level",),
    "lp": ("sound_level",),
    "la": ("sound_level",),
    "laeq": ("sound_level",),
    "la eq": ("sound_level",),
}
"""Symbols by which a column may be named, where its unit is of that kind."""
GENERAL = {
    "air_speed": ("speed", "geschw", "vitesse", "velocidad", "velocità", "snelheid", "flow"),
    "speed": (
        "vitesse",
        "velocidad",
        "velocità",
        "snelheid",
        "motor",
        "fan",
        "rotor",
        "ventilator",
    ),
    "sound_level": ("niveau", "nivel", "livello"),
    "static_pressure": ("p", "dp", "delta p"),
    "voltage": ("netzteil", "motor", "fan"),
    "current": ("netzteil", "supply", "voeding", "motor", "fan"),
}
"""Words that name a channel only together with its unit."""
_IN_BRACKETS = re.compile(r"\s*[\[(]([^\])]*(?:\([^)]*\))?)[\])]\s*$")
_AFTER_SLASH = re.compile(r"/\s*\(?([^()]+)\)?\s*$")
_LAST_WORD = re.compile(r"[\s_,;]+([^\s_,;]{2,}|[VAWKCF%])\s*$")
_SPELLINGS = frozenset(s for kind in KINDS.values() for s in kind.spellings if s) | set(SECONDS)


SHORT = {"mms": "mm/s", "ms": "m/s", "mps": "m/s", "fpm": "ft/min", "kmh": "km/h"}
"""Units as they are written where no slash may stand, of speeds of air and vibration."""


def unit_of(name: str) -> str:
    """Unit that a column's name ends with: in brackets, after a slash or as its last word; empty
    where none.
    """
    return _parts(name)[1]


def _parts(name: str) -> tuple[str, str]:
    """Name without its unit, and the unit."""
    for pattern in (_LAST_WORD, _IN_BRACKETS, _AFTER_SLASH):
        found = pattern.search(name)
        if found and found.group(1).strip().casefold() in _SPELLINGS:
            rest, unit = name[: found.start()], found.group(1).strip()
            # "air_speed_ms" is no column of milliseconds.
            if unit.casefold() not in SECONDS or pattern is not _LAST_WORD or _names_time(rest):
                return rest, unit
    found = _IN_BRACKETS.search(name)
    return (name[: found.start()], found.group(1).strip()) if found else (name, "")


def guess_mapping(table: Table) -> list[Column]:
    """What each column probably is, from its name and unit; every channel at most once."""
    columns = [Column() for _ in table.header]
    taken: set[str] = set()
    found: list[tuple[int, int, str]] = []
    for index, name in enumerate(table.header):
        plain, unit = _plain(_parts(name)[0]), table.units[index].casefold().strip()
        if TIME not in taken and _is_time(plain, unit):
            columns[index] = Column(TIME, table.units[index] if unit in SECONDS else "")
            taken.add(TIME)
            continue
        found += [(score, index, key) for key, score in _scores(plain, unit).items()]
    for _score, index, key in sorted(found, key=lambda item: (-item[0], item[1])):
        if key not in taken and not columns[index].channel:
            columns[index] = Column(key, _guess_unit(table, index, key))
            taken.add(key)
    return columns


def _plain(name: str) -> str:
    """Letters and digits of a name, words apart by single spaces."""
    return " ".join(re.findall(r"[^\W_]+", name.casefold()))


def _names_time(name: str) -> bool:
    plain = _plain(name)
    return plain == "t" or any(_holds(plain, word) for word in TIME_WORDS)


def _is_time(plain: str, unit: str) -> bool:
    if unit in SECONDS:
        return _names_time(plain)
    return plain != "t" and unit not in _SPELLINGS and _names_time(plain)


def _holds(plain: str, word: str) -> bool:
    """Whether a name holds a word: long ones within compounds, short ones where a word begins, the
    shortest as a word of their own.
    """
    if len(word) >= 5:
        return word in plain
    if len(word) >= 3:
        return re.search(rf"(^| ){re.escape(word)}", plain) is not None
    return f" {word} " in f" {plain} "


def _scores(plain: str, unit: str) -> dict[str, int]:
    """Channels that a column may be, with how well its name fits; only those of the unit's kind."""
    if plain.endswith((" min", " max")) or any(word in plain for word in NOT_MEASURED):
        return {}
    known = unit in _SPELLINGS
    scores = {}
    for channel in CHANNELS.values():
        if known and unit not in KINDS[channel.kind].spellings:
            continue
        if not known and channel.kind != "time" and _names_time(plain):
            continue
        score = max((len(w) for w in channel.words if _holds(plain, w)), default=0)
        if not score and known and _tells(plain, channel.key):
            score = 1
        if score:
            scores[channel.key] = score
    return scores


def _tells(plain: str, channel: str) -> bool:
    """Whether a symbol or a general word names a channel once the unit is known."""
    return channel in SYMBOLS.get(plain, ()) or any(
        _holds(plain, word) for word in GENERAL.get(channel, ())
    )


def _guess_unit(table: Table, index: int, channel: str) -> str:
    spellings = KINDS[CHANNELS[channel].kind].spellings
    if table.units[index]:
        return table.units[index]
    plain = table.header[index].casefold().strip()
    last = re.split(r"[_\s]", plain)[-1]
    for candidate in (plain, last, SHORT.get(last, "")):
        if candidate in spellings:
            return candidate
    return CHANNELS[channel].unit
