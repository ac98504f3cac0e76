"""What a handed-in mesh is: sound, of which size and mass, fitting, printable, strong. Meshes are
in millimetres, as print files are; figures come out in SI.
"""

MM = 1e-3
"""Metres of a millimetre."""
