"""Commands of the exchange."""
