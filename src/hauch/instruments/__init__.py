"""Meters: how one is read (a profile, plain data), the line to it through PyVISA, and simulated
stand-ins that speak the same way.
"""
