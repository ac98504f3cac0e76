"""Sound: levels, spectra, tones, loudness, faults of recordings, and one recording held against
another.
"""

VERSION = "2"
"""Of what is told of a recording: raised when a figure or the shape of `analysis.Analysis` changes;
recordings are analysed anew then.
"""
