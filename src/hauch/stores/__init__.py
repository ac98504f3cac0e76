"""Stores: rigs, instruments and reference specimens."""
