"""Pages that show several apps: home and search, the line, an entry with its evidence, the report,
the care of references, the change of rules.
"""
