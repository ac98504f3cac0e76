"""Settings: `base` for an installation, `dev` and `test` for those who work on it."""
