"""The air itself: density and the conversion to standard air."""

from hauch.core.air.density import STANDARD_DENSITY, moist_air_density, room_air

__all__ = ["STANDARD_DENSITY", "moist_air_density", "room_air"]
