"""The rules and the computation of the job; no interface code, no database.

``CORE_VERSION`` goes into every stored result. Raise it whenever a figure could come out
differently.
"""

CORE_VERSION = "11"
