"""The functions themselves, in the part of Python that numba compiles; Python itself never runs them.

Each module has a function `run` that takes numbers and addresses in an array, and returns a number. What else it writes
it writes to memory that it was given. It reads and writes within what it was given, and raises nothing.
"""
