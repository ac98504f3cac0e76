"""What spinning does to a print: stress of blades, hub and wheel, what the print holds, how fast it
may turn at most. The same for the Desk's figures and for meshes that were handed in.
"""
