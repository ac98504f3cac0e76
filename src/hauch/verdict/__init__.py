"""Verdict: standings and the reasons behind them."""
