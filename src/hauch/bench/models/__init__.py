"""The models of the bench."""

from hauch.bench.models.live import Live, Observation
from hauch.bench.models.recordings import (
    Chunk,
    LogImport,
    LogMapping,
    Minute,
    Piece,
    Recording,
    SourceFile,
    Waveform,
    trace_choices,
)
from hauch.bench.models.runs import (
    AskedRepeats,
    Exclusion,
    Progress,
    Reading,
    Result,
    Run,
    StoredMark,
    excluded_choices,
)

__all__ = [
    "AskedRepeats",
    "Chunk",
    "Exclusion",
    "Live",
    "LogImport",
    "LogMapping",
    "Minute",
    "Observation",
    "Piece",
    "Progress",
    "Reading",
    "Recording",
    "Result",
    "Run",
    "SourceFile",
    "StoredMark",
    "Waveform",
    "excluded_choices",
    "trace_choices",
]
