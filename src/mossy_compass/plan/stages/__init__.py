"""What each stage compiles to, one small module for stages that belong together.

A module here turns a device's tables into a function over facts, and gives nothing where the stage cannot do anything at
an interface, so that silent stages cost nothing. It decides; what follows from a decision is done by an executor.
"""
