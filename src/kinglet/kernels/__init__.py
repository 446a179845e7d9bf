"""Loops over bytes, compiled to machine code, for what the column engine does in many passes.

Each is a function in a file of its own, written in the part of Python that numba compiles. They are optional: without
them the column engine gives the same bytes. What is odd they hand back, and the column engine does it.
"""
