"""Rounds in a row: an overall table, the champion carried on, records per figure."""
