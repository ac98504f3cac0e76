"""Commands of the exchange for manage."""
