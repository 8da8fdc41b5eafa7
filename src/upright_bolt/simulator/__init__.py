"""Simulated machines: physics, firmware with its habits, and the kernel's files served from memory.

Nothing above the ports knows that a machine is a twin. Plain Python floats, no arrays: a twin has a dozen
threads, and a step must cost microseconds.
"""
