"""Reading and writing a machine through two small ports; one module per kernel interface.

Each interface module turns what it finds into control drivers, sensor channels and sentences about what is
missing. Nothing here knows whether the files are this computer's, a folder's or a simulation's.
"""
