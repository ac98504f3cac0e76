"""Panels: judges give points to samples by blind codes, each on the own device."""
