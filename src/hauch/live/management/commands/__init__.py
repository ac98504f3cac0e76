"""Commands of the bench for manage."""
