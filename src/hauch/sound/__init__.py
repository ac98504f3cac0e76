"""Sound recordings: handed in, matched to runs, analysed, looked at."""
