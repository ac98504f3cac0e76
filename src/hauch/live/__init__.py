"""Live: a bench that is being recorded, from mounting to its results."""
