"""Any table of readings comes through, however a logger writes it."""

import unittest
from datetime import UTC, datetime, timedelta

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from hauch.core.quantity.units import from_si
from hauch.formats.logger_csv import inspect, read_log
from hauch.formats.logger_names import guess_mapping

START = datetime(2026, 3, 4, 14, 5, tzinfo=UTC)
TIMES = {
    "iso": ("timestamp", lambda s: (START + timedelta(seconds=s)).isoformat()),
    "local": ("Zeit", lambda s: (START + timedelta(seconds=s)).strftime("%d.%m.%Y %H:%M:%S")),
    "elapsed": ("Elapsed [s]", lambda s: f"{s}"),
}
COLUMNS = {
    "air_speed": [
        ("Luftgeschw. [m/s]", "m/s"),
        ("Air Speed [ft/min]", "ft/min"),
        ("airspeed (km/h)", "km/h"),
    ],
    "static_pressure": [
        ("static_pressure_pa", "pa"),
        ("Static Press [inH2O]", "inH2O"),
        ("stat. Druck [mmH2O]", "mmH2O"),
    ],
    "room_temperature": [("Raumtemp. [°C]", "°C"), ("Room Temp [degF]", "degF")],
    "voltage": [("Spannung [V]", "V"), ("supply volt [mV]", "mV")],
}
ENCODINGS = ["utf-8", "utf-8-sig", "cp1252", "utf-16"]


@st.composite
def tables(draw):
    delimiter = draw(st.sampled_from([",", ";", "\t"]))
    decimal = "." if delimiter == "," else draw(st.sampled_from([".", ","]))
    chosen = draw(st.lists(st.sampled_from(sorted(COLUMNS)), min_size=1, max_size=4, unique=True))
    written = [(key, *draw(st.sampled_from(COLUMNS[key]))) for key in chosen]
    count = draw(st.integers(2, 12))
    values = {
        key: draw(st.lists(st.floats(1.0, 50.0), min_size=count, max_size=count)) for key in chosen
    }
    holes = draw(st.sets(st.tuples(st.integers(0, count - 1), st.sampled_from(chosen)), max_size=3))
    return (
        delimiter,
        decimal,
        written,
        values,
        holes,
        draw(st.sampled_from(sorted(TIMES))),
        draw(st.sampled_from(ENCODINGS)),
        draw(st.booleans()),
    )


class RoundTripTests(unittest.TestCase):
    @settings(max_examples=150, deadline=None)
    @given(tables())
    def test_written_and_read(self, table):
        delimiter, decimal, written, values, holes, clock, encoding, crlf = table
        name, stamp = TIMES[clock]
        lines = [delimiter.join([name, *(header for _, header, _ in written)])]
        count = len(next(iter(values.values())))
        kinds = {
            "air_speed": "air_speed",
            "static_pressure": "pressure",
            "room_temperature": "temperature",
            "voltage": "voltage",
        }
        for row in range(count):
            cells = [stamp(row)]
            for key, _, unit in written:
                text = (
                    ""
                    if (row, key) in holes
                    else f"{from_si(values[key][row], unit, kinds[key]):.9f}".replace(".", decimal)
                )
                cells.append(text)
            lines.append(delimiter.join(cells))
        data = ("\r\n" if crlf else "\n").join(lines).encode(encoding)
        if all((row, key) in holes for key, _, _ in written for row in range(count)):
            return
        found = inspect(data)
        log = read_log(found, guess_mapping(found))
        self.assertEqual(found.delimiter, delimiter)
        self.assertEqual(log.times.tolist(), [float(i) for i in range(count)])
        self.assertEqual(log.lost, len(holes))
        for key, _, _ in written:
            expected = [np.nan if (row, key) in holes else values[key][row] for row in range(count)]
            np.testing.assert_allclose(log.channels[key], expected, rtol=1e-6, atol=1e-6)
