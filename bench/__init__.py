"""Speeds, as ratios measured in one run: ``python -m bench``. Never part of the tests: machines differ."""
