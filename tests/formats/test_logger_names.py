"""What columns are guessed to be: a corpus of invented headers, of which none may be guessed
wrongly.
"""

import unittest

from hauch.core.measure.channels import CHANNELS
from hauch.core.quantity.units import to_si
from hauch.formats.logger_csv import inspect
from hauch.formats.logger_names import guess_mapping

CORPUS = (
    # Written down before the words were made,
    ("Time (s)|Wind speed (m/s)|dP (Pa)|Sound pressure level (dB)|Tamb (°C)|Tplate (°C)|RPM",
     "time air_speed static_pressure sound_level room_temperature load_temperature speed"),
    ("Zeit in s|Geschw. m/s|Schalldruck dB(A)|T1 °C|Speisespannung V|Motorstrom A|Umdrehungen 1/min|Drossel %",
     "time air_speed sound_level - voltage current speed throttle"),
    ("Zeitstempel|Anemometer 1 [m/s]|Anemometer 2 [m/s]|Diff.-Druck [Pa]|Lärmpegel|Temp Raum|Netzteil V|Netzteil A",
     "time air_speed - static_pressure sound_level room_temperature voltage current"),
    ("horodatage|débit [m3/h]|vitesse [m/s]|vitesse [tr/min]|niveau [dB(A)]", "time - air_speed speed sound_level"),
    ("tiempo|velocidad [rpm]|velocidad [m/s]|nivel sonoro|temperatura sala|voltaje|empuje [g]",
     "time speed air_speed sound_level room_temperature voltage -"),
    ("tempo|velocità [m/s]|livello sonoro|assorbimento [A]|numero di giri|bilancia [g]",
     "time air_speed sound_level current speed scale_mass"),
    ("tijdstip|snelheid [m/s]|geluidsniveau|kamertemperatuur|voeding V|weegschaal g",
     "time air_speed sound_level room_temperature voltage scale_mass"),
    ("t/s|v/(m/s)|p/Pa|U/V|I/A|n/rpm", "time air_speed static_pressure voltage current speed"),
    ("time|power factor|power setting %|current time|level [cm]|spl weighting", "time - - - - -"),
    # English
    ("Time [s]|Air velocity [m/s]|Static pressure [Pa]|Noise [dB(A)]",
     "time air_speed static_pressure sound_level"),
    ("elapsed_ms|flow speed (ft/min)|rpm|supply_v|supply_a",
     "time air_speed speed voltage current"),
    ("timestamp|plate|ambient|humidity %", "time load_temperature room_temperature -"),
    ("timestamp|plate °C|room °C|dew point °C|battery V", "time load_temperature room_temperature - -"),
    ("t|v|p|n\ns|m/s|W|1/min", "time air_speed power speed"),
    ("t [s]|Torque (mNm)|Tach [rpm]|Status", "time torque speed -"),
    ("Date Time|Barometer [hPa]|SPL dBA|Background dB(A)", "time - sound_level background_level"),
    ("clock|manometer inH2O|orifice dp [Pa]|scale g", "time static_pressure orifice_pressure scale_mass"),
    ("Time|Heater °F|Ambient °F|Setpoint °F", "time load_temperature room_temperature -"),
    ("Time|Vibration mm/s|PWM %|Count", "time vibration throttle -"),
    ("time_s|temp|speed_min|LAeq [dB]", "time - - sound_level"),
    ("Time|Battery voltage [V]|Supply voltage [V]|Target rpm", "time - voltage -"),
    # German
    ("Zeit|Pegel dB(A)|Strömung m/s|Prüfplatte °C|U [V]|I [A]|n [min-1]",
     "time sound_level air_speed load_temperature voltage current speed"),
    ("Zeit [s]|Luftdruck [hPa]|Staudruck [Pa]|Drehmoment [N m]|Leistung [W]",
     "time - pitot_pressure torque power"),
    ("Uhrzeit|Stromstärke A|Spannung V|Raumtemp. °C|Luftfeuchte %",
     "time current voltage room_temperature -"),
    ("Datum|Waage g|Spalt mm|Unterdruck Pa|Solldrehzahl 1/min",
     "time scale_mass gap test_depression -"),
    ("Zeit|Umgebung °C|Heizblock °C|Fremdgeräusch dB(A)",
     "time room_temperature load_temperature background_level"),
    # French
    ("Temps [s]|Vitesse de l'air [m/s]|Pression statique [Pa]|Bruit [dB(A)]|Tension [V]",
     "time air_speed static_pressure sound_level voltage"),
    ("Heure|Courant [A]|Puissance [W]|Température ambiante [°C]|Plaque [°C]|Pression atmosphérique [hPa]",
     "time current power room_temperature load_temperature -"),
    ("temps|Couple [N m]|Vitesse de rotation [rpm]|Poids [g]", "time torque speed scale_mass"),
    # Spanish
    ("Tiempo [s]|Velocidad del aire [m/s]|Presión [Pa]|Ruido [dB(A)]|Tensión [V]|Corriente [A]",
     "time air_speed static_pressure sound_level voltage current"),
    ("Fecha|Potencia [W]|Temperatura ambiente [°C]|Placa [°C]|Humedad [%]|Ruido de fondo [dB(A)]",
     "time power room_temperature load_temperature - background_level"),
    # Italian
    ("Tempo [s]|Velocità aria [m/s]|Pressione [Pa]|Rumore [dB(A)]|Tensione [V]|Corrente [A]|Giri [rpm]",
     "time air_speed static_pressure sound_level voltage current speed"),
    ("ora|Potenza [W]|Ambiente [°C]|Piastra [°C]|Coppia [Nm]|Peso [g]",
     "time power room_temperature load_temperature torque scale_mass"),
    # Dutch
    ("Tijd [s]|Luchtsnelheid [m/s]|Druk [Pa]|Geluid [dB(A)]|Spanning [V]|Stroom [A]|Toerental [rpm]",
     "time air_speed static_pressure sound_level voltage current speed"),
    ("tijd|Vermogen [W]|Omgeving [°C]|Plaat [°C]|Koppel [Nm]|Luchtdruk [hPa]|Luchtvochtigheid [%]",
     "time power room_temperature load_temperature torque - -"),
)  # fmt: skip


def guesses(header: str) -> list[str]:
    lines = header.split("\n")
    table = inspect(";".join(lines[0].split("|")).encode() + b"\n" + b"".join(
        ";".join(line.split("|")).encode() + b"\n" for line in lines[1:]
    ) + (";".join("1" for _ in lines[0].split("|")) + "\n").encode() * 2)  # fmt: skip
    return [column.channel or "-" for column in guess_mapping(table)]


class CorpusTests(unittest.TestCase):
    def test_at_least_95_percent_are_right_and_none_is_wrong(self):
        right = wrong = asked = 0
        missed = []
        for header, truth in CORPUS:
            for name, found, true in zip(
                header.split("\n")[0].split("|"), guesses(header), truth.split(), strict=True
            ):
                asked += 1
                right += found == true
                if found not in (true, "-"):
                    wrong += 1
                if found != true:
                    missed.append((name, found, true))
        self.assertGreaterEqual(asked, 100)
        self.assertEqual(wrong, 0, missed)
        self.assertGreaterEqual(right / asked, 0.95, missed)

    def test_what_is_guessed_can_be_read(self):
        """A guessed unit is one of the channel's kind."""
        for header, _truth in CORPUS:
            names = header.split("\n")[0].split("|")
            table = inspect(
                (";".join(names) + "\n" + ";".join("1" for _ in names) + "\n").encode()
                + (";".join("2" for _ in names) + "\n").encode()
            )
            for name, column in zip(names, guess_mapping(table), strict=True):
                if column.channel and column.channel != "time":
                    with self.subTest(name):
                        to_si(1.0, column.unit, CHANNELS[column.channel].kind)

    def test_the_unit_outweighs_the_word(self):
        """A level is not a current because its unit ends with an A, nor a speed of air one of a rotor."""
        for header, truth in (
            ("t [s]|Pegel dB(A)", ["time", "sound_level"]),
            ("t [s]|Strom m/s", ["time", "-"]),
            ("t [s]|speed [m/s]", ["time", "air_speed"]),
            ("t [s]|tip speed [m/s]", ["time", "-"]),
            ("t [s]|speed [rpm]", ["time", "speed"]),
        ):
            with self.subTest(header):
                self.assertEqual(guesses(header), truth)


class NotMeasuredTests(unittest.TestCase):
    def test_what_is_asked_for_or_counted_is_no_reading(self):
        for name in ("Target rpm", "Sollstrom [A]", "Speed setpoint [rpm]", "Battery voltage [V]",
                     "Luftdruck [hPa]", "Baro [hPa]", "error count", "Fill level [%]"):  # fmt: skip
            with self.subTest(name):
                self.assertEqual(guesses(f"t [s]|{name}"), ["time", "-"])


if __name__ == "__main__":
    unittest.main()


class ShortUnitTests(unittest.TestCase):
    def test_units_without_a_slash(self):
        rows = "".join(f"{t},1,2\n" for t in range(40))
        found = guess_mapping(inspect(f"t_s,vib_mms,air_speed_ms\n{rows}".encode()))
        self.assertEqual(
            [(c.channel, c.unit) for c in found[1:]], [("vibration", "mm/s"), ("air_speed", "m/s")]
        )
