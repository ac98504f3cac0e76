"""The demo: the rounds of the Quellmoos Drying Loft, measured on the virtual bench. Nobody and
nothing in it exists.

Runs go through the same actions as a person's, so that what the demo shows is what the application
does.
"""
