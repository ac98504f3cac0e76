"""Tags of the verdict."""
