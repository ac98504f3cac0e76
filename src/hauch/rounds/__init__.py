"""Rounds: the question, the rules and their versions, the tests; export and import of a whole
round.
"""
