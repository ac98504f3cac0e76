"""Time series of a run: faults marked, steady windows and settling found."""
