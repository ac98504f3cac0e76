"""From readings to comparable quantities: meters, procedures and their formulas."""
