"""Copies of the kernel files and registers that this program looks at."""
