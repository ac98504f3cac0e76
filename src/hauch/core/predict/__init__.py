"""What a part should do, computed from its geometry, each model with its range of validity and its
doubt.
"""
