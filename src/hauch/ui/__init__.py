"""What every page stands on: base templates, tags for figures, marks and charts, form fields,
styles and scripts. Knows no app above it.
"""
