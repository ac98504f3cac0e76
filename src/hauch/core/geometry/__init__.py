"""Geometry: drawings as plain shapes, envelopes and rigs drawn to scale."""
